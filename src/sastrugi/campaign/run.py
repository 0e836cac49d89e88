"""A campaign, carried out: what is missing is done, what stands is left, and every trial goes into the ledger."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from sastrugi.campaign.ledger import Ledger
from sastrugi.campaign.local import Limits, run_here
from sastrugi.campaign.matrix import Campaign, Cell, GateTable
from sastrugi.campaign.record import SCORECARD_FILE, Trial, read_trial, scorecard_of
from sastrugi.campaign.specimens import SpecimenStore
from sastrugi.campaign.work import Done, Task
from sastrugi.errors import EngineError, LedgerError, SastrugiError, system_words
from sastrugi.progress import Progress
from sastrugi.safety import remove_tree, write_text
from sastrugi.scoring.floors import missed, parse_floors
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.texts import parse_json, read_text, require_whole_characters
from sastrugi.units import parse_share

CAMPAIGN_FILE, CELLS, SPECIMENS = "campaign.json", "cells", "specimens"
_FORMAT, _VERSION = "sastrugi-campaign", 1
_LARGEST = 256 << 20
_KEY = r"^[0-9a-f]{16}$"
_SAVE = 1.0
"""Seconds between two saves of the list of cells."""


Count = Annotated[int, Field(ge=0, le=1 << 53)]
Amount = Annotated[float, Field(ge=0, le=1 << 53)]


class CellFigures(BaseModel):
    """The headline of a cell, in numbers of files (of those with content; of all, for names) and of results."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    files: Count
    intact: Amount
    attainable: Amount
    named_of: Count
    named: Amount
    noise: Count
    results: Count

    @classmethod
    def of(cls, card: Scorecard) -> CellFigures:
        intact, named = card.intact, card.named
        return cls(
            files=intact.of_set, intact=intact.value, attainable=intact.of_ceiling, named_of=named.of_set,
            named=named.value, noise=card.classes.get("noise", 0), results=card.counted_results,
        )  # fmt: skip


@dataclass(slots=True)
class CellState:
    """One cell as it stands: its trial and headline, or why there is none; and what it missed of the gate."""

    key: str
    label: str
    specimen: str
    parameters: dict[str, str]
    engine: str
    repeat: int
    trial: Trial | None = None
    figures: CellFigures | None = None
    problem: str = ""
    below_the_gate: tuple[str, ...] = ()


@dataclass(slots=True)
class CampaignState:
    """A campaign's folder, read: its cells in the order of the campaign."""

    folder: Path
    name: str
    title: str
    engines: list[str]
    cells: list[CellState] = field(default_factory=list)

    def scorecards(self, engine: str = "") -> Iterator[tuple[CellState, Scorecard]]:
        """The scorecards of the cells that have one, of one engine or of all."""
        for cell in self.cells:
            if cell.trial is not None and engine in ("", cell.engine):
                yield cell, scorecard_of(self.folder / CELLS / cell.key)

    @property
    def ended(self) -> int:
        return sum(cell.trial is not None for cell in self.cells)


