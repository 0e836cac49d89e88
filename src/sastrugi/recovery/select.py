"""Which findings of a scan are meant: one selection, the same in every command, and kept by name in the scan file."""

from __future__ import annotations

import datetime as dt
import fnmatch
import json
import re
from collections.abc import Iterator
from dataclasses import asdict, dataclass, fields, replace
from difflib import get_close_matches
from typing import Any

from sastrugi.errors import SastrugiError
from sastrugi.kinds import all_kinds
from sastrugi.recovery.findings import PASSES, Finding
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.texts import parse_json
from sastrugi.units import parse_size

STATES = ("live", "deleted", "found", "lost", "any")
"""Of a finding, and the two that stand for several: `lost` (deleted or found) and `any`."""
ORDERS = {
    "path": "folder, name, number",
    "name": "name, folder, number",
    "size": "size, folder, name, number",
    "date": "modified, folder, name, number",
    "confidence": "confidence, folder, name, number",
    "kind": "kind, folder, name, number",
    "place": "start, number",
    "number": "number",
}
"""What findings can be sorted by."""
GROUPS = ("picture", "sound", "video", "document", "archive", "program", "data")


@dataclass(frozen=True, slots=True)
class Selection:
    """Findings that fulfil every condition; an empty condition takes all. Of a condition with several values one must
    hold. Names and folders are patterns (`*`, `?`, `[a-z]`, upper and lower case alike); a folder means what is below
    it, too. Sizes as written (`4 MiB`), dates as 2031-02-14 or 2031-02-14T08:30."""

    state: str = ""
    kinds: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    passes: tuple[str, ...] = ()
    volumes: tuple[int, ...] = ()
    numbers: tuple[int, ...] = ()
    min_size: str = ""
    max_size: str = ""
    since: str = ""
    until: str = ""
    min_confidence: float = 0.0
    max_confidence: float = 1.0

    def with_default_state(self, state: str) -> Selection:
        return self if self.state else replace(self, state=state)

    def and_also(self, other: Selection) -> Selection:
        """Both at once, as far as one selection can say it: conditions of `other` stand where they are given."""
        given = {f.name: getattr(other, f.name) for f in fields(other) if getattr(other, f.name) != f.default}
        return replace(self, **given)

    # -- in the scan file -------------------------------------------------------------------

    def text(self) -> str:
        """As the scan file keeps it: what differs from taking everything, as a JSON object."""
        plain = Selection()
        return json.dumps({k: v for k, v in asdict(self).items() if v != getattr(plain, k)}, ensure_ascii=False)

    @classmethod
    def read(cls, text: str) -> Selection:
        """The inverse of `text`; raises SastrugiError if it is none."""
        try:
            given = parse_json(text)
            known = {f.name: type(getattr(cls(), f.name)) for f in fields(cls)}
            return cls(**{key: known[key](value) for key, value in given.items()})
        except (ValueError, TypeError, KeyError, AttributeError):
            raise SastrugiError("a saved selection of this scan file is damaged: save it again") from None

    # -- picking ----------------------------------------------------------------------------

    def condition(self, scan: ScanFile) -> tuple[str, tuple[Any, ...]]:
        """An SQL condition and its values; raises SastrugiError where the selection makes no sense for this scan."""
        self._check(scan)
        parts: list[str] = ["confidence BETWEEN ? AND ?"]
        values: list[Any] = [self.min_confidence, self.max_confidence]

        def one_of(expression: str, wanted: tuple[Any, ...]) -> None:
            if wanted:
                parts.append("(" + " OR ".join([expression] * len(wanted)) + ")")
                values.extend(wanted)

        if self.state == "lost":
            parts.append("state != 'live'")
        elif self.state not in ("", "any"):
            one_of("state = ?", (self.state,))
        one_of("kind = ?", self.kinds)
        one_of("grp = ?", self.groups)
        one_of("name REGEXP ?", tuple(_pattern(name) for name in self.names))
        one_of("folder REGEXP ?", tuple(_pattern(_rooted(folder), below=True) for folder in self.folders))
        one_of("instr(',' || passes || ',', ',' || ? || ',')", self.passes)
        one_of("volume = ?", self.volumes)
        one_of("number = ?", self.numbers)
        for expression, bound in (("size >= ?", self.min_size), ("size <= ?", self.max_size)):
            one_of(expression, (parse_size(bound),) if bound else ())
        one_of("modified >= ?", (_moment(self.since).isoformat(),) if self.since else ())
        one_of("modified < ?", (_until(self.until).isoformat(),) if self.until else ())
        return " AND ".join(parts), tuple(values)

    def _check(self, scan: ScanFile) -> None:
        _known(self.state or "any", STATES, "state of a finding")
        for kind in self.kinds:
            if kind not in all_kinds() and kind != "other":
                _known(kind, sorted({*all_kinds(), "other", *scan.kinds()}), "kind")
        for group in self.groups:
            _known(group, GROUPS, "group")
        for name in self.passes:
            _known(name, PASSES, "pass")
        if not 0 <= self.min_confidence <= self.max_confidence <= 1:
            raise SastrugiError("confidence goes from 0 to 1, and the least must not be above the most")

    def iterate(self, scan: ScanFile, order: str = "path", descending: bool = False) -> Iterator[Finding]:
        """The findings selected, in an order of ORDERS."""
        where, values = self.condition(scan)
        yield from scan.findings(where, values, ordered(order, descending))

    def pick(self, scan: ScanFile, order: str = "path") -> list[Finding]:
        """The same as a list; raises SastrugiError, which says what is there, if nothing is selected."""
        found = list(self.iterate(scan, order))
        if not found:
            raise SastrugiError(nothing_selected(scan))
        return found


