"""Trials and their scorecards."""

import sqlalchemy as sa
from alembic import op

revision, down_revision = "0001", None


def upgrade() -> None:
    op.create_table(
        "trials",
        sa.Column("id", sa.String(32), primary_key=True),
        *(sa.Column(name, sa.String(length), nullable=False) for name, length in (
            ("began", 32), ("specimen", 80), ("identity", 64), ("file_systems", 120), ("losses", 120), ("engine", 80),
            ("engine_version", 80))),
        sa.Column("by_hand", sa.Boolean, nullable=False),
        *(sa.Column(name, sa.String(length), nullable=False) for name, length in (
            ("outcome", 24), ("campaign", 80), ("cell", 200))),
        sa.Column("files", sa.Integer, nullable=False),
        *(sa.Column(name, sa.Float, nullable=False) for name in (
            "intact", "attainable", "complete", "named", "all_three")),
        *(sa.Column(name, sa.Integer, nullable=False) for name in ("named_of", "noise", "results")),
        *(sa.Column(name, sa.Float) for name in ("seconds", "cpu", "memory")),
        sa.Column("record", sa.JSON, nullable=False),
    )  # fmt: skip
    op.create_index("trials_by_engine", "trials", ["engine", "specimen", "began"])
    op.create_index("trials_by_time", "trials", ["began"])
    op.create_table(
        "scorecards",
        sa.Column("trial", sa.String(32), primary_key=True),
        sa.Column("scorecard", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("scorecards")
    op.drop_table("trials")
