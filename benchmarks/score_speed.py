"""How fast scoring is, as ratios against `cat` of the same results in the same run, and its peak memory.

    python benchmarks/score_speed.py [--files 5000] [--folder DIR]

A specimen of noise files is built, scanned and extracted; results are scored as they came back (all exact), with every
tenth one damaged (so that witnesses are asked), the scan by its extents, and with one byte wrong in each. Medians of
three runs, all in the page cache.
"""

from __future__ import annotations

import argparse
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RUNS = 3
RECIPE = """recipe = 1
name = "score-bench"
title = "Noise"
seed = 1
medium.size = "{size} MiB"
steps = [
    {{do = "format", file_system = "fat32", cluster = "4 KiB"}},
    {{do = "store", folder = "mine"}},
    {{do = "delete", what = ["*"]}},
]
"""


def run(*words: str, cwd: Path, code: int = 0) -> tuple[float, int]:
    """Seconds and peak memory in KiB of a whole process."""
    began = time.perf_counter()
    process = subprocess.Popen(words, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status) != code:
        raise SystemExit(f"{' '.join(words)} failed")
    return time.perf_counter() - began, usage.ru_maxrss


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--files", type=int, default=5000)
    parser.add_argument("--folder", type=Path, default=None)
    given = parser.parse_args()
    program = str(Path(sys.executable).parent / "sastrugi")
    with tempfile.TemporaryDirectory(dir=given.folder) as name:
        work, dice, total = Path(name), random.Random(1), 0
        for n in range(given.files):
            path = work / "mine" / f"{n // 100:03d}" / f"core section {n:05d}.bin"
            path.parent.mkdir(parents=True, exist_ok=True)
            size = dice.randrange(20_000, 400_000)
            path.write_bytes(os.urandom(size))
            total += size
        (work / "r.toml").write_text(RECIPE.format(size=total * 5 // 4 >> 20))
        run(program, "build", "r.toml", "--into", "s", cwd=work)
        run(program, "scan", "s", "--out", "s.scan", cwd=work)
        run(program, "extract", "s.scan", "--into", "results", cwd=work)
        cats = [run("sh", "-c", "find results -type f -exec cat {} +", cwd=work)[0] for _ in range(RUNS + 1)]
        cat = statistics.median(cats[1:])
        report("exact results", program, "results", work, cat, total)
        for path in sorted((work / "results").rglob("*.bin"))[::10]:
            with path.open("r+b") as file:
                file.seek(path.stat().st_size // 2)
                file.write(bytes(700))
        report("every tenth damaged", program, "results", work, cat, total)
        report("a scan, by extents", program, "s.scan", work, cat, total)
        for path in sorted((work / "results").rglob("*.bin")):
            with path.open("r+b") as file:
                file.seek(dice.randrange(path.stat().st_size))
                byte = file.read(1)
                file.seek(-1, os.SEEK_CUR)
                file.write(bytes([byte[0] ^ 1]))
        report("one byte wrong in each", program, "results", work, cat, total)


def report(what: str, program: str, results: str, work: Path, cat: float, total: int) -> None:
    runs = [run(program, "score", "s", results, "--limit", "1", "--replace", cwd=work) for _ in range(RUNS)]
    seconds, memory = statistics.median(s for s, _ in runs), max(kib for _, kib in runs) >> 10
    rate = total / seconds / 1e6
    print(f"{what:22} {seconds:6.2f} s  {rate:6.0f} MB/s  {seconds / cat:5.1f} x cat  peak {memory} MiB")


if __name__ == "__main__":
    main()
