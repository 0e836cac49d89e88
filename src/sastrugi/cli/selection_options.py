"""The options that select findings, the same for every command that takes findings."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from sastrugi.cli.options import Options, sharing

if TYPE_CHECKING:
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.recovery.select import Selection

_Words, _Numbers = list[str] | None, list[int] | None
_SHARE = {"metavar": "SHARE"}
_SAID: tuple[tuple[str, Any, Any, str, str, dict[str, Any]], ...] = (
    ("state", str, "", "--state", "live, deleted, found, lost (the last two) or any.", {"metavar": "STATE"}),
    ("kinds", _Words, None, "--kind", "Only this kind (may be given again, like those below).", {"metavar": "KIND"}),
    ("groups", _Words, None, "--group", "Only kinds of this group.", {"metavar": "GROUP"}),
    ("names", _Words, None, "--name", "Only names like this: 'FRN*.JPG'.", {"metavar": "PATTERN"}),
    ("folders", _Words, None, "--folder", "Only in or below folders like this: '/DCIM'.", {"metavar": "PATTERN"}),
    ("passes", _Words, None, "--pass", "Only what this pass found.", {"metavar": "PASS"}),
    ("volumes", _Numbers, None, "--volume", "Only of this volume, by its number.", {"metavar": "NUMBER"}),
    ("numbers", _Numbers, None, "--number", "Only the finding of this number.", {"metavar": "NUMBER"}),
    ("min_size", str, "", "--min-size", "Only of at least this size: '4 MiB'.", {"metavar": "SIZE"}),
    ("max_size", str, "", "--max-size", "Only of at most this size.", {"metavar": "SIZE"}),
    ("since", str, "", "--since", "Only modified then or later: 2031-02-14.", {"metavar": "DATE"}),
    ("until", str, "", "--until", "Only modified then or before.", {"metavar": "DATE"}),
    ("min_confidence", str, "0", "--min-confidence", "Only at least this sure: 0.9 or 90%.", _SHARE),
    ("max_confidence", str, "1", "--max-confidence", "Only at most this sure.", _SHARE),
    ("saved", str, "", "--saved", "A selection kept by 'list --save-as'.", {"metavar": "NAME"}),
)
OPTIONS: Options = {
    name: (Annotated[kind, typer.Option(option, help=told, **more)], default)
    for name, kind, default, option, told, more in _SAID
}


class SelectionOptions:
    """What the options of a call say; `of` makes the selection for a scan file."""

    def __init__(self, given: dict[str, Any]) -> None:
        self._saved: str = given.pop("saved")
        from sastrugi.units import parse_share

        for key in ("min_confidence", "max_confidence"):
            given[key] = parse_share(given[key])
        self._given = {key: tuple(value) if isinstance(value, list) else value for key, value in given.items()}

    @property
    def none(self) -> bool:
        """Whether no option that selects was given."""
        return not self._saved and not any(v for k, v in self._given.items() if k != "max_confidence" and v is not None)

    def of(self, scan: ScanFile, state: str) -> Selection:
        """The selection, of `state` where the call says nothing about it; raises SastrugiError where there is none."""
        from sastrugi.errors import SastrugiError
        from sastrugi.recovery.select import Selection

        given: dict[str, Any] = {key: value for key, value in self._given.items() if value is not None}
        chosen = Selection(**given)
        if self._saved:
            there = scan.selections()
            if self._saved not in there:
                names = ", ".join(there) or "none yet"
                raise SastrugiError(f"no selection '{self._saved}' is saved in this scan file: there are {names}")
            chosen = Selection.read(there[self._saved]).and_also(chosen)
        return chosen.with_default_state(state)

    def of_results(self, results: Path) -> Selection | None:
        """The selection among results that are findings of a scan file; None where none is made. Raises SastrugiError
        where it is made among files of a folder, or takes nothing."""
        from sastrugi.errors import SastrugiError
        from sastrugi.recovery.scan_file import ScanFile

        if self.none:
            return None
        if results.is_dir():
            raise SastrugiError(f"{results}: a selection picks findings of a scan file, not files of a folder")
        with ScanFile.open(results) as scan:
            selection = self.of(scan, "")
            selection.pick(scan)
        return selection


selecting = sharing(OPTIONS, "chosen", SelectionOptions)
"""Gives a command the options of a selection, as `chosen`."""
