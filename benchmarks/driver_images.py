"""How many real files come back that a real driver wrote, several at a time, and that were lost then.

python benchmarks/driver_images.py FOLDER [FOLDER ...] [--file-systems fat32 ext4 …] [--losses deleted formatted]
    [--size 120] [--files 295] [--writers 4] [--seed 1] [--kept DIR]

Takes files of the folders at random, and weaves them into a volume that the system's own tool formatted, by the driver
in a user-mode kernel: up to so many files are open, and one of them, by chance, is appended to at a time. Then six in
ten are deleted by the driver, or the volume is formatted again. Prints what `sastrugi scan` and `extract` bring back
(by digests of whole files), how many of these have their name, the processor time of the scan, and what does not come
back, by type. With `--kept`, images and scans stay there. Needs what tests against real drivers need
(docs/howto/real-drivers.md).
"""

from __future__ import annotations

import argparse
import hashlib
import json
import random
import resource
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests import judges

CLUSTERS = {"ext2": 1024, "ext3": 1024}
CLUSTER = 4096
SMALLEST, LARGEST, MOST_OF_A_TYPE, FILLED, DELETED = 1500, 3_000_000, 30, 0.6, 0.58
FOLDERS = ("", "DCIM", "DCIM/100FIRN", "notes", "notes/season", "notes/season/core-12", "sound", "camp", "camp/plans")
FORBIDDEN = str.maketrans(dict.fromkeys('\\/:*?"<>|', "_"))
WEAVE = """
import json, os, random, sys, time
plan = json.load(open(sys.argv[1]))
dice, waiting, opened = random.Random(plan["seed"]), plan["files"], []
for folder in plan["folders"]:
    os.makedirs(folder or ".", exist_ok=True)
while waiting or opened:
    while waiting and len(opened) < plan["writers"]:
        source, target = waiting.pop(0)
        opened.append((open(source, "rb"), open(target, "wb", buffering=0)))
    source, target = one = dice.choice(opened)
    chunk = source.read(dice.randrange(4 << 10, 1 << dice.randrange(13, 20)) if plan["writers"] > 1 else -1)
    if chunk:
        target.write(chunk)
    else:
        source.close()
        target.close()
        opened.remove(one)
os.sync()
time.sleep(1)  # what is deleted later is in another transaction
for path in plan["deleted"]:
    os.remove(path)
"""


class Lost(NamedTuple):
    """A file that was lost: its path on the volume, and its SHA-256."""

    path: str
    digest: str


def some_files(folders: list[Path], count: int, room: int, dice: random.Random) -> list[Path]:
    """Files at random, of each type not too many."""
    paths = (path for folder in folders for path in sorted(folder.rglob("*")))
    every = [path for path in paths if path.is_file() and not path.is_symlink()]
    dice.shuffle(every)
    types: Counter[str] = Counter()
    out: list[Path] = []
    for path in every:
        size = path.stat().st_size
        if SMALLEST < size < min(LARGEST, room) and types[path.suffix] < MOST_OF_A_TYPE:
            types[path.suffix] += 1
            room -= size
            out.append(path)
            if len(out) == count:
                break
    return out


def make_image(image: Path, file_system: str, loss: str, files: list[Path], told: argparse.Namespace) -> list[Lost]:
    """The image of a volume that files were written to, and lost from."""
    dice, work = random.Random(told.seed), image.parent
    placed = [
        (str(path), "/".join(filter(None, (dice.choice(FOLDERS), f"{n:04d} {path.name}".translate(FORBIDDEN)))))
        for n, path in enumerate(files)
    ]
    deleted = dice.sample(placed, int(len(placed) * DELETED)) if loss == "deleted" else []
    plan = {
        "seed": told.seed, "files": placed, "folders": FOLDERS, "writers": told.writers,
        "deleted": [path for _, path in deleted],
    }  # fmt: skip
    (work / "plan.json").write_text(json.dumps(plan))
    (work / "weave.py").write_text(WEAVE)
    cluster = CLUSTERS.get(file_system, CLUSTER)
    judges.make_volume(image, told.size << 20, file_system, cluster)
    judges.linux(image, f"/usr/bin/python3 {work}/weave.py {work}/plan.json", work, file_system=file_system)
    if loss == "formatted":
        judges.format_over(image, file_system, cluster)
    lost = deleted or placed
    return [Lost(path, hashlib.sha256(Path(source).read_bytes()).hexdigest()) for source, path in lost]


def brought_back(image: Path, lost: list[Lost]) -> str:
    """What a scan of the image finds of what was lost, in one line, and what it does not find."""
    scan, results = image.with_suffix(".scan"), image.parent.parent / f"{image.parent.name}.results"
    before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime
    subprocess.run(["sastrugi", "scan", image, "--out", scan], check=True, capture_output=True)
    seconds = resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime - before
    subprocess.run(["sastrugi", "extract", scan, "--into", results], check=True, capture_output=True)
    names: dict[str, set[str]] = {}
    for path in results.rglob("*"):
        if path.is_file():
            names.setdefault(hashlib.sha256(path.read_bytes()).hexdigest(), set()).add(path.name)
    shutil.rmtree(results)
    intact = [one for one in lost if one.digest in names]
    named = sum(Path(one.path).name in names[one.digest] for one in intact)
    missed = Counter(Path(one.path).suffix or "none" for one in lost if one.digest not in names)
    types = " ".join(f"{kind} {count}" for kind, count in missed.most_common(12))
    share = 100 / max(len(lost), 1)
    return (
        f"{len(intact):4d} of {len(lost):4d} = {len(intact) * share:5.1f} %, {named:4d} of them named, "
        f"{seconds:5.1f} s; missed: {types or 'none'}"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n", 1)[0])
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--file-systems", nargs="+", default=["fat32", "exfat", "ntfs", "ext4", "ext3", "ext2", "hfs+"])
    parser.add_argument("--losses", nargs="+", default=["deleted", "formatted"], choices=["deleted", "formatted"])
    parser.add_argument("--size", type=int, default=120, help="MiB of the volume")
    parser.add_argument("--files", type=int, default=295)
    parser.add_argument("--writers", type=int, default=4)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kept", type=Path, help="folder in which images and scans stay")
    told = parser.parse_args()
    room = int(FILLED * (told.size << 20))
    files = some_files(told.folders, told.files, room, random.Random(told.seed))
    print(f"{len(files)} files of {len({path.suffix for path in files})} types, {told.writers} at a time")
    with tempfile.TemporaryDirectory() as temporary:
        for file_system in told.file_systems:
            for loss in told.losses:
                folder = (told.kept or Path(temporary)).resolve() / f"{file_system}-{loss}"
                folder.mkdir(parents=True)
                image = folder / "image.img"
                lost = make_image(image, file_system, loss, files, told)
                print(f"{file_system:6s} {loss:9s} {brought_back(image, lost)}", flush=True)
                if told.kept is None:
                    shutil.rmtree(folder)


if __name__ == "__main__":
    main()
