"""Volumes that tests write by the program's own writers, and real files that a kernel's driver stored and lost."""

from __future__ import annotations

import datetime as dt
import hashlib
import random
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.reader import Volume
from sastrugi.volumes.writer import VolumeWriter
from tests.conftest import Program
from tests.judges import linux, make_volume, require_drivers
from tests.test_drivers import real_files

NOON = dt.datetime(2031, 2, 3, 12)
LIST_ALL = "find . -type f -exec sha256sum {} + > %s"


@dataclass
class Disk:
    """A volume that has an image to itself, and what is on it. `open` reads it."""

    image: RawImage
    writer: VolumeWriter[Any]
    open: Callable[[RawImage, Extent], Volume | None]
    content: dict[str, bytes] = field(default_factory=dict)
    now: dt.datetime = NOON

    def tick(self) -> dt.datetime:
        self.now += dt.timedelta(seconds=7)
        return self.now

    def store(self, path: str, data: bytes, lie: tuple[Extent, ...] | None = None) -> Any:
        self.content[path] = data
        return self.writer.store(path, len(data), [data[:700], data[700:]], self.tick(), lie=lie)

    def find(self, path: str) -> Any:
        node = self.writer.find(path)
        assert node is not None, path
        return node

    def delete(self, path: str, habits: Any = "linux") -> Any:
        del self.content[path]
        return self.writer.delete(self.find(path), self.tick(), habits)

    def volume(self) -> Any:
        self.writer.flush()
        self.image.sync()
        volume = self.open(self.image, Extent(0, self.image.size))
        assert volume is not None
        return volume

    def bytes_of(self, entry: Any) -> bytes:
        return b"".join(entry.map.chunks(self.image))

    def gone(self) -> dict[str, bytes]:
        """What is told of files that are no more, by their paths."""
        volume = self.volume()
        every = [*(e for e in volume.entries() if e.deleted), *volume.history()]
        return {entry.full_path[1:]: self.bytes_of(entry) for entry in every}


@dataclass(frozen=True)
class Loss:
    """What happens on a volume that a kernel filled, and which shares of it come back at least: intact, and of these
    with their whole names."""

    variant: str
    block: int
    size: int
    intact: float
    named: float
    then: str = "rm -r files; sync"
    over: Callable[[Path], None] | None = None


def real_loss(sastrugi: Program, work: Path, loss: Loss, case: str) -> None:
    """Real files that the kernel wrote and lost come back: intact, and under their names as far as anything tells."""
    require_drivers()
    source = work / "source"
    count = real_files(source, random.Random(case))
    image = make_volume(work / "v.img", loss.size << 20, loss.variant, loss.block)
    linux(image, f"cp -r {source} files; sync; {loss.then}", work, file_system=loss.variant)
    if loss.over:
        loss.over(image)
    sastrugi("scan", image, "--out", work / "v.scan")
    wanted = {
        hashlib.sha256(p.read_bytes()).hexdigest(): p.relative_to(source).as_posix()
        for p in source.rglob("*")
        if p.is_file()
    }
    intact: set[str] = set()
    named: set[str] = set()
    with open_medium(image) as medium, ScanFile.open(work / "v.scan") as scan:
        for found in scan.findings("state != 'live'"):
            digest = hashlib.sha256(b"".join(found.map.chunks(medium))).hexdigest()
            if digest in wanted:
                intact.add(digest)
                if f"{found.folder}/{found.name}".endswith("/" + wanted[digest].rpartition("/")[2]):
                    named.add(digest)
    assert count > 80 and len(intact) >= loss.intact * len(wanted), (len(intact), len(wanted))
    assert len(named) >= loss.named * len(intact), (len(named), len(intact))
