"""How fast a scan is, as ratios against `cat` and `sha256sum` of the same image in the same run, and its peak memory.

    python benchmarks/scan_speed.py [--folder DIR]

Two images without any file in them (256 MiB and 1 GiB of noise: few hits) and one FAT32 image full of deleted files
are made, read once so that they are in the page cache, and measured three times each; the medians are printed.
"""

from __future__ import annotations

import argparse
import datetime as dt
import multiprocessing
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sastrugi.kinds import all_kinds
from sastrugi.media.raw import RawImage
from sastrugi.scenario.dice import Dice
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.write import FatWriter

RUNS = 3
MIB = 1 << 20


def noise_image(path: Path, mebibytes: int) -> Path:
    with path.open("wb") as file:
        for _ in range(mebibytes):
            file.write(os.urandom(MIB))
    return path


def full_card(path: Path, mebibytes: int) -> Path:
    """A FAT32 card filled to nine tenths with made-up files of every kind, every second one deleted."""
    when = dt.datetime(2031, 2, 3)
    image = RawImage(path, mebibytes * MIB)
    writer = FatWriter(image, plan(0, image.size, 32, 4096), "FULL", 1, when)
    kinds = [kind for kind in all_kinds().values() if kind.make]
    samples = {kind.name: kind.make(Dice(kind.name), 600_000) for kind in kinds if kind.make}
    number = 0
    while writer.clusters.free * writer.cluster_size > image.size // 10:
        kind = kinds[number % len(kinds)]
        folder = f"/DCIM/{100 + number // 200}FIRN"
        writer.make_folder(folder, when)
        path_in = f"{folder}/FRN{number:05d}.{kind.extensions[0][:3].upper()}"
        content = samples[kind.name]
        node = writer.store(path_in, len(content), [content], when)
        if number % 2:
            writer.delete(node, when)
        number += 1
    writer.flush()
    image.sync()
    image.close()
    return path


def measure(*words: str) -> tuple[float, int]:
    """Seconds and peak memory in KiB of a whole process."""
    began = time.perf_counter()
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{' '.join(words)} failed")
    return time.perf_counter() - began, usage.ru_maxrss


def report(name: str, image: Path) -> None:
    program = Path(sys.executable).parent / "sastrugi"
    scan_file = image.with_suffix(".scan")
    rows: dict[str, list[tuple[float, int]]] = {"cat": [], "sha256sum": [], "scan": []}
    measure("cat", str(image))
    for _ in range(RUNS):
        rows["cat"].append(measure("cat", str(image)))
        rows["sha256sum"].append(measure("sha256sum", str(image)))
        scan_file.unlink(missing_ok=True)
        rows["scan"].append(measure(str(program), "scan", str(image), "--out", str(scan_file)))
    seconds = {key: statistics.median(s for s, _ in runs) for key, runs in rows.items()}
    memory = max(kib for _, kib in rows["scan"]) / 1024
    with sqlite3.connect(scan_file) as database:
        inside = float(database.execute("SELECT value FROM scan WHERE key = 'seconds'").fetchone()[0])
    rate = image.stat().st_size / inside / 1e9
    print(
        f"{name:28} {seconds['scan']:6.2f} s, the scan itself {inside:.2f} s ({rate:.2f} GB/s)   "
        f"{seconds['scan'] / seconds['cat']:6.1f} x cat   "
        f"{seconds['scan'] / seconds['sha256sum']:5.2f} x sha256sum   peak {memory:.0f} MiB"
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--folder", type=Path, default=None)
    with tempfile.TemporaryDirectory(dir=parser.parse_args().folder) as name:
        folder = Path(name)
        report("256 MiB of noise", noise_image(folder / "a.img", 256))
        report("1 GiB of noise", noise_image(folder / "b.img", 1024))
        # In a process of its own: what a parent holds counts as the peak memory of its children.
        making = multiprocessing.get_context("spawn").Process(target=full_card, args=(folder / "c.img", 1024))
        making.start()
        making.join()
        report("1 GiB card, half deleted", folder / "c.img")


if __name__ == "__main__":
    main()
