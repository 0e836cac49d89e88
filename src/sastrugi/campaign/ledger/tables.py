"""What a ledger keeps of a trial (docs/formats/ledger.md): columns to list and to plot by, and the whole of it."""

from __future__ import annotations

from sqlalchemy import JSON, Boolean, Column, Float, Index, Integer, LargeBinary, MetaData, String, Table

metadata = MetaData()

trials = Table(
    "trials",
    metadata,
    Column("id", String(32), primary_key=True),
    Column("began", String(32), nullable=False),
    Column("specimen", String(80), nullable=False),
    Column("identity", String(64), nullable=False),
    Column("file_systems", String(120), nullable=False),
    Column("losses", String(120), nullable=False),
    Column("engine", String(80), nullable=False),
    Column("engine_version", String(80), nullable=False),
    Column("by_hand", Boolean, nullable=False),
    Column("outcome", String(24), nullable=False),
    Column("campaign", String(80), nullable=False),
    Column("cell", String(200), nullable=False),
    Column("files", Integer, nullable=False),
    Column("intact", Float, nullable=False),
    Column("attainable", Float, nullable=False),
    Column("complete", Float, nullable=False),
    Column("named", Float, nullable=False),
    Column("all_three", Float, nullable=False),
    Column("named_of", Integer, nullable=False),
    Column("noise", Integer, nullable=False),
    Column("results", Integer, nullable=False),
    Column("seconds", Float),
    Column("cpu", Float),
    Column("memory", Float),
    Column("record", JSON, nullable=False),
    Index("trials_by_engine", "engine", "specimen", "began"),
    Index("trials_by_time", "began"),
)
"""Figures are numbers of files; `files` those that have content, `named_of` all; times in ISO 8601, UTC."""

scorecards = Table(
    "scorecards",
    metadata,
    Column("trial", String(32), primary_key=True),
    Column("scorecard", LargeBinary, nullable=False),
)
"""The scorecard of each trial: its JSON, in a frame of Zstandard."""
