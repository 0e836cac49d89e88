"""How fast specimens are built, as ratios against `cp` of the same files in the same run, and what large media cost.

    python benchmarks/build_speed.py [mebibytes] [folder]

Prints for each medium: seconds, ratio to cp (1.0 is as fast), peak memory, and disk blocks against the smallest medium.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RUNS = 3
MIB = 1 << 20
MEDIA = (("8 GiB", "fat32"), ("8 GiB", "exfat"), ("1 TiB", "fat32"), ("1 TiB", "exfat"), ("4 TiB", "exfat"))
RECIPE = """
recipe = 1
name = "speed"
title = "Speed"
seed = 1
[medium]
size = "{size}"
[[steps]]
do = "format"
file_system = "{file_system}"
cluster = "32 KiB"
[[steps]]
do = "store"
folder = "files"
[[steps]]
do = "delete"
what = ["/large"]
"""


def fill(folder: Path, mebibytes: int) -> None:
    """Half of the bytes in large files, half in small ones."""
    for name, size in (("large", 16 * MIB), ("small", 256 << 10)):
        (folder / name).mkdir(parents=True)
        for n in range(mebibytes * MIB // 2 // size):
            (folder / name / f"{n:05d}.dat").write_bytes(os.urandom(size))


def measure(*words: str) -> tuple[float, int]:
    """Seconds and peak memory in KiB of a whole process."""
    began = time.perf_counter()
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    said = process.stderr.read() if process.stderr else b""
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{' '.join(words)} failed: {said.decode()}")
    return time.perf_counter() - began, usage.ru_maxrss


def main() -> None:
    mebibytes = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    base = sys.argv[2] if len(sys.argv) > 2 else None
    program = str(Path(sys.executable).parent / "sastrugi")
    with tempfile.TemporaryDirectory(dir=base) as name:
        work = Path(name)
        fill(work / "files", mebibytes)
        first_blocks: dict[str, int] = {}
        for size, file_system in MEDIA:
            (work / "r.toml").write_text(RECIPE.format(size=size, file_system=file_system), "utf-8")
            copies, builds, peak, blocks = [], [], 0, 0
            for _ in range(RUNS):
                shutil.rmtree(work / "copy", ignore_errors=True)
                shutil.rmtree(work / "s", ignore_errors=True)
                os.sync()
                copies.append(measure("cp", "-r", str(work / "files"), str(work / "copy"))[0])
                shutil.rmtree(work / "copy")
                os.sync()
                seconds, memory = measure(program, "build", str(work / "r.toml"), "--into", str(work / "s"))
                builds.append(seconds)
                peak = max(peak, memory)
                blocks = (work / "s" / "medium.img").stat().st_blocks * 512
            first = first_blocks.setdefault(file_system, blocks)
            took, copy = statistics.median(builds), statistics.median(copies)
            print(
                f"{mebibytes} MiB of files on {size:>6} {file_system:6} {took:6.2f} s   {took / copy:5.2f} x cp   "
                f"{peak / 1024:4.0f} MiB   {blocks / first:5.3f} x blocks",
                flush=True,
            )


if __name__ == "__main__":
    main()
