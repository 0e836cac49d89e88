"""Where outputs go, by one rule: into the current folder under the input's name, or where the call says; what is there
stays unless the call says otherwise; and never into what a later command reads."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

ReplaceOption = Annotated[bool, typer.Option("--replace", help="Put it in the place of what is there already.")]


def file_target(given: Path | None, default: str, replace: bool, *guarded: Path, outside: Sequence[Path] = ()) -> Path:
    """The file to write. Raises DestinationError if something is there (unless `replace`), if it is one of `guarded`
    (inputs), or if it lies in one of `outside` (folders that are read), which a default only avoids."""
    from sastrugi.errors import DestinationError
    from sastrugi.safety import require_not_medium

    target = given or Path(default)
    for folder in outside:
        if folder.is_dir() and folder.resolve() in target.resolve().parents:
            if given is not None:
                raise DestinationError(f"{target}: is inside {folder}, which is read as it stands: name another place")
            target = folder.resolve().parent / default
    for path in guarded:
        require_not_medium(target, path)
    if target.is_dir():
        raise DestinationError(f"{target}: is a folder: name a file")
    if target.exists() and not target.is_file():
        raise DestinationError(f"{target}: is no file: name one")
    if target.exists() and not replace:
        raise DestinationError(f"{target}: is there already: add --replace, or name another file with --out")
    return target


def picture_target(
    given: Path | None, default: str, replace: bool, *guarded: Path, outside: Sequence[Path] = ()
) -> Path:
    """The same of a picture, which is always a PNG."""
    from sastrugi.errors import DestinationError
    from sastrugi.safety import require_not_medium

    if given is not None and given.suffix.lower() != ".png":
        for path in guarded:
            require_not_medium(given, path)
        raise DestinationError(f"{given}: pictures are written as PNG: end its name in .png")
    return file_target(given, default, replace, *guarded, outside=outside)


def renamed(old: str, new: str) -> None:
    """Say that an option is called otherwise now."""
    from sastrugi.cli.console import say

    say(f"{old} is called {new} now: the old spelling goes with the next version")
