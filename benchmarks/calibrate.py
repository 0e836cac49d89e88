"""Fit what each sign of a finding weighs, over random specimens of every file system and every loss.

python benchmarks/calibrate.py [specimens] [seed]            writes src/sastrugi/recovery/weights.json
python benchmarks/calibrate.py [specimens] [seed] --check    weighs by the table there is, and prints how true that is
                                                  --again    of the findings of the last run, which are kept

Some recipes cannot be carried out and are left out. Each specimen counts alike, however many findings it gives, but for
small ones: so no single large one decides.
"""

from __future__ import annotations

import hashlib
import json
import math
import pickle
import random
import sys
import tempfile
from collections import Counter, defaultdict
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from scipy.optimize import minimize
from scipy.sparse import csr_matrix

import sastrugi.recovery
from sastrugi.errors import SastrugiError
from sastrugi.kinds import all_kinds
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.weighing import AGAINST, FOR, KEPT, Beside, prepared, signs, told_of, weights
from sastrugi.scoring.calibration import calibrate
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe
from sastrugi.specimen.truth import Specimen

TABLE = Path(sastrugi.recovery.__file__).parent / "weights.json"
SIZES = {
    "fat12": (12, ["4 KiB", "8 KiB"]), "fat16": (62, ["2 KiB", "4 KiB", "8 KiB"]), "fat32": (96, ["512 B", "1 KiB"]),
    "exfat": (96, ["1 KiB", "4 KiB", "8 KiB"]), "ntfs": (64, ["1 KiB", "4 KiB"]), "ext4": (64, ["1 KiB", "4 KiB"]),
    "ext3": (48, ["1 KiB", "4 KiB"]), "ext2": (48, ["1 KiB", "4 KiB"]), "hfs+": (64, ["4 KiB"]),
    "hfsx": (48, ["4 KiB"]),
}  # fmt: skip
GUESSED = ["fat12", "fat16", "fat32", "exfat"]
LOSSES = (
    *["delete"] * 6, *["format"] * 4, *["other"] * 2, "drop", "bin", "boot", "tables", "discard", "full", "wipe-free",
    "wipe-free", "wipe-volume", "overlay", "fade", "mixed",
)  # fmt: skip
PENALTY = 0.4
"""How strongly weights are kept small (L2, per bit of a weight, with a specimen counting up to `ALIKE` findings)."""
ALIKE = 60
SPEAKS_FOR, SPEAKS_AGAINST = ("rules right", "right, ", "beside"), ("rules wrong", "wrong, ")
"""How signs begin that are not clues, and never weigh against a file, or never for it."""
LAST = Path(tempfile.gettempdir()) / "sastrugi-calibration"


class Seen(NamedTuple):
    """One finding: its signs, whether it is a whole file that was there, and what the specimen suffered."""

    signs: dict[str, float]
    right: bool
    loss: str
    worth: float


