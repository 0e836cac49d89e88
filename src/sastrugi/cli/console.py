"""Printing: results on stdout, everything else on stderr; progress only where somebody watches."""

from __future__ import annotations

import json
import re
import shlex
import signal
import sys
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Annotated, Any

import typer

from sastrugi.cli.streams import is_unicode, reader_is_gone
from sastrugi.errors import Unfinished
from sastrugi.progress import Progress
from sastrugi.units import printable

if TYPE_CHECKING:
    from rich.console import Console, RenderableType
    from rich.progress import Progress as RichProgress
    from rich.progress import TaskID

    from sastrugi.media import Medium
    from sastrugi.report.style import Ink

WIDTH = 100
_JSON_SECONDS = 0.5
_PATIENCE = 2.0
"""Seconds until a command that was asked to stop is stopped wherever it is."""
_NOT_ASCII = re.compile("[^\x00-\x7f]")
_NOT_SHOWN = re.compile("[\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")
"""What terminals obey, what turns the direction of writing, what some take for the end of a line, and half characters:
escapes in JSON."""

JsonOption = Annotated[bool, typer.Option("--json", help="Print one JSON document on stdout and nothing else there.")]


def show(*parts: RenderableType) -> None:
    """Print tables and text on stdout, at most 100 columns wide."""
    _make_room()
    console = _console()
    for part in parts:
        if console.is_terminal:
            console.print(part)
            continue
        with console.capture() as text:
            console.print(part)
        print("\n".join(line.rstrip() for line in text.get().rstrip("\n").split("\n")))


def _console() -> Console:
    from rich.console import Console

    console = Console(highlight=False, soft_wrap=False, emoji=False)
    if not console.is_terminal or console.width > WIDTH:
        console.width = WIDTH
    return console


def width() -> int:
    """Columns that lines on stdout may take."""
    return _console().width


def ink() -> Ink:
    """The styles that stdout takes."""
    from sastrugi.report.style import Ink

    console = _console()
    return Ink(console.is_terminal and not console.no_color and console.color_system is not None)


def show_json(document: Any) -> None:
    show_json_text(json.dumps(document, ensure_ascii=False, indent=1))


def show_json_text(text: str) -> None:
    """Print a JSON document that is text already; in an encoding that has not all characters, as escapes."""
    if not text.isascii():
        escaped = _NOT_SHOWN if is_unicode(sys.stdout) else _NOT_ASCII
        text = escaped.sub(lambda match: json.dumps(match[0])[1:-1], text)
    _make_room()
    print(text)


def show_lines(lines: Iterable[str]) -> None:
    """Print many lines on stdout, as quickly as whoever reads them takes them; the first ones at once."""
    _make_room()
    lines = iter(lines)
    most = 1
    while batch := list(islice(lines, most)):
        sys.stdout.write("\n".join(batch) + "\n")
        sys.stdout.flush()
        if reader_is_gone():
            return
        most = min(most * 4, 2048)


def say(message: str) -> None:
    """A message for people, on stderr; behind what was printed before, also where both go to one place."""
    _make_room()
    sys.stdout.flush()
    print(printable(message), file=sys.stderr)


def quoted(*words: str | Path) -> str:
    """A command line that can be pasted into a shell."""
    return shlex.join(str(word) for word in words)


_shown: list[_TerminalProgress] = []
"""The progress that stands on the terminal now: it makes room for whatever is printed."""


def _make_room() -> None:
    for one in list(_shown):
        one.hide()


