"""Trials of a ledger for other programs."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.report.csv_cells import csv_of

if TYPE_CHECKING:
    from sastrugi.campaign.ledger import LedgerRow
    from sastrugi.campaign.record import Trial
    from sastrugi.scoring.scorecard import Scorecard

FORMATS = (".csv", ".json", ".parquet", ".jsonl")


def export_rows(rows: Sequence[LedgerRow], suffix: str) -> bytes:
    """A row a trial."""
    import pandas as pd

    from sastrugi.campaign.ledger import LedgerRow

    if suffix == ".json":
        return (json.dumps([asdict(row) for row in rows], ensure_ascii=False, indent=1) + "\n").encode()
    frame = pd.DataFrame([asdict(row) for row in rows], columns=list(LedgerRow.__dataclass_fields__))
    if suffix == ".csv":
        return csv_of(frame).encode("utf-8", "replace")
    buffer = io.BytesIO()
    frame.to_parquet(buffer, index=False)
    return buffer.getvalue()


def export_whole(target: Path, trials: Iterable[tuple[Trial, Scorecard]]) -> None:
    """A line of JSON a trial, with its scorecard."""
    with target.open("w", encoding="utf-8", errors="backslashreplace") as file:
        for trial, card in trials:
            document = {**trial.model_dump(mode="json"), "scorecard": card.model_dump(mode="json", by_alias=True)}
            file.write(json.dumps(document, ensure_ascii=False) + "\n")