def run_campaign(
    campaign: Campaign,
    folder: Path,
    progress: Progress,
    ledger: Ledger | None = None,
    jobs: int | None = None,
    cluster: str = "",
) -> CampaignState:
    """Carry out the cells that are not there yet, here or on a Dask cluster. Nothing that ended is done again or lost,
    however this ends. Raises EngineError, DestinationError, Interrupted."""
    gate = Gate(campaign)
    try:
        (folder / CELLS).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise EngineError(f"{folder}: cannot be used for the campaign: {system_words(error)}") from error
    if (folder / CAMPAIGN_FILE).is_file() and _read_list(folder)["name"] != campaign.text.name:
        raise EngineError(f"{folder}: holds the campaign {_read_list(folder)['name']}: name another folder")
    book = _Book(campaign, folder, gate)
    book.save(now=True)
    kept = campaign.text.keep_results
    tasks = [
        Task(cell, campaign.text.name, campaign.text.files_of, kept) for cell in campaign.cells if not book.stands(cell)
    ]
    todo = {task.cell.key for task in tasks}
    for cell in campaign.cells:
        if cell.key not in todo:
            book.standing(cell.key, ledger)

    def tell(done: Done) -> None:
        if done.problem:
            book.problems[done.key] = done.problem
        else:
            book.problems.pop(done.key, None)
            book.ended(done.key, ledger)
        book.save()

    try:
        if tasks and cluster:
            from sastrugi.campaign.cluster import run_on_cluster

            run_on_cluster(cluster, tasks, folder / CELLS, progress, tell)
        elif tasks:
            text = campaign.text.limits
            limits = Limits(
                jobs or text.jobs or os.cpu_count() or 1, text.memory, text.disk, campaign.text.keep_specimens
            )
            run_here(tasks, SpecimenStore(folder / SPECIMENS), folder / CELLS, limits, progress, tell)
    finally:
        book.save(now=True)
    if book.ledger_problem:
        raise LedgerError(
            f"{book.ledger_problem}; all trials stand in {folder}: run it again, and what is missing is added"
        )
    return read_campaign(folder)


class Gate:
    """The floors of a campaign; those that cannot be read are refused before anything is done. Where nothing could come
    back any more (a negative control) they say nothing: there the gate is that nothing does, so that one text holds for
    all recipes."""

    def __init__(self, campaign: Campaign) -> None:
        self._parts = [_PartOfGate(text) for text in campaign.text.gate]

    def missed(self, trial: Trial, card: Scorecard) -> list[str]:
        """What a trial falls short of, in words."""
        told = (line for part in self._parts for line in part.missed(trial, card))
        return list(dict.fromkeys(told))


class _PartOfGate:
    """Floors for some of the engines, or for all."""

    def __init__(self, text: GateTable) -> None:
        self._engines = text.engines
        self._floors, self._ceiling_floors = parse_floors(text.floor), parse_floors(text.ceiling_floor)
        self._most_noise = None if text.max_noise is None else parse_share(text.max_noise)

    def missed(self, trial: Trial, card: Scorecard) -> list[str]:
        if self._engines and trial.engine.name not in self._engines:
            return []
        if not (self._floors or self._ceiling_floors or self._most_noise is not None):
            return []
        ended = [] if trial.ended_well else [f"the engine ended with: {trial.outcome}"]
        if not card.complete.of_ceiling:
            told = f"nothing could come back, and {card.invented:,} results are no file"
            return ended + ([told] if card.invented else [])
        return ended + missed(card, self._floors, self._ceiling_floors, self._most_noise)