class _TerminalProgress(Progress):
    """One line on a terminal: what is done, counts, rate, elapsed and remaining time. It moves as long as the command
    works, also between its tasks."""

    def __init__(self) -> None:
        super().__init__()
        self._bar: RichProgress | None = None
        self._task: TaskID | None = None
        self._show("starting")

    def _show(self, task: str, total: int | None = None, unit: str = "") -> None:
        from rich.console import Console
        from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
        from rich.progress import Progress as RichProgress

        from sastrugi.cli.moving import Counts, Remaining

        if self._bar is None:
            self._bar = RichProgress(
                TextColumn("{task.description}"), BarColumn(16), Counts(), TimeElapsedColumn(), Remaining(),
                TextColumn("{task.fields[note]}"),
                console=Console(stderr=True), transient=True, refresh_per_second=4,
                redirect_stdout=False, redirect_stderr=False,
            )  # fmt: skip
            self._bar.start()
            _shown.append(self)
        if self._task is not None:
            self._bar.remove_task(self._task)
        described = f"{self.stage}: {task}" if self.stage and task != self.stage else task
        self._task = self._bar.add_task(described, total=total, note="", unit=unit)

    def start(self, task: str, total: int, unit: str = "B") -> None:
        self._show(task, total or None, unit)

    def at(self, done: int, note: str = "") -> None:
        if self._bar is not None and self._task is not None:
            self._bar.update(self._task, completed=done, note=note[:40])

    def finish(self) -> None:
        if self._bar is not None:
            self._show("working")

    def hide(self) -> None:
        """Take the line off the terminal, until the next task begins."""
        if self._bar is not None:
            self._bar.stop()
            _shown.remove(self)
        self._bar = self._task = None


def medium_at(path: Path) -> Medium:
    """The medium at `path`; says so if it is a device that is mounted."""
    from sastrugi.errors import MediumError
    from sastrugi.media import open_medium
    from sastrugi.media.mounts import mounted_at
    from sastrugi.recovery.scan_file import is_scan_file

    if is_scan_file(path):
        raise MediumError(f"{path}: is a scan file, and no medium: 'sastrugi list {path}' shows what it holds")
    point = mounted_at(path)
    if point:
        say(f"{path} is mounted at {point}: it may change while it is read; unmount it to be sure of what is read")
    return open_medium(path)


class _JsonProgress(Progress):
    """One JSON object a line, at most twice a second, for programs that watch."""

    def __init__(self) -> None:
        super().__init__()
        self._task, self._total, self._unit, self._began, self._told = "", 0, "", 0.0, 0.0

    def start(self, task: str, total: int, unit: str = "B") -> None:
        self._task, self._total, self._unit = task, total, unit
        self._began, self._told = time.monotonic(), 0.0
        self.at(0)

    def at(self, done: int, note: str = "") -> None:
        now = time.monotonic()
        if not self._task or now - self._told < _JSON_SECONDS:
            return
        self._told, elapsed = now, now - self._began
        rate = done / elapsed if elapsed > 0 else 0.0
        left = (self._total - done) / rate if rate and self._total else None
        line = {
            "stage": self.stage, "task": self._task, "done": done, "total": self._total or None, "unit": self._unit,
            "rate": round(rate, 1), "elapsed": round(elapsed, 2),
            "remaining": None if left is None else round(max(left, 0.0), 2), "note": note,
        }  # fmt: skip
        print(json.dumps(line), file=sys.stderr, flush=True)

    def finish(self) -> None:
        self._task = ""


@contextmanager
def progress(go_on: str = "", as_json: bool = False) -> Iterator[Progress]:
    """A progress for a long command, as a line on a terminal or (`as_json`) as lines for programs.

    The first Ctrl-C (or SIGTERM) ends it at the next safe point, a second, or two seconds, at once.

    `go_on` is the command line that continues the work; it is printed when the work was interrupted.
    """
    watched: Progress = _TerminalProgress() if sys.stderr.isatty() else Progress()
    if as_json:
        watched = _JsonProgress()

    def stop(_number: int, _frame: FrameType | None) -> None:
        if watched.stop_asked:
            raise KeyboardInterrupt
        watched.stop_asked = True
        if hasattr(signal, "setitimer"):  # where no safe point comes soon, it ends there
            signal.setitimer(signal.ITIMER_REAL, _PATIENCE)

    numbers = [signal.SIGINT, signal.SIGTERM, *([signal.SIGALRM] if hasattr(signal, "SIGALRM") else [])]
    before = {number: signal.signal(number, stop) for number in numbers}
    try:
        yield watched
    except Unfinished as error:
        error.go_on = error.go_on or go_on
        raise
    finally:
        watched.finish()
        _make_room()
        if hasattr(signal, "setitimer"):
            signal.setitimer(signal.ITIMER_REAL, 0)
        for number, handler in before.items():
            signal.signal(number, handler)
