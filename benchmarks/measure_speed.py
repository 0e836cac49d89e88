"""How fast large files are measured: containers by their structure, streams by every byte. Prints seconds and MB/s.

python benchmarks/measure_speed.py
"""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from sastrugi.kinds import kind_named
from sastrugi.kinds.base import FileSource
from sastrugi.kinds.registry import measuring_kind
from sastrugi.scenario.dice import Dice

SIZE = 100 << 20


def long_jpeg() -> bytes:
    """A photograph whose entropy-coded data go on for SIZE bytes."""
    make = kind_named("jpeg").make
    assert make is not None
    data = make(Dice("plain"), 400_000)
    body = data[len(data) // 2 : -2].replace(b"\xff", b"\xfe")
    return data[: len(data) // 2] + body * (SIZE // len(body)) + data[-2:]


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        for name in ("mp4", "zip", "tar", "wav", "jpeg"):
            kind = kind_named(name)
            assert kind.make is not None
            path = Path(folder) / name
            path.write_bytes(long_jpeg() if name == "jpeg" else kind.make(Dice("large"), SIZE))
            measure = measuring_kind(kind).measure
            assert measure is not None
            with FileSource(path) as source:
                os.posix_fadvise(source._fd, 0, 0, os.POSIX_FADV_WILLNEED)
                measure(source, False)
                began = time.perf_counter()
                found = measure(source, False)
                seconds = time.perf_counter() - began
            assert found is not None and found.length == source.size
            print(
                f"{name:6} {source.size >> 20} MiB  {seconds * 1000:8.1f} ms  {source.size / seconds / 1e6:12,.0f} MB/s"
            )


if __name__ == "__main__":
    main()
