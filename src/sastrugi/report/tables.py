"""Tables of corpora, truths, media, scans and findings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sastrugi.report.style import FAINT, GREEN, ORANGE, VERMILION, shorten_path, table
from sastrugi.units import format_size, percent, plural, printable
from sastrugi.volumes.registry import title_of

if TYPE_CHECKING:
    from pathlib import Path

    from sastrugi.corpus.check import Checked
    from sastrugi.kinds import Kind
    from sastrugi.recovery.findings import FoundVolume
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.specimen.adopt import Adoption
    from sastrugi.specimen.audit import Check
    from sastrugi.specimen.recipe import Recipe
    from sastrugi.specimen.truth import Truth

_PATH_ROOM = 36
_ANSWERS = {"opens": GREEN, "broken": VERMILION, "cannot tell": ORANGE}


def corpus_table(made: Sequence[tuple[str, str, int]]) -> Table:
    out = table(gives_way=("Size",), keys=("Kind",))
    out.add_column("Name", no_wrap=True)
    out.add_column("Kind", no_wrap=True)
    out.add_column("Size", justify="right", no_wrap=True)
    for name, kind, size in made:
        out.add_row(Text(shorten_path(name, 70)), kind, format_size(size))
    return out


def kinds_table(kinds: Sequence[Kind]) -> RenderableType:
    """The kinds, by group."""
    out = table(gives_way=("Make", "Proof", "Length by"), keys=("Kind",))
    columns = ("Kind", "Extensions", "Make", "Check", "Length by", "Proof")
    for name in columns:
        out.add_column(name, no_wrap=name in ("Kind", "Make", "Check", "Proof"), overflow="fold")
    group = ""
    for kind in sorted(kinds, key=lambda kind: (kind.group, kind.name)):
        if kind.group != group:
            group = kind.group
            out.add_row(Text(group, style="bold"))
        marks = ("yes" if able else "–" for able in (kind.make, kind.check))
        out.add_row(f" {kind.name}", " ".join(kind.extensions), *marks, kind.rule, kind.proof.name.lower())
    return Group(
        out,
        Text(f"{plural(len(kinds), 'kind')}; all of them are measured. A dash: not made, or not checked.", style=FAINT),
    )


def kind_json(kind: Kind) -> dict[str, Any]:
    return {
        "kind": kind.name,
        "title": kind.title,
        "group": kind.group,
        "extensions": list(kind.extensions),
        "media_type": kind.media_type,
        "make": kind.make is not None,
        "measure": True,
        "check": kind.check is not None,
        "rule": kind.rule,
        "proof": kind.proof.name.lower(),
        "refines": kind.refines or None,
    }


def checked_table(folder: Path, checked: Sequence[Checked], everything: bool) -> RenderableType:
    """What is broken and why, then what cannot be told; and what opens, if asked for."""
    order = {"broken": 0, "cannot tell": 1, "opens": 2}
    shown = [one for one in checked if everything or one.answer != "opens" or one.why]
    if not shown:
        return Text("every file opens")
    out = table(gives_way=("Kind",))
    for name in ("File", "Kind", "Answer"):
        out.add_column(name, no_wrap=True)
    out.add_column("Why", overflow="fold")
    for one in sorted(shown, key=lambda one: (order[one.answer], one.path)):
        path = shorten_path(str(one.path.relative_to(folder)), 40)
        out.add_row(Text(path), one.kind, Text(one.answer, style=_ANSWERS[one.answer]), Text(printable(one.why)))
    return out


def recipes_table(recipes: Sequence[Recipe]) -> RenderableType:
    """One line a recipe: what it is laid down on, and the case it stands for."""
    out = table(keys=("Recipe",))
    out.add_column("Recipe", no_wrap=True)
    out.add_column("Medium", justify="right", no_wrap=True)
    out.add_column("What happens")
    for recipe in recipes:
        out.add_row(recipe.name, format_size(recipe.medium.size), Text(recipe.title))
    return out


def _file_systems(recipe: Recipe) -> list[str]:
    named = (getattr(step, "file_system", None) for step in recipe.steps)
    return list(dict.fromkeys(name for name in named if name))


def recipe_json(recipe: Recipe) -> dict[str, Any]:
    return {
        "name": recipe.name,
        "title": recipe.title,
        "seed": recipe.seed,
        "size": recipe.medium.size,
        "sector": recipe.medium.sector,
        "file_systems": _file_systems(recipe),
        "steps": [step.do for step in recipe.steps],
    }


def specimen_line(truth: Truth) -> Text:
    last = [(v.name, v.lives[-1]) for v in truth.volumes if v.lives]
    volumes = ", ".join(f"{title_of(life.file_system)} '{life.label or name}'" for name, life in last) or "no volume"
    text = Text(f"{truth.title}\n", style="bold")
    references = sum(file.role == "reference" for file in truth.files)
    files = f"{plural(references, 'reference file')} laid down, {len(truth.lost):,} of them lost"
    facts = f"{format_size(truth.medium.size)} medium, {volumes}: {files}"
    return text.append(facts, style="not bold")


def truth_table(truth: Truth) -> RenderableType:
    """Life by life: what there is, what was lost, and how much of that could come back."""
    from sastrugi.specimen.truth import LOSSES

    out = table(gives_way=("Bytes lost", "Named", "Live"), keys=("Volume",))
    for name, justify in (
        ("Volume", "left"),
        ("Life", "left"),
        ("Files", "right"),
        ("Live", "right"),
        ("Lost", "right"),
        ("Bytes lost", "right"),
        ("Whole", "right"),
        ("Part", "right"),
        ("Gone", "right"),
        ("Named", "right"),
    ):
        out.add_column(name, justify=justify)  # type: ignore[arg-type]
    for volume in truth.volumes:
        for life in volume.lives:
            files = [
                f for f in truth.files if (f.volume, f.life) == (volume.name, life.number) and f.role == "reference"
            ]
            lost = [f for f in files if f.end in LOSSES]
            end = "earlier" if lost and not any(f.lost for f in lost) else life.end
            whole = sum(f.ceiling.intact for f in lost)
            gone = sum(f.ceiling.bytes == 0 for f in lost)
            out.add_row(
                Text(volume.name),
                f"{life.number} {title_of(life.file_system)}, {end}",
                f"{len(files):,}",
                f"{sum(f.standing for f in files):,}",
                f"{len(lost):,}",
                format_size(sum(f.size for f in lost)),
                f"{whole:,}",
                f"{len(lost) - whole - gone:,}",
                f"{gone:,}",
                f"{sum(f.ceiling.name == 'full' for f in lost):,}",
            )
    troubles = [
        Text(f"volume '{volume.name}': {volume.trouble}", style=ORANGE) for volume in truth.volumes if volume.trouble
    ]
    legend = Text(
        "Whole, Part, Gone: lost files whose bytes are all, partly or no longer on the medium. "
        "Named: full name still there. Earlier: lost before the loss this specimen is about.",
        style=FAINT,
    )
    return Group(specimen_line(truth), out, *troubles, legend)


def audit_table(checks: Sequence[Check]) -> Table:
    out = table()
    out.add_column("Check")
    out.add_column("Things", justify="right")
    out.add_column("Agrees")
    for check in checks:
        faults = "\n".join(
            [*check.faults[:5], *([f"… and {len(check.faults) - 5} more"] if len(check.faults) > 5 else [])]
        )
        out.add_row(check.name, f"{check.count:,}", Text(faults or "yes"))
    return out


_MOST_NAMED = 8


def adoption_table(done: Adoption) -> Table:
    """What became of the originals, with the names of those that are not all there."""
    out = table()
    out.add_column("Originals", justify="right")
    out.add_column("On the medium")
    out.add_column("Which", overflow="fold")
    parts = [f"{name} ({percent(share)})" for name, share in sorted(done.part.items(), key=lambda item: item[1])]
    for names, what, all_of in (
        (done.listed, "listed, live", False),
        (done.whole, "lost, all bytes there", False),
        (parts, "lost, written over in part or whole", True),
        (done.changed, "listed with other content: left out", True),
        (done.gone, "not there: left out", True),
    ):
        shown = names[:_MOST_NAMED] if all_of else []
        more = [f"… and {len(names) - _MOST_NAMED:,} more (--json shows all)"] if all_of and names[_MOST_NAMED:] else []
        if names or not all_of:
            out.add_row(f"{len(names):,}", what, Text("\n".join([*shown, *more])))
    if done.others:
        out.add_row("", f"{plural(done.others, 'other file')} listed, live", "")
    return out


def volume_json(volume: FoundVolume) -> dict[str, Any]:
    return {
        "number": volume.number,
        "start": volume.where.offset,
        "size": volume.where.length,
        "file_system": volume.file_system,
        "label": volume.label,
        "serial": volume.serial,
        "cluster": volume.cluster,
        "used": volume.used,
        "free": volume.free,
        "origin": volume.origin,
        "health": list(volume.health),
    }


def volume_table(name: str, size: int, volumes: Sequence[FoundVolume]) -> RenderableType:
    head = Text(f"{name}: {format_size(size)}", style="bold")
    if not volumes:
        return Group(head, Text("no partition table and no volume that can be read"))
    out = table(gives_way=("Free", "Cluster", "Where from"), keys=("No", "File system"))
    for column, justify in (
        ("No", "right"),
        ("Where from", "left"),
        ("Start", "right"),
        ("Size", "right"),
        ("File system", "left"),
        ("Label", "left"),
        ("Cluster", "right"),
        ("Used", "right"),
        ("Free", "right"),
    ):
        out.add_column(column, justify=justify, overflow="fold")  # type: ignore[arg-type]
    notes: list[Text] = []
    for volume in volumes:
        readable = volume.cluster > 0
        sizes = (format_size(n) if readable else "–" for n in (volume.cluster, volume.used, volume.free))
        out.add_row(
            str(volume.number),
            volume.origin,
            format_size(volume.where.offset),
            format_size(volume.where.length),
            volume.file_system,
            Text(volume.label),
            *sizes,
        )
        notes += [Text(f"volume {volume.number}: {note}") for note in volume.health]
    return Group(head, out, *notes)


def scan_summary(scan: ScanFile, seconds: float) -> RenderableType:
    """Findings by group and state, and how sure they are."""
    rows = scan.summary()
    out = table(gives_way=("0.9 sure or more",), keys=("Group",))
    for name in ("Group", "Live", "Deleted", "Found", "Bytes of deleted and found", "0.9 sure or more"):
        out.add_column(name, justify="left" if name == "Group" else "right")
    for group, live, deleted, found, size, sure in rows:
        out.add_row(group, f"{live:,}", f"{deleted:,}", f"{found:,}", format_size(size), f"{sure:,}")
    count = sum(live + deleted + found for _, live, deleted, found, _, _ in rows)
    return Group(
        out, Text(f"{plural(count, 'finding')} in {seconds:.1f} s, passes {scan.get('passes').replace(',', ', ')}")
    )
