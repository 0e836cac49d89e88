"""Count how often findings are whole files, by their evidence, over random specimens; the table that scans state by.

python benchmarks/calibrate.py [specimens] [seed]            writes src/sastrugi/recovery/calibration.json
python benchmarks/calibrate.py [specimens] [seed] --check    states by the table there is, and prints how true that is

Specimens are of every file system and every loss, in pieces and whole, with and without use afterwards; some of their
recipes cannot be carried out and are left out.
"""

from __future__ import annotations

import hashlib
import json
import random
import sys
import tempfile
from collections import Counter, defaultdict
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import sastrugi.recovery
from sastrugi.errors import SastrugiError
from sastrugi.kinds import all_kinds
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.calibration import KEPT, tells_all, words_of
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.scoring.calibration import calibrate
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe
from sastrugi.specimen.truth import Specimen

TABLE = Path(sastrugi.recovery.__file__).parent / "calibration.json"
SIZES = {
    "fat12": (12, ["4 KiB", "8 KiB"]), "fat16": (62, ["2 KiB", "4 KiB", "8 KiB"]), "fat32": (96, ["512 B", "1 KiB"]),
    "exfat": (96, ["1 KiB", "4 KiB", "8 KiB"]), "ntfs": (64, ["1 KiB", "4 KiB"]), "ext4": (64, ["1 KiB", "4 KiB"]),
    "ext2": (48, ["1 KiB"]), "hfs+": (64, ["4 KiB"]),
}  # fmt: skip
GUESSED = ["fat12", "fat16", "fat32", "exfat"]
LOSSES = ["delete", "delete", "format", "other", "drop", "bin", "boot"]


def random_recipe(seed: int) -> Recipe:
    """A recipe of one volume: two to four stores, one loss, and sometimes use."""
    dice = random.Random(seed)
    file_system = dice.choice(GUESSED if dice.random() < 0.7 else list(SIZES))
    mib, clusters = SIZES[file_system]
    cluster, acts_as = dice.choice(clusters), dice.choice(["linux", "windows"])
    form: dict[str, Any] = {"do": "format", "file_system": file_system, "cluster": cluster, "label": "HARD"}
    steps: list[dict[str, Any]] = [{"do": "partition", "volumes": [{"name": "card"}]}, form]
    files, stores = dice.randint(60, 160), dice.randint(2, 4)
    largest = max(min(int(mib * 1024 * 0.5 / files * 1.8), 400), 8)
    made = [kind.name for kind in all_kinds().values() if kind.make]
    for n in range(stores):
        corpus = {
            "files": files // stores, "kinds": dice.sample(made, dice.randint(3, 8)), "size": f"1 KiB..{largest} KiB",
            "names": dice.choice(["camera", "long", "accented", "plain"]), "depth": dice.choice([0, 1, 2]),
            "first_number": n * 500,
        }  # fmt: skip
        store = {
            "do": "store",
            "into": f"/Part {n}",
            "corpus": corpus,
            "reuse": dice.choice(["next", "first", "spread"]),
        }
        pieces = dice.choice([1, 1, 1, 2, 3, 4, 6])
        steps.append(
            store | ({"pieces": pieces, "gaps": dice.choice(["fillers", "interleaved"])} if pieces > 1 else {})
        )
    loss = dice.choice(LOSSES)
    if loss == "delete":
        share = dice.choice([0.5, 1.0])
        steps.append({"do": "delete", "what": ["/Part*/*"], "share": share, "acts_as": acts_as})
    elif loss == "bin":
        steps.append({"do": "bin", "what": ["/Part*/*"], "share": 0.7, "acts_as": "windows"})
        steps += [{"do": "empty-bin", "acts_as": "windows"}] if dice.random() < 0.7 else []
    elif loss in ("format", "other"):
        new = file_system if loss == "format" else dice.choice(["fat32", "exfat", "ntfs"])
        steps.append({"do": "format", "file_system": new} | ({"cluster": cluster} if new == file_system else {}))
    else:
        steps.append({"do": "drop-partition"} if loss == "drop" else {"do": "damage", "what": "boot"})
    if loss not in ("drop", "boot") and dice.random() < 0.6:
        write = max(mib * dice.choice([10, 40, 80]) // 400, 1)
        steps.append({
            "do": "churn", "write": f"{write} MiB", "delete": "0 B", "size": "4 KiB..200 KiB",
            "reuse": dice.choice(["first", "next"]),
        })  # fmt: skip
    medium = {"size": f"{mib + 2} MiB"}
    return Recipe.model_validate(
        {"recipe": 1, "name": f"c{seed}", "title": "c", "seed": seed, "medium": medium, "steps": steps}
    )


def findings_of(seed: int, restate: bool) -> list[tuple[str, str, float, bool]]:
    """Of every finding of one specimen that is not live: its evidence, wide and exact, what is stated, whether it is a
    whole file that was there."""
    with tempfile.TemporaryDirectory() as folder:
        at = Path(folder)
        try:
            build(random_recipe(seed), at / "s", Progress(), sha256=True)
        except SastrugiError:
            return []
        with Specimen(at / "s") as specimen, open_medium(at / "s") as medium:
            scan(medium, at / "scan", Progress(), restate=restate)
            whole = {(file.size, file.sha256) for file in specimen.truth.files}
            with ScanFile.open(at / "scan") as found:
                tells = {volume.number for volume in found.volumes() if tells_all(volume.file_system)}
                return list(_counted(found, medium, tells, whole))


def _counted(
    found: ScanFile, medium: Any, tells: set[int], whole: set[tuple[int, str]]
) -> Iterator[tuple[str, str, float, bool]]:
    for one in found.findings("state != 'live' AND size > 0"):
        data = hashlib.sha256(one.map.read(medium, 0, one.size)).hexdigest() if one.size <= 64 << 20 else ""
        keys = words_of(one.volume in tells, one.state, one.kind, len(one.extents), one.confidence)
        yield (*keys, one.confidence, (one.size, data) in whole)


def main() -> None:
    words = [word for word in sys.argv[1:] if not word.startswith("-")]
    specimens, seed = int(words[0]) if words else 200, int(words[1]) if len(words) > 1 else 1
    check = "--check" in sys.argv
    table: defaultdict[str, list[int]] = defaultdict(lambda: [0, 0])
    stated: list[tuple[float, bool]] = []
    made = Counter[bool]()
    with ProcessPoolExecutor() as pool:
        numbers = range(seed * 100_000, seed * 100_000 + specimens)
        for findings in pool.map(partial(findings_of, restate=check), numbers):
            made[bool(findings)] += 1
            for exact, wide, sure, right in findings:
                stated.append((sure, right))
                for key in (exact, wide) if sure > KEPT else ():
                    table[key][0] += 1
                    table[key][1] += right
    result = calibrate(stated)
    assert result is not None
    print(
        f"{made[True]} specimens, {len(stated):,} findings, Brier score {result.brier:.3f}, gap {result.mean_gap:.3f}"
    )
    for one in result.bins:
        told = f"stated {one.stated:.2f}, true {one.intact:.2f}"
        print(f"  {one.low:.1f} to {one.high:.1f}: {one.count:6,} findings, {told}")
    if not check:
        counted = dict(sorted(table.items()))
        about = f"python benchmarks/calibrate.py {specimens} {seed}"
        TABLE.write_text(json.dumps({"made_by": about, "counted": counted}, indent=0) + "\n")


if __name__ == "__main__":
    main()
