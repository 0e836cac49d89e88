"""Fit how well clusters go on one behind the other: of texts (recovery/text_seams.py), or of any bytes.

python benchmarks/seams.py FOLDER [FOLDER ...] [--seams 8000] [--seed 1] [--bytes]

Files of the folders are cut into clusters of 512 bytes to 8 KiB. For each true seam there are up to three others: with
a cluster of a file of its type, of any file, and of the file itself from elsewhere. Prints the weights in bits, how
many bits seams of each of these sorts come to, and how often a true one comes to more than another. `sastrugi corpus
make` makes files for a start; files of a running system bring more types.
"""

from __future__ import annotations

import argparse
import math
import random
from collections import defaultdict
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from sastrugi.recovery.byte_chains import ByteReading
from sastrugi.recovery.cluster_looks import IN_TEXT, packed_clusters
from sastrugi.recovery.text_seams import WEIGHTS, Seams, TextCluster

SIZES = (512, 1024, 2048, 4096, 8192)
MOST_OF_A_TYPE, SMALLEST, LARGEST = 30, 6000, 4 << 20
SORTS = ("true", "its type", "any file", "itself")
Seam = tuple[list[float], int]
"""What it shows, and which of SORTS it is."""


def files_of(folders: list[Path], text: bool, dice: random.Random) -> dict[str, list[bytes]]:
    """Some files of each type, by its extension: texts, or what is neither text nor packed."""
    paths: defaultdict[str, list[Path]] = defaultdict(list)
    for folder in folders:
        for path in sorted(folder.rglob("*")):
            if path.is_file() and not path.is_symlink() and SMALLEST < path.stat().st_size < LARGEST:
                paths[path.suffix.lower()].append(path)
    out: defaultdict[str, list[bytes]] = defaultdict(list)
    for kind, some in paths.items():
        for path in dice.sample(some, min(len(some), MOST_OF_A_TYPE)):
            data = path.read_bytes()
            values = np.frombuffer(data, np.uint8)
            rows = values[: len(values) // 4096 * 4096].reshape(-1, 4096)
            packed = bool(packed_clusters(rows).mean() > 0.5)
            if bool(IN_TEXT[values].all()) == text and (text or not packed):
                out[kind].append(data)
    return out


def clusters_of(data: bytes, size: int, dice: random.Random) -> list[bytes]:
    """Up to 40 in a row."""
    first = dice.randrange(max(len(data) // size - 40, 1))
    return [data[n * size : (n + 1) * size] for n in range(first, min(first + 40, len(data) // size))]


def seams_of(files: dict[str, list[bytes]], count: int, text: bool, dice: random.Random) -> Iterator[Seam]:
    """What true seams show, and others."""
    every = [data for some in files.values() for data in some]
    while count > 0:
        size = dice.choice(SIZES)
        own = dice.choice(dice.choice(list(files.values())))
        beside = next(some for some in files.values() if own in some)
        near = [clusters_of(data, size, dice) for data in (own, dice.choice(beside), dice.choice(every))]
        if min(map(len, near)) < 4 or near[1] == near[0]:
            continue
        shows = _shown_by(near, text)
        for _ in range(3):
            n = dice.randrange(len(near[0]) - 1)
            yield shows(near[0][n], near[0][n + 1]), 0
            for sort, others in ((1, near[1]), (2, near[2]), (3, near[0])):
                other = dice.randrange(len(others))
                if sort < 3 or other not in (n, n + 1):
                    yield shows(near[0][n], others[other]), sort
            count -= 1


def _shown_by(near: list[list[bytes]], text: bool) -> Callable[[bytes, bytes], list[float]]:
    if text:
        seams = Seams()
        for data in (data for some in near for data in some):
            seams.learn(TextCluster(data))
        names = [name for name in WEIGHTS if name != "base"]

        def shows(a: bytes, b: bytes) -> list[float]:
            told = seams.features(TextCluster(a), TextCluster(b))
            return [told.get(name, 0.0) for name in names]

        return shows
    reading = ByteReading(len(near[0][0]))

    def alike(a: bytes, b: bytes) -> list[float]:
        one, other = reading.apart(a), reading.apart(b)
        return [
            float(one[part] @ other[part] / math.sqrt(float((one[part] ** 2).sum() * (other[part] ** 2).sum())))
            for part in (slice(0, 256), slice(256, 512))
        ]

    return alike


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folders", nargs="+", type=Path)
    parser.add_argument("--seams", type=int, default=8000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--bytes", action="store_true")
    args = parser.parse_args()
    dice = random.Random(args.seed)
    files = files_of(args.folders, not args.bytes, dice)
    print(f"{sum(map(len, files.values())):,} files of {len(files):,} types")
    told = list(seams_of(files, args.seams, not args.bytes, dice))
    rows = np.array([[1.0, *shown] for shown, _ in told])
    sort = np.array([sort for _, sort in told])
    true = sort == 0
    weight = np.where(true, 1.0, true.mean() / (1 - true.mean()))  # as many true ones as others
    bits = np.zeros(rows.shape[1])
    for _ in range(50):  # Newton's method, with a little weight on small ones
        sure = 1 / (1 + np.exp(-np.clip(rows @ bits, -50, 50)))
        curve = (rows * (weight * sure * (1 - sure))[:, None]).T @ rows + np.eye(len(bits))
        bits += np.linalg.solve(curve, rows.T @ (weight * (true - sure)) - bits)
    bits /= math.log(2)
    names = ["bytes", "pairs"] if args.bytes else [name for name in WEIGHTS if name != "base"]
    print(", ".join(f'"{name}": {value:.1f}' for name, value in zip(["base", *names], bits, strict=True)))
    made = rows @ bits
    for n, name in enumerate(SORTS):
        part = np.percentile(made[sort == n], [10, 50, 90])
        over = (made[true][:3000, None] > made[sort == n][None, :3000]).mean() if n else 1.0
        bits_at = "   ".join(f"{share} %: {value:6.1f}" for share, value in zip((10, 50, 90), part, strict=True))
        print(f"{name:9} {bits_at}   below a true one: {over:.3f}")


if __name__ == "__main__":
    main()
