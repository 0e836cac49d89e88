"""The installed program in a terminal of a stated size: what a person sees there."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import select
import struct
import subprocess
import termios
import time
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from tests.conftest import program_path

_STYLES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]")


@dataclass(frozen=True)
class Seen:
    """What came onto the terminal, and when: (seconds since the start, text)."""

    code: int
    parts: list[tuple[float, str]]

    @property
    def raw(self) -> str:
        return "".join(text for _, text in self.parts)

    @property
    def text(self) -> str:
        """Without styles, and without lines that were written over (progress)."""
        lines = _STYLES.sub("", self.raw.replace("\r\n", "\n")).split("\n")
        return "\n".join(line.rpartition("\r")[2].rstrip() for line in lines)

    @property
    def longest_silence(self) -> float:
        times = [0.0, *(at for at, _ in self.parts)]
        return max(b - a for a, b in pairwise(times))


def in_terminal(*words: str | Path, columns: int = 80, rows: int = 24, cwd: Path | None = None) -> Seen:
    ours, theirs = pty.openpty()
    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
    environment = {k: v for k, v in os.environ.items() if k not in ("COLUMNS", "LINES", "NO_COLOR", "CI")}
    environment |= {"TERM": "xterm-256color", "LC_ALL": "C.UTF-8"}
    began = time.monotonic()
    command = [program_path(), *map(str, words)]
    process = subprocess.Popen(command, stdin=theirs, stdout=theirs, stderr=theirs, cwd=cwd, env=environment)
    os.close(theirs)
    parts: list[tuple[float, str]] = []
    held = b""
    try:
        while True:
            select.select([ours], [], [], 300)
            data = os.read(ours, 1 << 16)
            if not data:
                break
            held += data
            text = held.decode("utf-8", "ignore")
            held = held[len(text.encode()) :]
            parts.append((time.monotonic() - began, text))
    except OSError:  # the other side is closed
        pass
    finally:
        os.close(ours)
    return Seen(process.wait(), parts)