def ordered(order: str, descending: bool = False) -> str:
    """The SQL of an order; raises SastrugiError with those there are."""
    _known(order, tuple(ORDERS), "order")
    first, *rest = ORDERS[order].split(", ")
    return ", ".join([f"{first} DESC" if descending else first, *rest])


def nothing_selected(scan: ScanFile) -> str:
    counts = ", ".join(f"{count:,} {state}" for state, count in scan.counts().items()) or "nothing at all"
    return f"nothing is selected; the scan holds {counts}: widen the selection, or see it with 'sastrugi list'"


def _known(word: str, there: tuple[str, ...] | list[str], what: str) -> None:
    if word not in there:
        near = get_close_matches(word, there, 1)
        hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(there)}"
        raise SastrugiError(f"'{word}' is no {what}: {hint}")


def _rooted(folder: str) -> str:
    folder = folder.strip("/")
    return f"/{folder}" if folder else "/"


def _pattern(text: str, below: bool = False) -> str:
    """A regular expression for a pattern; raises SastrugiError where it cannot be one."""
    opened = text.find("[")
    if opened >= 0 and "]" not in text[opened + 2 :]:
        raise SastrugiError(f"'{text}' is no pattern: its '[' is never closed; write [[] for the character itself")
    made = fnmatch.translate(text)
    if below and text != "/":
        made = made.removesuffix(r"\Z").removesuffix(r"\z") + r"(?:/.*)?\Z"
    elif below:
        made = "(?s:.*)"
    try:
        re.compile(made)
    except re.error as error:
        raise SastrugiError(f"'{text}' is no pattern: {error}") from None
    return made


def _moment(text: str) -> dt.datetime:
    try:
        return dt.datetime.fromisoformat(text).replace(tzinfo=None)
    except ValueError:
        raise SastrugiError(f"'{text}' is no date: write 2031-02-14 or 2031-02-14T08:30") from None


def _until(text: str) -> dt.datetime:
    """The first moment that is too late: a day counts to its end."""
    moment = _moment(text)
    more = dt.timedelta(days=1) if len(text.strip()) <= len("2031-02-14") else dt.timedelta(microseconds=1)
    return moment + min(more, dt.datetime.max - moment)
