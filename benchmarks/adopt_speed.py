"""How long `adopt` takes, as a ratio against `cat` of the same originals and image in the same run, and its memory.

python benchmarks/adopt_speed.py [files] [mebibytes] [folder]
"""

from __future__ import annotations

import os
import random
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

MIB = 1 << 20


def run(*words: str) -> float:
    began = time.perf_counter()
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def main() -> None:
    count, mebibytes = (int(word) for word in (sys.argv[1:3] if len(sys.argv) > 2 else ("2500", "1024")))
    dice = random.Random(2031)
    sizes = [dice.lognormvariate(0, 1.5) for _ in range(count)]
    scale = mebibytes * MIB * 0.95 / sum(sizes)
    with tempfile.TemporaryDirectory(dir=sys.argv[3] if len(sys.argv) > 3 else None) as name:
        work = Path(name)
        originals, image = work / "originals", work / "card.img"
        originals.mkdir()
        with image.open("wb") as card:
            for n, size in enumerate(sizes):
                data = os.urandom(int(size * scale))
                (originals / f"{n:06}.bin").write_bytes(data)
                card.seek(-(-card.tell() // 4096) * 4096 + 4096 * dice.randrange(2))
                card.write(data)
            card.truncate(-(-card.tell() // MIB) * MIB)
        cat = run("sh", "-c", f"cat {originals}/* {image}")
        program = str(Path(sys.executable).parent / "sastrugi")
        took = run(program, "adopt", str(image), "--originals", str(originals), "--into", str(work / "made"))
        memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"adopt {count:,} files, {mebibytes:,} MiB: {took:.1f} s = {took / cat:.1f} x cat, {memory:.0f} MiB")


if __name__ == "__main__":
    main()
