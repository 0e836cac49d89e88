"""What a ledger keeps of a trial (docs/formats/ledger.md): columns to list and to plot by, and the whole of it."""

from __future__ import annotations

from sqlalchemy import JSON, BigInteger, Boolean, Column, Float, Index, Integer, LargeBinary, MetaData, String, Table

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
    Column("seed", BigInteger, nullable=False),
    Column("parameters", String(300), nullable=False),
    Column("replaces", String(32), nullable=False),
    Column("folder", String(1000), nullable=False),
    Column("number", Integer, nullable=False),
    Column("record_digest", String(64), nullable=False),
    Column("scorecard_digest", String(64), nullable=False),
    Column("before", String(64), nullable=False),
    Column("link", String(64), nullable=False),
    Index("trials_in_order", "number", unique=True),
    Index("trials_by_engine", "engine", "specimen", "began"),
    Index("trials_by_time", "began"),
)
"""Figures are numbers of files; `files` those that have content, `named_of` all; times in ISO 8601, UTC. `number`
counts the trials as they came; `link` is the digest of number, record, scorecard and `before`, which is the link of
the trial before."""

scorecards = Table(
    "scorecards",
    metadata,
    Column("trial", String(32), primary_key=True),
    Column("scorecard", LargeBinary, nullable=False),
)
"""The scorecard of each trial: its JSON, in a frame of Zstandard."""

chain = Table(
    "chain",
    metadata,
    Column("only", Integer, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("link", String(64), nullable=False),
)
"""One row: how many trials there are, and the link of the last."""