def random_recipe(seed: int) -> tuple[Recipe, str]:
    """A recipe of one volume: two to four stores, one loss, and sometimes use; and what loss that is."""
    dice = random.Random(seed)
    file_system = dice.choice(GUESSED if dice.random() < 0.5 else list(SIZES))
    mib, clusters = SIZES[file_system]
    cluster, acts_as = dice.choice(clusters), dice.choice(["linux", "windows", "macos", "old-linux"])
    form: dict[str, Any] = {"do": "format", "file_system": file_system, "cluster": cluster, "label": "HARD"}
    if file_system.startswith("ext"):
        form["acts_as"] = dice.choice(["linux", "old-linux"])
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
        store: dict[str, Any] = {"do": "store", "into": f"/Part {n}", "corpus": corpus}
        pieces = dice.choice([1, 1, 1, 2, 3, 4, 6])
        if dice.random() < 0.3:
            store |= {"writers": dice.randint(2, 4), "chunk": "4 KiB..256 KiB"}
        elif pieces > 1:
            store |= {"pieces": pieces, "gaps": dice.choice(["fillers", "interleaved"])}
            store["reuse"] = dice.choice(["next", "first", "spread"])
        steps.append(store)
    loss, fill = dice.choice(LOSSES), dice.choice(["zeros", "noise"])
    deletion = {"do": "delete", "what": ["/Part*/*"], "share": dice.choice([0.5, 1.0]), "acts_as": acts_as}
    again: dict[str, Any] = {"do": "format", "file_system": file_system, "cluster": cluster}
    steps += {
        "delete": [deletion],
        "mixed": [deletion | {"share": 0.4}, {"do": "churn", "write": f"{mib // 10} MiB", "delete": f"{mib // 12} MiB",
                                              "size": "4 KiB..200 KiB", "reuse": "first"}, deletion],
        "bin": [{"do": "bin", "what": ["/Part*/*"], "share": 0.7, "acts_as": "windows"},
                *([{"do": "empty-bin", "acts_as": "windows"}] if dice.random() < 0.7 else [])],
        "format": [again],
        "full": [again | {"how": "full"}],
        "other": [{"do": "format", "file_system": dice.choice(["fat32", "exfat", "ntfs", "ext4", "hfs+"])}],
        "discard": [dice.choice([deletion | {"discard": True}, again | {"discard": True}, deletion])]
        + ([{"do": "discard"}] if dice.random() < 0.5 else []),
        "wipe-free": [deletion, {"do": "wipe", "what": "free", "fill": fill}],
        "wipe-volume": [{"do": "wipe", "what": dice.choice(["volume", "medium"]), "fill": fill}],
        "overlay": [deletion, {"do": "overlay", "fill": fill, "at": f"{mib // 4} MiB",
                               "size": f"{dice.randint(1, mib // 3)} MiB"}],
        "fade": [deletion, {"do": "fade", "range": {"start": f"{mib // 8} MiB",
                                                    "size": f"{dice.randint(1, 64) * 64} KiB"}}],
        "tables": [{"do": "damage", "what": dice.choice(["root", "boot", "fat1", "mft", "inodes", "catalog"]),
                    "share": dice.choice([0.3, 1.0])}],
        "drop": [{"do": "drop-partition"}],
        "boot": [{"do": "damage", "what": "boot"}],
    }[loss]  # fmt: skip
    if loss in ("delete", "bin", "format", "other") and dice.random() < 0.6:
        write = max(mib * dice.choice([10, 40, 80]) // 400, 1)
        steps.append({
            "do": "churn", "write": f"{write} MiB", "delete": dice.choice(["0 B", f"{max(write // 2, 1)} MiB"]),
            "size": "4 KiB..200 KiB", "reuse": dice.choice(["first", "next"]),
        })  # fmt: skip
    medium = {"size": f"{mib + 2} MiB"}
    raw = {"recipe": 1, "name": f"c{seed}", "title": "c", "seed": seed, "medium": medium, "steps": steps}
    return Recipe.model_validate(raw), loss


def findings_of(seed: int) -> list[Seen]:
    """Every finding of one specimen that is not live and not stated by what cannot be otherwise."""
    with tempfile.TemporaryDirectory() as folder:
        at = Path(folder)
        recipe, loss = random_recipe(seed)
        try:
            build(recipe, at / "s", Progress(), sha256=True)
        except SastrugiError:
            return []
        with Specimen(at / "s") as specimen, open_medium(at / "s") as medium:
            scan(medium, at / "scan", Progress(), weigh=lambda _: None)
            whole = {(file.size, file.sha256) for file in specimen.truth.files}
            with ScanFile.open(at / "scan", for_writing=True) as found:
                told, beside = prepared(found)
                lost = [one for one in found.findings("state != 'live' AND size > 0") if one.confidence > KEPT]
                out = []
                for one in lost:
                    data = one.map.read(medium, 0, one.size) if one.size <= 64 << 20 else b""
                    clues = [piece.clue.value for piece in one.evidence]
                    mine = beside.get(one.volume, Beside())
                    seen = signs(
                        told_of(one.state, one.volume in told), one.kind, len(one.extents), clues,
                        round(one.confidence, 2), mine,
                    )  # fmt: skip
                    right = (one.size, hashlib.sha256(data).hexdigest()) in whole
                    out.append(Seen(seen, right, loss, min(1.0, ALIKE / len(lost))))
                return out


def fitted(seen: Sequence[Seen]) -> dict[str, float]:
    """The weights, in bits, that make what was seen likeliest while they stay small."""
    names = sorted({name for one in seen for name in one.signs})
    column = {name: n for n, name in enumerate(names)}
    rows = [(r, column[name], strength) for r, one in enumerate(seen) for name, strength in one.signs.items()]
    r, c, v = (np.array(part) for part in zip(*rows, strict=True))
    matrix = csr_matrix((v * math.log(2), (r, c)), shape=(len(seen), len(names)))
    right = np.array([one.right for one in seen], float)
    worth = np.array([one.worth for one in seen])

    def loss(bits: np.ndarray) -> tuple[float, np.ndarray]:
        odds = matrix @ bits
        cost = (worth * (np.logaddexp(0, odds) - right * odds)).sum() + PENALTY * (bits**2).sum() / 2
        off = worth * (1 / (1 + np.exp(-odds)) - right)
        return float(cost), matrix.T @ off + PENALTY * bits

    limits = [
        (
            0.0 if name in FOR or name.startswith(SPEAKS_FOR) else None,
            0.0 if name in AGAINST or name.startswith(SPEAKS_AGAINST) else None,
        )
        for name in names
    ]
    start = np.zeros(len(names))
    found = minimize(loss, start, jac=True, method="L-BFGS-B", bounds=limits, options={"maxiter": 5000})
    return {name: round(float(bits), 3) for name, bits in zip(names, found.x, strict=True) if abs(bits) >= 0.005}


def stated(one: Seen, bits: dict[str, float] | Any) -> float:
    total = sum(bits.get(name, 0.0) * strength for name, strength in one.signs.items())
    return min(max(1 / (1 + 2 ** -max(min(total, 60.0), -60.0)), 0.005), 0.995)


def main() -> None:
    words = [word for word in sys.argv[1:] if not word.startswith("-")]
    specimens, seed = int(words[0]) if words else 400, int(words[1]) if len(words) > 1 else 1
    seen: list[Seen] = []
    made = Counter[bool]()
    if "--again" in sys.argv:
        seen = pickle.loads(LAST.read_bytes())
    else:
        with ProcessPoolExecutor() as pool:
            for findings in pool.map(findings_of, range(seed * 100_000, seed * 100_000 + specimens)):
                made[bool(findings)] += 1
                seen += findings
        LAST.write_bytes(pickle.dumps(seen))
    bits = weights() if "--check" in sys.argv else fitted(seen)
    pairs = [(stated(one, bits), one.right) for one in seen]
    result = calibrate(pairs)
    assert result is not None
    print(f"{made[True]} specimens with findings, {len(seen):,} findings, Brier score {result.brier:.3f}, "
          f"gap {result.mean_gap:.3f}")  # fmt: skip
    for part in result.bins:
        print(f"  {part.low:.1f} to {part.high:.1f}: {part.count:6,} findings, stated {part.stated:.2f}, "
              f"true {part.intact:.2f}")  # fmt: skip
    by_loss: defaultdict[str, list[tuple[float, bool]]] = defaultdict(list)
    for one, pair in zip(seen, pairs, strict=True):
        by_loss[one.loss].append(pair)
    for loss, own in sorted(by_loss.items()):
        means = [sum(part) / len(own) for part in zip(*own, strict=True)]
        brier = sum((sure - right) ** 2 for sure, right in own) / len(own)
        print(f"  {loss:12} {len(own):6,} findings, stated {means[0]:.2f}, true {means[1]:.2f}, Brier {brier:.3f}")
    if "--check" not in sys.argv:
        about = f"python benchmarks/calibrate.py {specimens} {seed}"
        TABLE.write_text(json.dumps({"made_by": about, "bits": bits}, indent=0) + "\n")


if __name__ == "__main__":
    main()
