"""`sastrugi build` and `sastrugi audit`: specimens and their truth."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, quoted, say, show, show_json

_BUILD_HELP = """Build a specimen (a medium with its truth) from a recipe: a file, or the name of a shipped one.

\b
Example: sastrugi build camera-card --into specimen"""
_AUDIT_HELP = """Read everything of a specimen again and compare it with its truth; prints what could come back.

\b
Example: sastrugi audit specimen
Leaves with status 1 if anything does not agree."""


def register(app: typer.Typer) -> None:
    app.command("build", help=_BUILD_HELP)(build)
    app.command("audit", help=_AUDIT_HELP)(audit)


def build(
    recipe: Annotated[str, typer.Argument(help="A recipe file (TOML), or the name of a shipped recipe.")],
    into: Annotated[
        Path | None,
        typer.Option(help="The new folder of the specimen [default: the recipe's name]", metavar="DIR"),
    ] = None,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.report.tables import truth_table
    from sastrugi.specimen.build import build as build_specimen
    from sastrugi.specimen.recipe import load_recipe
    from sastrugi.specimen.truth import Specimen

    loaded = load_recipe(recipe)
    target = into or Path(loaded.name)
    with progress() as watched:
        build_specimen(loaded, target, watched)
    with Specimen(target) as specimen:
        if as_json:
            show_json({"specimen": str(target), "truth": specimen.truth.model_dump(mode="json")})
            return
        show(truth_table(specimen.truth))
    say(f"specimen in {target}; next: {quoted('sastrugi', 'scan', target)}")


def audit(
    folder: Annotated[Path, typer.Argument(help="The specimen's folder.", metavar="SPECIMEN")],
    as_json: JsonOption = False,
) -> None:
    from sastrugi.report.tables import audit_table, truth_table
    from sastrugi.specimen.audit import audit as audit_specimen
    from sastrugi.specimen.truth import Specimen

    with Specimen(folder) as specimen, progress() as watched:
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
