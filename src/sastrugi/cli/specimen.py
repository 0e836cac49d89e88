"""`sastrugi build` and `sastrugi audit`: specimens and their truth."""

from __future__ import annotations

import os
from contextlib import ExitStack
from dataclasses import asdict
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, medium_at, progress, quoted, say, show, show_json
from sastrugi.cli.targets import ReplaceOption

_BUILD_HELP = """Build a specimen (a medium with its truth) from a recipe: a file, or the name of a shipped one.

\b
Example: sastrugi build camera-card --into specimen
With --writer os the system's own driver carries the steps out (Linux, root); the truth is then
found by locating the content, so pieces and reuse are what the driver made of them."""
_ADOPT_HELP = """Make a specimen of an image that was captured elsewhere and of the files that were on it. Their
places are found by their content, on any file system, in pieces and in part.

\b
Example: sastrugi adopt card.img --originals season --into specimen
With --before files are located in an image from before the loss; IMAGE tells what still stands.
Originals that no volume lists count as lost; where it cannot be read, --lost says which are."""
_AUDIT_HELP = """Read everything of a specimen again and compare it with its truth; prints what could come back.

\b
Example: sastrugi audit specimen
Leaves with status 1 if anything does not agree."""


class Writer(StrEnum):
    """Who writes the volumes of a specimen."""

    own = "own"
    os = "os"


def register(app: typer.Typer) -> None:
    app.command("build", help=_BUILD_HELP)(build)
    app.command("adopt", help=_ADOPT_HELP)(adopt)
    app.command("audit", help=_AUDIT_HELP)(audit)


def build(
    recipe: Annotated[str, typer.Argument(help="A recipe file (TOML), or the name of a shipped recipe.")],
    into: Annotated[
        Path | None,
        typer.Option(help="The new folder of the specimen [default: the recipe's name]", metavar="DIR"),
    ] = None,
    replace: ReplaceOption = False,
    sha256: Annotated[
        bool, typer.Option("--sha256", help="Add SHA-256 of every file and of the medium (BLAKE3 is always there).")
    ] = False,
    writer: Annotated[
        Writer, typer.Option(help="Who writes the volumes: our own writer, or the system's driver on a loop mount.")
    ] = Writer.own,
    workers: Annotated[
        int, typer.Option(help="Processes that make files; 0: one for each core.", min=0, max=256, metavar="COUNT")
    ] = 0,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.report.tables import truth_table
    from sastrugi.specimen.build import build as build_specimen
    from sastrugi.specimen.recipe import load_recipe
    from sastrugi.specimen.truth import Specimen

    loaded = load_recipe(recipe)
    target = into or Path(loaded.name)
    with progress() as watched:
        build_specimen(loaded, target, watched, sha256, writer is Writer.os, replace, workers or os.cpu_count() or 1)
    with Specimen(target) as specimen:
        if as_json:
            show_json({"specimen": str(target), "truth": specimen.truth.model_dump(mode="json")})
            return
        show(truth_table(specimen.truth))
    say(f"specimen in {target}; next: {quoted('sastrugi', 'scan', target)}")


def adopt(
    image: Annotated[Path, typer.Argument(help="An image of the medium after the loss, or a device.", metavar="IMAGE")],
    originals: Annotated[Path, typer.Option(help="The folder with the files that were on it.", metavar="DIR")],
    before: Annotated[
        Path | None, typer.Option(help="An image of the same medium from before the loss.", metavar="FILE")
    ] = None,
    into: Annotated[
        Path | None,
        typer.Option(help="The new folder of the specimen [default: the image's name with .specimen]", metavar="DIR"),
    ] = None,
    replace: ReplaceOption = False,
    lost: Annotated[
        list[str] | None,
        typer.Option(help="Only originals of this name or pattern were lost (may be given again).", metavar="PATTERN"),
    ] = None,
    nothing_lost: Annotated[
        bool, typer.Option("--nothing-lost", help="All originals are live: IMAGE is from before any loss.")
    ] = False,
    name: Annotated[
        str, typer.Option(help="What the specimen is called in scores [default: the image's name].", metavar="NAME")
    ] = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.errors import SpecimenError
    from sastrugi.report.tables import adoption_table, truth_table
    from sastrugi.safety import require_not_holding, require_outside
    from sastrugi.specimen.adopt import adopt as adopt_image
    from sastrugi.specimen.truth import Specimen

    if nothing_lost and (before is not None or lost):
        raise SpecimenError("--nothing-lost goes neither with --before nor with --lost: leave one of them out")
    chosen = [] if nothing_lost else lost or ["*"]
    target = into or Path(f"{image.resolve().stem}.specimen")
    require_outside(target, originals, "the folder of originals")
    with ExitStack() as stack:
        medium = stack.enter_context(medium_at(image))
        require_outside(target, medium.path, "the medium")
        require_not_holding(target, medium.path, "the medium")
        require_not_holding(target, originals, "the originals")
        earlier = stack.enter_context(medium_at(before)) if before is not None else None
        watched = stack.enter_context(progress())
        done = adopt_image(medium, originals, target, watched, earlier, chosen, replace, name[:60])
    with Specimen(target) as specimen:
        if as_json:
            show_json(
                {"specimen": str(target), "originals": asdict(done), "truth": specimen.truth.model_dump(mode="json")}
            )
        else:
            show(truth_table(specimen.truth), adoption_table(done))
            say(f"specimen in {target}; next: {quoted('sastrugi', 'scan', target)}")
    if done.unreadable:
        say(f"{done.unreadable:,} bytes of the medium could not be read: what lies there counts as gone")
        raise typer.Exit(3)


def audit(
    folder: Annotated[Path, typer.Argument(help="The specimen's folder.", metavar="SPECIMEN")],
    as_json: JsonOption = False,
) -> None:
    from sastrugi.report.tables import audit_table, truth_table
    from sastrugi.specimen.audit import audit as audit_specimen
    from sastrugi.specimen.truth import Specimen

    with progress() as watched, Specimen(folder) as specimen:
        checks = audit_specimen(specimen, watched)
        watched.finish()
        sound = not any(check.faults for check in checks)
        if as_json:
            listed = [{"check": c.name, "count": c.count, "faults": list(c.faults)} for c in checks]
            show_json({"specimen": str(folder), "sound": sound, "checks": listed})
        else:
            show(truth_table(specimen.truth), audit_table(checks))
            say("the specimen agrees with its truth" if sound else "the specimen does not agree with its truth")
    if not sound:
        raise typer.Exit(1)
