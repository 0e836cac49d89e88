"""How fast containers are read and written, as ratios against reading the raw image and against `cp` in the same run.

python benchmarks/container_speed.py [mebibytes] [folder]
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sastrugi.media import open_medium
from sastrugi.media.containers import writer_for
from sastrugi.media.convert import copy_medium
from sastrugi.progress import Progress

RUNS = 3
MIB = 1 << 20


def read_all(path: Path) -> float:
    began = time.perf_counter()
    with open_medium(path) as medium:
        for extent in medium.data_ranges():
            for at in range(extent.offset, extent.end, 4 * MIB):
                medium.read(at, min(4 * MIB, extent.end - at))
    return time.perf_counter() - began


def run(*words: str) -> float:
    began = time.perf_counter()
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def main() -> None:
    mebibytes = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    program = str(Path(sys.executable).parent / "sastrugi")
    with tempfile.TemporaryDirectory(dir=sys.argv[2] if len(sys.argv) > 2 else None) as name:
        work = Path(name)
        raw = work / "raw.img"
        with raw.open("wb") as file:
            for _ in range(mebibytes):
                file.write(os.urandom(MIB))
        for container, suffix in (("vhd", ".vhd"), ("qcow2", ".qcow2"), ("split", ".001")):
            target = work / f"image{suffix}"
            with open_medium(raw) as source:
                copy_medium(source, writer_for(container, target, source.size), Progress())
            times = [(read_all(raw), read_all(target)) for _ in range(RUNS)]
            plain, packed = (statistics.median(column) for column in zip(*times, strict=True))
            print(
                f"read {container:6} {mebibytes / packed:6.0f} MiB/s   {packed / plain:5.2f} x the time of raw",
                flush=True,
            )
            target.unlink()
        copies, captures = [], []
        for _ in range(RUNS):
            for out in (work / "copy.img", work / "captured.img"):
                out.unlink(missing_ok=True)
            os.sync()
            copies.append(run("cp", str(raw), str(work / "copy.img")))
            (work / "copy.img").unlink()
            os.sync()
            captures.append(run(program, "capture", str(raw), "--out", str(work / "captured.img")))
        copy, capture = statistics.median(copies), statistics.median(captures)
        print(f"capture     {mebibytes / capture:6.0f} MiB/s   {capture / copy:5.2f} x the time of cp")


if __name__ == "__main__":
    main()
