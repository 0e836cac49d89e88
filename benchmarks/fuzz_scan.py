"""Scan media with bytes changed at random, of every file system: no traceback, no hang, no memory over the bound.

python benchmarks/fuzz_scan.py [rounds] [seed]
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RECIPES = (
    "whole-folder",
    "by-turns",
    "emptied-bin-old",
    "quick-format",
    "other-file-system",
    "two-volumes",
    "growing-logs",
)
MOST_SECONDS, MOST_MIB = 10.0, 300


def mutate(image: Path, dice: random.Random) -> None:
    """Change single bytes and short runs, in the first MiB more often than elsewhere; sometimes move a block."""
    size = image.stat().st_size
    with image.open("r+b") as file:
        for _ in range(dice.choice((1, 20, 400, 3000))):
            at = dice.randrange(dice.choice((1 << 20, 8 << 20, size)))
            file.seek(min(at, size - 1))
            if dice.random() < 0.05:
                block = file.read(4096)
                file.seek(dice.randrange(size) // 512 * 512)
                file.write(block)
            else:
                file.write(dice.randbytes(dice.choice((1, 1, 2, 4, 32))))
        file.truncate(size)


def main() -> None:
    rounds, seed = (int(word) for word in (sys.argv[1:3] if len(sys.argv) > 2 else ("70", "1")))
    dice = random.Random(seed)
    program = str(Path(sys.executable).parent / "sastrugi")
    slowest, largest = 0.0, 0
    with tempfile.TemporaryDirectory() as name:
        work = Path(name)
        for recipe in RECIPES:
            subprocess.run([program, "build", recipe, "--into", str(work / recipe)], check=True, capture_output=True)
        for number in range(rounds):
            image, scan_file = work / "m.img", work / "m.scan"
            shutil.copyfile(work / dice.choice(RECIPES) / "medium.img", image)
            mutate(image, dice)
            scan_file.unlink(missing_ok=True)
            words = [program, "scan", str(image), "--out", str(scan_file), "--as-is"]
            began = time.monotonic()
            with (work / "said").open("wb") as said:
                process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=said)
                _, status, usage = os.wait4(process.pid, 0)
            took, code = time.monotonic() - began, os.waitstatus_to_exitcode(status)
            slowest, largest = max(slowest, took), max(largest, usage.ru_maxrss // 1024)
            text = (work / "said").read_text("utf-8", "replace")
            if code not in (0, 2, 3) or "fault of Sastrugi" in text or took > MOST_SECONDS or largest > MOST_MIB:
                raise SystemExit(
                    f"round {number} of seed {seed}: status {code}, {took:.1f} s, {largest} MiB: {text[-400:]}"
                )
    print(f"{rounds} rounds: slowest {slowest:.1f} s, most memory {largest} MiB")


if __name__ == "__main__":
    main()
