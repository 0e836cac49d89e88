"""Whether laying files down and deleting them takes as long for each of many files as for each of few.

    python benchmarks/growth.py [files …] [-- file systems …]

Builds a specimen of so many small files (by default 2,000 and 8,000) with and without deleting them. Prints for each
file system the milliseconds of processor time that a file takes to be laid down and to be deleted, how these grow from
the first number of files to the last (1.0: not at all), peak memory, and the whole against `sha256sum` of the medium.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import NamedTuple

FILE_SYSTEMS = ("fat32", "exfat", "ntfs", "ext2", "ext3", "ext4", "hfs+")
FILES = (2000, 8000)
RECIPE = """
recipe = 1
name = "growth"
title = "Many small files"
seed = 7
medium = {{ size = "{size} MiB" }}
[[steps]]
do = "format"
file_system = "{file_system}"
[[steps]]
do = "store"
into = "/Notes"
corpus = {{ files = {files}, kinds = ["txt", "csv"], size = "1 KiB..2 KiB", names = "long" }}
"""
DELETE = """
[[steps]]
do = "delete"
what = ["/Notes/*"]
"""


class Cost(NamedTuple):
    """Of one process: seconds of processor time, and the most memory in KiB."""

    seconds: float
    memory: int


def cost(*words: str | Path) -> Cost:
    process = subprocess.Popen([str(word) for word in words], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    said = process.stderr.read() if process.stderr else b""
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{words} failed: {said.decode()}")
    return Cost(usage.ru_utime + usage.ru_stime, usage.ru_maxrss)


def built(folder: Path, size: int, file_system: str, files: int, steps: str) -> Cost:
    recipe = folder / "recipe.toml"
    recipe.write_text(RECIPE.format(size=size, file_system=file_system, files=files) + steps, "utf-8")
    return cost("sastrugi", "build", recipe, "--into", folder / "specimen", "--replace", "--workers", "1")


def main() -> None:
    words = sys.argv[1:]
    at = words.index("--") if "--" in words else len(words)
    counts = [int(word) for word in words[:at]] or list(FILES)
    print("| | files | store, ms a file | delete, ms a file | MiB | × `sha256sum` |\n|---|---:|---:|---:|---:|---:|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for file_system in words[at + 1 :] or FILE_SYSTEMS:
            size = 64 + max(counts) // 16  # the same for all: blocks and journals grow with it
            start = built(folder, size, file_system, 1, "").seconds
            rows: list[tuple[float, float]] = []
            for files in counts:
                stored, whole = (built(folder, size, file_system, files, steps) for steps in ("", DELETE))
                read = cost("sha256sum", folder / "specimen" / "medium.img").seconds
                each = (stored.seconds - start) * 1000 / files, (whole.seconds - stored.seconds) * 1000 / files
                rows.append(each)
                grown = [
                    f" ({now / max(before, 0.01):.2f})" if len(rows) > 1 else ""
                    for now, before in zip(each, rows[0], strict=True)
                ]
                print(
                    f"| {file_system} | {files:,} | {each[0]:.2f}{grown[0]} | {each[1]:.2f}{grown[1]} "
                    f"| {whole.memory >> 10} | {whole.seconds / max(read, 0.01):.1f} |",
                    flush=True,
                )


if __name__ == "__main__":
    main()
