"""Where the time of a scan goes: seconds by pass on eight media, beside `cat` and the start of the program.

python benchmarks/scan_profile.py [--markdown]

The media are built from recipes, read once so that they are in the page cache, and scanned three times in this process;
the run with the median total is shown.
"""

from __future__ import annotations

import subprocess
import tempfile
import time
from collections import defaultdict
from pathlib import Path
from typing import Any

from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.scan import scan
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe

RUNS = 3
PASSES = ("1/6 layout", "2/6 tables", "3/6 relics", "4/6 journals", "5/6 pieces", "6/6 content")


def store(files: int, size: str, **more: Any) -> dict[str, Any]:
    return {"do": "store", "into": "/Season", "corpus": {"files": files, "size": size, "depth": 1, **more}}


DELETE: dict[str, Any] = {"do": "delete", "what": ["/Season"], "share": 1.0, "acts_as": "linux"}
MEDIA: dict[str, tuple[str, str, str, list[dict[str, Any]]]] = {
    "camera card, FAT32, formatted": ("256 MiB", "fat32", "2 KiB", [
        store(400, "100 KiB..800 KiB", kinds=["jpeg", "mp4"]),
        {"do": "format", "file_system": "fat32", "cluster": "2 KiB"},
    ]),
    "logger, exFAT, 10,000 small files deleted": ("128 MiB", "exfat", "4 KiB", [
        store(10_000, "1 KiB..4 KiB", kinds=["csv", "txt"]), DELETE,
    ]),
    "logger, FAT16, all in 4 pieces, formatted": ("96 MiB", "fat16", "4 KiB", [
        store(150, "40 KiB..300 KiB", kinds=["wav", "csv", "png"]) | {"pieces": 4, "gaps": "interleaved"},
        {"do": "format", "file_system": "fat16", "cluster": "4 KiB"},
    ]),
    "base-camp disk, NTFS, deleted": ("256 MiB", "ntfs", "4 KiB", [store(3000, "1 KiB..60 KiB"), DELETE]),
    "server, ext4, deleted": ("256 MiB", "ext4", "4 KiB", [store(3000, "1 KiB..60 KiB"), DELETE]),
    "editing disk, HFS+, deleted": ("256 MiB", "hfs+", "4 KiB", [store(1500, "1 KiB..100 KiB"), DELETE]),
    "card under another file system": ("192 MiB", "exfat", "8 KiB", [
        store(500, "20 KiB..400 KiB"), {"do": "format", "file_system": "fat32", "cluster": "1 KiB"},
    ]),
    "wiped with noise": ("256 MiB", "fat32", "2 KiB", [{"do": "wipe", "what": "free", "fill": "noise"}]),
}  # fmt: skip


class PassClock(Progress):
    """Seconds of each pass, by what the scan says it is at."""

    def __init__(self) -> None:
        self.stop_asked = False
        self.seconds: defaultdict[str, float] = defaultdict(float)
        self._since = time.perf_counter()
        self._stage = ""

    @property
    def stage(self) -> str:
        return self._stage

    @stage.setter
    def stage(self, name: str) -> None:
        now = time.perf_counter()
        self.seconds[self._stage] += now - self._since
        self._stage, self._since = name, now


def recipe(name: str) -> Recipe:
    size, file_system, cluster, steps = MEDIA[name]
    form = {"do": "format", "file_system": file_system, "cluster": cluster}
    return Recipe.model_validate(
        {"recipe": 1, "name": "m", "title": name, "seed": 3, "medium": {"size": size}, "steps": [form, *steps]}
    )


def main() -> None:
    print(
        "| medium | findings | `cat` | scan | layout | tables | relics | journals | pieces | content |\n|---|"
        + "---:|" * 9
    )
    for name in MEDIA:
        with tempfile.TemporaryDirectory() as folder:
            at = Path(folder)
            build(recipe(name), at / "s", Progress())
            began = time.perf_counter()
            subprocess.run(["cat", at / "s" / "medium.img"], stdout=subprocess.DEVNULL, check=True)
            cat = time.perf_counter() - began
            runs = []
            for _ in range(RUNS):
                clock = PassClock()
                with open_medium(at / "s") as medium:
                    result = scan(medium, at / "scan", clock, replace=True)
                clock.stage = "end"
                runs.append((result.seconds, clock.seconds, sum(result.findings.values())))
            seconds, by_pass, findings = sorted(runs, key=lambda run: run[0])[RUNS // 2]
            parts = " | ".join(f"{by_pass[one]:.2f}" for one in PASSES)
            print(f"| {name} | {findings:,} | {cat:.2f} | {seconds:.2f} | {parts} |", flush=True)


if __name__ == "__main__":
    main()
