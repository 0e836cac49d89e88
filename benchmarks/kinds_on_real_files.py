"""How well the measures of kinds do on files that other programs wrote: the right length, too short, too long, broken.

python benchmarks/kinds_on_real_files.py FOLDER [FOLDER ...] [--list]

Every file below the folders whose name stands for a kind is opened with a library that is not ours, as `corpus check`
does. Those that open are laid down as on a medium, zeros up to the end of their last cluster and something else behind,
and measured as by a scan that knows nothing of their records. `--list` tells each that was not measured right.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import random
import signal
import sys
import warnings
from collections import Counter, defaultdict
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from sastrugi.kinds import all_kinds, kind_for_name, recognise
from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.registry import measuring_kind

CLUSTER, LARGEST, SMALLEST, SECONDS = 4096, 24 << 20, 64, 20
BEHIND = random.Random(1).randbytes(1 << 20)
WORDS = ("right", "too short", "too long", "breaks", "other kind", "unknown")


def measured(path: Path) -> tuple[str, str, str] | None:
    """Kind, how it was measured and the rule; None where a file does not open or its kind has no measure."""
    kind = kind_for_name(path.name)
    size = path.stat().st_size
    if kind is None or kind.check is None or not SMALLEST <= size <= LARGEST:
        return None
    measuring = measuring_kind(kind)
    if measuring.measure is None or measuring.bare:
        return None  # where a text ends only what is behind it tells
    signal.alarm(SECONDS)
    try:
        with contextlib.redirect_stderr(io.StringIO()), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            kind.check(path)
    except BaseException:
        return None
    finally:
        signal.alarm(0)
    data = path.read_bytes()
    measure = recognise(BytesSource(data + bytes(-size % CLUSTER) + BEHIND))
    if measure is None:
        return kind.name, "unknown", data[:16].hex(" ")
    found = all_kinds().get(measure.kind)
    if found is None or measuring_kind(found).name != measuring.name:
        return kind.name, "other kind", measure.kind
    if not measure.whole:
        return kind.name, "breaks", f"at {measure.breaks_at:,} of {size:,}: {measure.rule}"
    how = "right" if measure.length == size else "too short" if measure.length < size else "too long"
    return kind.name, how, f"{measure.length:,} of {size:,}: {measure.rule}"


def main() -> None:
    folders = [Path(word) for word in sys.argv[1:] if not word.startswith("--")]
    seen: set[bytes] = set()
    paths = []
    for path in sorted(path for folder in folders for path in folder.rglob("*")):
        if path.is_file() and not path.is_symlink() and kind_for_name(path.name) is not None:
            digest = hashlib.blake2b(path.read_bytes()).digest()
            if digest not in seen:
                seen.add(digest)
                paths.append(path)
    table: defaultdict[str, Counter[str]] = defaultdict(Counter)
    signal.signal(signal.SIGALRM, signal.default_int_handler)
    with ProcessPoolExecutor() as pool:
        for path, answer in zip(paths, pool.map(measured, paths, chunksize=16), strict=True):
            if answer is not None:
                kind, how, rule = answer
                table[kind][how] += 1
                if "--list" in sys.argv and how != "right":
                    print(f"{kind:10} {how:10} {path}: {rule}")
    print("| kind | files | " + " | ".join(WORDS) + " |\n|---|---:|" + "---:|" * len(WORDS))
    for kind, counts in [*sorted(table.items()), ("all", sum(table.values(), Counter()))]:
        print(f"| {kind} | {counts.total():,} | " + " | ".join(f"{counts[word]:,}" for word in WORDS) + " |")


if __name__ == "__main__":
    main()
