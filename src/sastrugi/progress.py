"""How core functions tell how far they are, and learn that they should stop.

The core never prints: it calls a `Progress` that the command line passes in. The base class does nothing, so that
every core function can be used without one.
"""

from __future__ import annotations

from sastrugi.errors import Interrupted


class Progress:
    """Receives the advance of a long task; `stop_asked` is set to end it at the next safe point."""

    def __init__(self) -> None:
        self.stop_asked = False
        self.stage = ""
        """Which part of a longer job the tasks belong to, such as `2/6 tables`; empty for a job of one part."""

    def start(self, task: str, total: int, unit: str = "B") -> None:
        """A new task begins, of `total` units (`B` for bytes, otherwise a plural noun)."""

    def at(self, done: int, note: str = "") -> None:
        """`done` units of the task are behind us; `note` is a short count of what was found."""

    def finish(self) -> None:
        """The task is over."""

    def check(self) -> None:
        """Raise Interrupted if the user asked to stop."""
        if self.stop_asked:
            raise Interrupted("stopped")
