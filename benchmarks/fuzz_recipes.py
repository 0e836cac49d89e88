"""Change recipes at random and build them: each is laid down, or refused in one line.

    python benchmarks/fuzz_recipes.py [--rounds 1000] [--seed 1]

What breaks is printed with its seed. Leaves with 1 if there was a fault.
"""

from __future__ import annotations

import argparse
import random
import shutil
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import tomli_w

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.harm import changed_recipe
from tests.warm import WarmProgram

MOST_SECONDS, MOST_BYTES, MOST_ON_DISK = 40.0, 500 << 20, 1 << 30


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=1)
    call = parser.parse_args()
    program = WarmProgram(str(Path(sys.executable).parent / "sastrugi"))
    counts: Counter[str] = Counter()
    slowest, most, faults = 0.0, 0, 0
    with tempfile.TemporaryDirectory() as at:
        for number in range(call.rounds):
            here, told = Path(at, "here"), Path(at, "told")
            here.mkdir()
            told.mkdir(exist_ok=True)
            (here / "r.toml").write_text(tomli_w.dumps(changed_recipe(random.Random(f"{call.seed} {number}"))))
            began = time.monotonic()
            try:
                code, _, err = program.run(["build", "r.toml", "--into", "made"], here, told)
            except (OSError, ValueError):
                code, err = -1, "no end"
            took = time.monotonic() - began
            slowest, most = max(slowest, took), max(most, program.memory)
            counts[f"left with {code}"] += 1
            names = {path.name for path in here.iterdir()}
            taken = sum(path.lstat().st_blocks * 512 for path in here.rglob("*"))
            bad = code not in (0, 2) or "fault of Sastrugi" in err or "Errno" in err or names - {"r.toml", "made"}
            if bad or took > MOST_SECONDS or program.memory > MOST_BYTES or taken > MOST_ON_DISK:
                faults += 1
                print(f"round {number} of seed {call.seed}: status {code}, {took:.1f} s, {program.memory >> 20} MiB, "
                      f"{taken >> 20} MiB on disk, {sorted(names)}: {err[-300:]}", flush=True)  # fmt: skip
            shutil.rmtree(here)
    program.close()
    print(f"{dict(counts)}, slowest {slowest:.1f} s, most memory {most >> 20} MiB, {faults} faults")
    sys.exit(bool(faults))


if __name__ == "__main__":
    main()
