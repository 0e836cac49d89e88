"""What a compiled loop could win: the tests of every sector, by NumPy and by a loop in C over the same bytes.

python benchmarks/compiled_floor.py [MEDIUM]

The loop does the least that finds the same candidates: the sieve of all signatures, the mark of boot sectors, and the
first bytes of a text. It is compiled here with the system's `cc`; nothing of Sastrugi uses it. Both are run on noise,
on text and on MEDIUM, in one thread, three times each; the medians are printed, if the candidates are the same.
"""

from __future__ import annotations

import ctypes
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from sastrugi.recovery.sector_survey import SECTOR, TEXT_HEAD, SectorTests, SurveyOptions
from sastrugi.volumes.metadata_scan import heads_of

RUNS, SIZE = 3, 64 << 20
LOOP = """
#include <stdint.h>
#include <string.h>
long look(const uint8_t *data, long sectors, const uint8_t *sieves, const int32_t *places, int count,
          const uint8_t *first, const uint8_t *pairs, int head, uint8_t *out) {
    long found = 0;
    for (long n = 0; n < sectors; n++) {
        const uint8_t *s = data + n * 512;
        uint8_t mark = 0;
        uint16_t w;
        for (int k = 0; k < count; k++) {
            memcpy(&w, s + places[k], 2);
            mark |= sieves[(long)k * 65536 + w];
        }
        if (s[510] == 0x55 && s[511] == 0xAA) mark |= 2;
        memcpy(&w, s, 2);
        int text = first[w];
        for (int at = 2; text && at < head; at += 2) { memcpy(&w, s + at, 2); text = pairs[w]; }
        mark |= text ? 4 : 0;
        out[n] = mark;
        found += mark != 0;
    }
    return found;
}
"""


def compiled(folder: Path) -> ctypes.CDLL:
    (folder / "look.c").write_text(LOOP)
    subprocess.run(["cc", "-O2", "-shared", "-fPIC", "-o", folder / "look.so", folder / "look.c"], check=True)
    library = ctypes.CDLL(str(folder / "look.so"))
    library.look.restype = ctypes.c_long
    return library


def loop_over(library: ctypes.CDLL, tests: SectorTests, data: NDArray[np.uint8]) -> Callable[[], NDArray[np.uint8]]:
    places = np.array(list(tests.signatures._sieves), np.int32)
    sieves = np.concatenate([sieve.astype(np.uint8) for sieve in tests.signatures._sieves.values()])
    first, pairs = tests._first_pairs.astype(np.uint8), tests._text_pairs.astype(np.uint8)
    out = np.empty(len(data) // SECTOR, np.uint8)

    def at(array: NDArray[np.generic]) -> ctypes.c_void_p:
        return ctypes.c_void_p(array.ctypes.data)

    def run() -> NDArray[np.uint8]:
        library.look(
            at(data), ctypes.c_long(len(out)), at(sieves), at(places), len(places), at(first), at(pairs), TEXT_HEAD,
            at(out),
        )  # fmt: skip
        return out

    return run


def by_numpy(tests: SectorTests, sectors: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """The same candidates, by the operations that the survey uses."""
    heads = heads_of(sectors)
    out = np.zeros(len(sectors), np.uint8)
    for place, sieve in tests.signatures._sieves.items():
        words = heads[:, place : place + 2] if place + 2 <= heads.shape[1] else sectors[:, place : place + 2]
        out |= sieve[words.copy().view("<u2")[:, 0]]
    out |= ((sectors[:, 510] == 0x55) & (sectors[:, 511] == 0xAA)).astype(np.uint8) << 1
    words = heads.view("<u2")
    maybe = np.flatnonzero(tests._first_pairs[words[:, 0]])
    for pair in range(1, TEXT_HEAD // 2):
        maybe = maybe[tests._text_pairs[words[maybe, pair]]]
    out[maybe] |= 4
    return out


def seconds(run: Callable[[], object]) -> float:
    took = []
    for _ in range(RUNS):
        began = time.perf_counter()
        run()
        took.append(time.perf_counter() - began)
    return statistics.median(took)


def in_steps(test: Callable[[NDArray[np.uint8]], object], sectors: NDArray[np.uint8]) -> None:
    """As the survey goes: so many sectors at once as the processor's caches hold."""
    step = (4 << 20) // SECTOR
    for at in range(0, len(sectors), step):
        test(sectors[at : at + step])


def main() -> None:
    tests = SectorTests(SurveyOptions())
    lines = b"".join(b"2031-02-14 %05d;stake %d;%d mm\n" % (n, n % 97, n * 7 % 4000) for n in range(100_000))
    media = {"noise": os.urandom(SIZE), "text": (lines * (SIZE // len(lines) + 1))[:SIZE]}
    if len(sys.argv) > 1:
        with Path(sys.argv[1]).open("rb") as file:
            data = file.read(SIZE * 4)
        media[Path(sys.argv[1]).name] = data[: len(data) // SECTOR * SECTOR]
    print("| bytes | all tests of a sector | these, by NumPy | these, compiled | ratio |\n|---|---:|---:|---:|---:|")
    with tempfile.TemporaryDirectory() as folder:
        library = compiled(Path(folder))
        for name, data in media.items():
            flat = np.frombuffer(data, np.uint8).copy()
            sectors = flat.reshape(-1, SECTOR)
            loop = loop_over(library, tests, flat)
            assert np.array_equal(loop(), by_numpy(tests, sectors)), "both must find the same"
            runs = (
                partial(in_steps, tests.marks, sectors), partial(in_steps, partial(by_numpy, tests), sectors), loop,
            )  # fmt: skip
            rates = [len(data) / seconds(run) / 1e9 for run in runs]
            shown = " | ".join(f"{rate:.2f} GB/s" for rate in rates)
            print(f"| {name}, {len(data) >> 20} MiB | {shown} | {rates[2] / rates[1]:.1f} |", flush=True)


if __name__ == "__main__":
    main()
