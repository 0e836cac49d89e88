"""What is printed reaches whoever reads it: in any encoding, and also where they stop reading."""

from __future__ import annotations

import codecs
import io
import os
import sys
from typing import TextIO

_PLAIN = {
    "…": ".", "–": "-", "—": "-", "·": ".", "×": "x", "─": "-", "│": "|", "█": "#", "▒": "+", "░": ".", "■": "#",
    "’": "'", "“": '"', "”": '"', "≥": ">", "≤": "<", "→": ">",
}  # fmt: skip
"""What stands for our own marks where an encoding has none of them; of one column each."""


def _replace(error: UnicodeError) -> tuple[str, int]:
    """An error handler of `codecs`: every character that cannot be written becomes a plain one."""
    assert isinstance(error, UnicodeEncodeError)
    return "".join(_PLAIN.get(c, "?") for c in error.object[error.start : error.end]), error.end


class _Stdout(io.TextIOWrapper):
    """Standard output that a reader may close: what is written then goes nowhere, and the command comes to its end and
    its own exit status. `gone` tells those who print much."""

    gone = False

    def write(self, text: str) -> int:
        try:
            return super().write(text)
        except BrokenPipeError:
            self._let_go()
            return len(text)

    def flush(self) -> None:
        try:
            super().flush()
        except BrokenPipeError:
            self._let_go()

    def _let_go(self) -> None:
        self.gone = True
        os.dup2(os.open(os.devnull, os.O_WRONLY), self.fileno())


def prepare() -> None:
    """Make standard output and error ready; called once, before anything is printed."""
    codecs.register_error("sastrugi", _replace)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed before this program began
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115
            continue
        if not isinstance(stream, io.TextIOWrapper):
            continue
        if name == "stdout":
            line_buffering, encoding = stream.line_buffering, stream.encoding
            try:
                stream.flush()
            except OSError:
                continue
            sys.stdout = _Stdout(stream.detach(), encoding, "sastrugi", line_buffering=line_buffering)
        else:
            stream.reconfigure(errors="sastrugi")


def reader_is_gone() -> bool:
    """Whether nobody reads standard output any more."""
    return isinstance(sys.stdout, _Stdout) and sys.stdout.gone


def is_unicode(stream: TextIO) -> bool:
    return (stream.encoding or "").lower().replace("-", "").startswith("utf")