class _Book:
    """The list of cells, as it is kept in the campaign's folder."""

    def __init__(self, campaign: Campaign, folder: Path, gate: Gate) -> None:
        self._campaign, self._folder, self._gate = campaign, folder, gate
        self.problems: dict[str, str] = {}
        self.ledger_problem = ""
        self._below: dict[str, list[str]] = {}
        self._figures: dict[str, CellFigures] = {}
        self._told = [part.model_dump(mode="json") for part in campaign.text.gate]
        self._known: set[str] | None = None
        self._saved = 0.0
        if (folder / CAMPAIGN_FILE).is_file():
            self._take_over(_read_list(folder))

    def _take_over(self, document: dict[str, Any]) -> None:
        """What an earlier run wrote of cells: they need not be read again, unless the gate is another one."""
        with suppress(KeyError, TypeError, AttributeError, ValidationError):
            for row in document["cells"] if document.get("gate") == self._told else ():
                if row.get("figures"):
                    self._figures[row["key"]] = CellFigures(**row["figures"])
                    self._below[row["key"]] = list(row["below_the_gate"])

    def stands(self, cell: Cell) -> bool:
        """Whether a cell's trial is there and can be read."""
        at = self._folder / CELLS / cell.key
        try:
            return (at / SCORECARD_FILE).is_file() and bool(read_trial(at).id)
        except SastrugiError:
            with suppress(OSError):
                remove_tree(at)
            return False

    def standing(self, key: str, ledger: Ledger | None) -> None:
        """A cell of an earlier run: it is read if its headline is not known, or if the ledger has it not."""
        if ledger is not None and self._known is None:
            self._known = ledger.numbers()
        kept = ledger is None or read_trial(self._folder / CELLS / key).id in (self._known or ())
        if key not in self._figures or not kept:
            self.ended(key, ledger)

    def ended(self, key: str, ledger: Ledger | None) -> None:
        """A cell has ended. A ledger that cannot be written stops no other cell: the trial stands in its folder."""
        at = self._folder / CELLS / key
        trial, card = read_trial(at), scorecard_of(at)
        self._figures[key], self._below[key] = CellFigures.of(card), self._gate.missed(trial, card)
        if ledger is not None:
            try:
                ledger.add(trial, card, at)
            except LedgerError as error:
                self.ledger_problem = str(error)

    def save(self, now: bool = False) -> None:
        if not now and time.monotonic() - self._saved < _SAVE:
            return
        self._saved = time.monotonic()
        cells = [
            {
                "key": cell.key, "label": cell.label, "specimen": cell.wanted.label,
                "parameters": dict(cell.wanted.parameters), "engine": cell.engine.name, "repeat": cell.repeat,
                "problem": self.problems.get(cell.key, ""), "below_the_gate": self._below.get(cell.key, []),
                "figures": self._figures[cell.key].model_dump() if cell.key in self._figures else None,
            }
            for cell in self._campaign.cells
        ]  # fmt: skip
        document = {
            "format": _FORMAT, "version": _VERSION, "name": self._campaign.text.name,
            "title": self._campaign.text.title, "engines": [engine.name for engine in self._campaign.engines],
            "gate": self._told, "cells": cells,
        }  # fmt: skip
        write_text(self._folder / CAMPAIGN_FILE, json.dumps(document, ensure_ascii=False, indent=1) + "\n")


def _read_list(folder: Path) -> dict[str, Any]:
    path = folder / CAMPAIGN_FILE
    try:
        document = parse_json(read_text(path, _LARGEST))
        require_whole_characters(document)
    except OSError as error:
        raise EngineError(
            f"{folder}: holds no campaign ({CAMPAIGN_FILE}): make one with 'sastrugi campaign run'"
        ) from error
    except ValueError as error:
        raise EngineError(f"{path}: cannot be used: {error}") from error
    if not isinstance(document, dict) or document.get("format") != _FORMAT or document.get("version") != _VERSION:
        raise EngineError(f"{path}: is no list of cells that this program reads: run the campaign again")
    return document


class _Row(BaseModel):
    model_config = ConfigDict(extra="ignore")
    key: Annotated[str, Field(pattern=_KEY)]
    label: str
    specimen: str
    parameters: dict[str, str]
    engine: str
    repeat: int
    problem: str
    below_the_gate: tuple[str, ...]
    figures: CellFigures | None = None


class _List(BaseModel):
    """The list of cells, as it is read."""

    model_config = ConfigDict(extra="ignore")
    name: str
    title: str
    engines: list[str]
    cells: list[_Row]


def read_campaign(folder: Path) -> CampaignState:
    """A campaign's folder as it stands, also while the campaign runs. Raises EngineError."""
    try:
        listed = _List.model_validate(_read_list(folder))
    except (ValidationError, RecursionError, OverflowError) as error:
        raise EngineError(f"{folder / CAMPAIGN_FILE}: is damaged: run the campaign again") from error
    state = CampaignState(folder, listed.name, listed.title, listed.engines)
    for row in listed.cells:
        cell = CellState(
            row.key, row.label, row.specimen, row.parameters, row.engine, row.repeat, problem=row.problem,
            below_the_gate=row.below_the_gate,
        )  # fmt: skip
        at = folder / CELLS / cell.key
        if (at / SCORECARD_FILE).is_file():
            cell.trial = read_trial(at)
            # Of one that ended a moment ago the list does not tell yet.
            cell.figures = row.figures or CellFigures.of(scorecard_of(at))
        state.cells.append(cell)
    return state
