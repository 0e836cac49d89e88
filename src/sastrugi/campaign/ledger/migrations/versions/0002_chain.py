"""Seeds, parameters, corrections, and the chain of digests; trials that are there are linked in the order of their
time."""

import json

import sqlalchemy as sa
import zstandard
from alembic import op

revision, down_revision = "0002", "0001"

_TEXTS = (("parameters", 300), ("replaces", 32), ("folder", 1000), ("record_digest", 64), ("scorecard_digest", 64),
          ("before", 64), ("link", 64))  # fmt: skip


def upgrade() -> None:
    op.add_column("trials", sa.Column("seed", sa.BigInteger, nullable=False, server_default="0"))
    op.add_column("trials", sa.Column("number", sa.Integer, nullable=False, server_default="0"))
    for name, length in _TEXTS:
        op.add_column("trials", sa.Column(name, sa.String(length), nullable=False, server_default=""))
    op.create_table(
        "chain",
        sa.Column("only", sa.Integer, primary_key=True),
        sa.Column("count", sa.Integer, nullable=False),
        sa.Column("link", sa.String(64), nullable=False),
    )
    count, link = _link_all(op.get_bind())
    op.get_bind().execute(sa.text("INSERT INTO chain VALUES (1, :count, :link)"), {"count": count, "link": link})
    op.create_index("trials_in_order", "trials", ["number"], unique=True)


def _link_all(connection: sa.Connection) -> tuple[int, str]:
    from sastrugi.campaign.ledger.chain import NO_LINK, link_of
    from sastrugi.campaign.record import parse_trial
    from sastrugi.campaign.record_digests import document_digest

    trials = sa.table("trials", sa.column("id"), sa.column("began"), sa.column("record", sa.JSON))
    cards = sa.table("scorecards", sa.column("trial"), sa.column("scorecard"))
    number, link = 0, NO_LINK
    for id_, record in connection.execute(sa.select(trials.c.id, trials.c.record).order_by("began", "id")).all():
        packed = connection.execute(sa.select(cards.c.scorecard).where(cards.c.trial == id_)).scalar_one()
        trial = parse_trial(record, id_)
        number += 1
        document = json.loads(zstandard.ZstdDecompressor().decompress(bytes(packed)))
        digests = document_digest(record), document_digest(document)
        values = {"number": number, "before": link, "record_digest": digests[0], "scorecard_digest": digests[1]}
        link = link_of(number, link, *digests)
        values |= {"link": link, "seed": trial.specimen.seed, "id": id_}
        values["parameters"] = " ".join(f"{k}={v}" for k, v in trial.specimen.parameters.items())[:300]
        names = ", ".join(f"{name} = :{name}" for name in values if name != "id")
        connection.execute(sa.text(f"UPDATE trials SET {names} WHERE id = :id"), values)
    return number, link


def downgrade() -> None:
    op.drop_index("trials_in_order", "trials")
    op.drop_table("chain")
    for name, _ in (*_TEXTS, ("seed", 0), ("number", 0)):
        op.drop_column("trials", name)
