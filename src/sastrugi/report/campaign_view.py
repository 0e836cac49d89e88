"""A campaign on a terminal: the matrix, a ranking, and what went wrong."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.text import Text

from sastrugi.report.style import FAINT, GREEN, ORANGE, SKY, VERMILION, shorten_end, table
from sastrugi.scoring.scorecard import METHOD
from sastrugi.scoring.significance import share_over_specimens
from sastrugi.units import format_seconds, format_size, percent, printable, span_of_shares

if TYPE_CHECKING:
    from sastrugi.campaign.run import CampaignState, CellState

_MOST_ROWS = 60
_WELL, _HALF = 0.95, 0.5
_WORST_FIRST = ("nothing", "partly", "done")


@dataclass(slots=True)
class Tally:
    """The cells of one engine, or of one engine on one specimen, together: numbers of files, and what they took."""

    cells: int = 0
    files: int = 0
    intact: float = 0.0
    attainable: float = 0.0
    named_of: int = 0
    named: float = 0.0
    noise: int = 0
    results: int = 0
    seconds: float = 0.0
    memory: int = 0
    badly: int = 0
    specimens: list[tuple[float, float]] = field(default_factory=list)
    """Of an engine on several specimens: intact and attainable files of each."""

    def add(self, cell: CellState) -> None:
        """One more cell that has ended."""
        assert cell.trial is not None and cell.figures is not None
        self.cells += 1
        for name in type(cell.figures).model_fields:
            setattr(self, name, getattr(self, name) + getattr(cell.figures, name))
        self.seconds += cell.trial.measures.seconds or 0.0
        self.memory = max(self.memory, cell.trial.measures.memory or 0)
        self.badly += not cell.trial.ended_well

    @property
    def share(self) -> float | None:
        """Intact files out of the ceiling: what could come back is the same for all engines."""
        return self.intact / self.attainable if self.attainable else None

    @property
    def interval(self) -> tuple[float, float] | None:
        """The 95 % interval of that share: over specimens where there are several, else over files."""
        each = self.specimens or [(self.intact, self.attainable)]
        return share_over_specimens([min(one) for one in each], [of for _, of in each])


def tallies(state: CampaignState) -> dict[tuple[str, str], Tally]:
    """By specimen and engine; repeats together."""
    out: defaultdict[tuple[str, str], Tally] = defaultdict(Tally)
    for cell in state.cells:
        if cell.trial is not None:
            out[cell.specimen, cell.engine].add(cell)
    return dict(out)


def by_engine(found: dict[tuple[str, str], Tally]) -> dict[str, Tally]:
    out: defaultdict[str, Tally] = defaultdict(Tally)
    for (_, engine), one in found.items():
        total = out[engine]
        for name in Tally.__dataclass_fields__:
            if name not in ("memory", "specimens"):
                setattr(total, name, getattr(total, name) + getattr(one, name))
        total.specimens.append((one.intact / one.cells, one.attainable / one.cells))
        total.memory = max(total.memory, one.memory)
    return dict(sorted(out.items(), key=lambda item: -(item[1].share or 0.0)))


Tallies = dict[tuple[str, str], Tally]


def matrix_view(state: CampaignState, found: Tallies) -> RenderableType:
    """Intact files out of the ceiling, specimen by engine."""
    out = table(keys=("Specimen",))
    out.add_column("Specimen", overflow="fold")
    for engine in state.engines:
        out.add_column(printable(engine), justify="right", no_wrap=True)
    rows = list(dict.fromkeys(cell.specimen for cell in state.cells))
    waiting = {(cell.specimen, cell.engine): cell for cell in state.cells if cell.trial is None}
    for specimen in rows[:_MOST_ROWS]:
        cells = [_cell_text(found.get((specimen, engine)), waiting.get((specimen, engine))) for engine in state.engines]
        out.add_row(Text(shorten_end(specimen, 38)), *cells)
    head = Text(f"{state.title or state.name}: {state.ended:,} of {len(state.cells):,} cells", style="bold")
    legend = Text(
        "intact files out of those that could come back; –: nothing could; …: not done yet; !: ended badly", FAINT
    )
    more = (
        [Text(f"{len(rows) - _MOST_ROWS:,} more specimens (--json has all)", FAINT)] if len(rows) > _MOST_ROWS else []
    )
    return Group(head, out, *more, legend)


def _cell_text(one: Tally | None, waiting: CellState | None) -> Text:
    if one is None:
        return Text(
            "not built" if waiting is not None and waiting.problem else "…",
            style=VERMILION if waiting and waiting.problem else FAINT,
        )
    share = one.share
    if share is None:
        told, style = "–", FAINT
    else:
        told = f"{one.intact:,.0f} of {one.attainable:,.0f} {percent(share):>7}"
        style = GREEN if share >= _WELL else ORANGE if share >= _HALF else VERMILION
    return Text(told + (" !" if one.badly else ""), style=style)


def ranking_table(found: Tallies) -> RenderableType:
    """The engines, the best first, with the interval of what they brought back."""
    out = table(gives_way=("Memory", "Noise", "Names"), keys=("Engine",))
    for name in ("Engine", "Cells", "Intact of ceiling", "95 %", "Names", "Noise", "Time", "Memory", "Ended badly"):
        out.add_column(name, justify="left" if name == "Engine" else "right", no_wrap=True)
    for engine, one in by_engine(found).items():
        out.add_row(
            Text(printable(engine)), f"{one.cells:,}", f"{percent(one.share)} of {one.attainable:,.0f}",
            span_of_shares(one.interval), _share_of(one.named, one.named_of), _share_of(one.noise, one.results),
            format_seconds(one.seconds), format_size(one.memory), f"{one.badly:,}" if one.badly else "",
        )  # fmt: skip
    told = (
        "intact: of the files that could come back whole · names: of all lost files · noise: of all results that count"
    )
    over = len({specimen for specimen, _ in found})
    spread = (
        f"95 %: interval over {over:,} specimens"
        if over > 1
        else "95 %: interval over the files of this specimen alone"
    )
    return Group(out, Text(f"{told}\n{spread}", FAINT))


def _share_of(count: float, of: float) -> str:
    return f"{percent(count / of)} of {of:,.0f}" if of else "–"


def problems_view(state: CampaignState) -> RenderableType:
    """Cells that could not be carried out, or whose engine did not end well."""
    rows = [(cell.label, cell.problem) for cell in state.cells if cell.problem]
    rows += [(cell.label, cell.trial.outcome) for cell in state.cells if cell.trial and not cell.trial.ended_well]
    if not rows:
        return Group()
    out = table()
    out.add_column("Cell", overflow="fold")
    out.add_column("How it ended", overflow="fold")
    for label, told in rows[:_MOST_ROWS]:
        out.add_row(Text(printable(label)), Text(printable(told), style=SKY if told in _WORST_FIRST else VERMILION))
    return out


def campaign_json(state: CampaignState) -> dict[str, Any]:
    found = tallies(state)
    return {
        "method": METHOD, "name": state.name, "title": state.title, "engines": state.engines, "cells": len(state.cells),
        "ended": state.ended,
        "ranking": [
            {
                "engine": engine, "cells": one.cells, "files": one.files, "intact": one.intact,
                "attainable": one.attainable, "share_of_ceiling": one.share, "interval": one.interval,
                "named": one.named, "named_of": one.named_of, "noise": one.noise, "results": one.results,
                "seconds": one.seconds, "memory": one.memory, "ended_badly": one.badly,
            }
            for engine, one in by_engine(found).items()
        ],
        "matrix": [
            {
                "key": cell.key, "specimen": cell.specimen, "engine": cell.engine, "repeat": cell.repeat,
                "parameters": cell.parameters, "trial": cell.trial.id if cell.trial else None,
                "outcome": cell.trial.outcome if cell.trial else None, "problem": cell.problem,
                "below_the_gate": list(cell.below_the_gate),
            }
            for cell in state.cells
        ],
    }  # fmt: skip
