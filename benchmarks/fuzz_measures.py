"""Mutate samples of every kind and measure them: nothing may raise, read outside, or take more than linear time.

    python benchmarks/fuzz_measures.py [--rounds 10000] [--seed 1] [KIND ...]

Prints each kind with the slowest measure, and leaves with status 1 at the first fault, which it saves.
"""

from __future__ import annotations

import argparse
import random
import sys
import time
from pathlib import Path

from sastrugi.kinds import all_kinds, kind_named
from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.registry import measuring_kind
from sastrugi.scenario.dice import Dice

SIZE = 20_000
SLOWEST_SECONDS = 2.0


def mutated(data: bytes, dice: random.Random) -> bytes:
    out = bytearray(data)
    for _ in range(dice.randint(1, 8)):
        if not out:
            break
        at = dice.randrange(min(len(out), dice.choice((16, 128, 1024, len(out)))))
        what = dice.randrange(7)
        if what == 0:
            out[at] = dice.randrange(256)
        elif what == 1:
            out[at : at + 4] = dice.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\0\0\0\x01"))
        elif what == 2:
            del out[at : at + dice.randint(1, 600)]
        elif what == 3:
            out[at:at] = dice.randbytes(dice.randint(1, 600))
        elif what == 4:
            out[at:at] = out[at : at + dice.randint(1, 2000)]
        elif what == 5:
            out[at : at + dice.choice((2, 8))] = dice.randbytes(8)
        else:
            del out[at:]
    return bytes(out)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("kinds", nargs="*")
    parser.add_argument("--rounds", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    call = parser.parse_args()
    for name in call.kinds or [kind.name for kind in all_kinds().values() if kind.make]:
        kind = kind_named(name)
        measure = measuring_kind(kind).measure
        assert kind.make is not None and measure is not None
        samples = [kind.make(Dice(f"fuzz {n}"), SIZE) for n in range(3)]
        dice = random.Random(f"{call.seed} {name}")
        slowest = 0.0
        for n in range(call.rounds):
            data = mutated(samples[n % 3], dice)
            began = time.perf_counter()
            try:
                found = measure(BytesSource(data), n % 2 == 0)
                assert found is None or 0 <= found.length <= len(data), f"length {found} of {len(data)}"
                assert found is None or found.whole == (found.breaks_at is None), f"{found}"
            except Exception as error:
                Path(f"fault.{name}").write_bytes(data)
                sys.exit(f"{name}, round {n}: {type(error).__name__}: {error} (saved as fault.{name})")
            slowest = max(slowest, time.perf_counter() - began)
            if slowest > SLOWEST_SECONDS:
                Path(f"fault.{name}").write_bytes(data)
                sys.exit(f"{name}, round {n}: took {slowest:.1f} s (saved as fault.{name})")
        print(f"{name:8} {call.rounds:,} rounds, slowest {slowest * 1000:.0f} ms", flush=True)


if __name__ == "__main__":
    main()
