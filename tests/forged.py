"""FAT32 volumes by mkfs.fat whose tables then claim what no driver would write."""

from __future__ import annotations

import struct
import subprocess
from collections.abc import Sequence
from pathlib import Path

import numpy as np

FOLDER = 0x10
_END, _DAY = 0x0FFFFFFF, 0x5E21


def record(name: bytes, cluster: int, size: int, attributes: int = 0x20) -> bytes:
    """One short entry; `name` has eleven bytes."""
    low, high = cluster & 0xFFFF, cluster >> 16
    return struct.pack("<11sB8xHHHHI", name, attributes, high, 0, _DAY, low, size)


def dots(own: int, parent: int = 0) -> bytes:
    return record(b".".ljust(11), own, 0, FOLDER) + record(b"..".ljust(11), parent, 0, FOLDER)


class ForgedVolume:
    """A volume of clusters of one sector; what is put into it is not checked."""

    def __init__(self, path: Path, mib: int) -> None:
        with path.open("wb") as file:
            file.truncate(mib << 20)
        subprocess.run(["mkfs.fat", "-F32", "-s1", path], check=True, capture_output=True)
        boot = path.read_bytes()[:512]
        reserved, fats, fat_sectors, self.root = (
            struct.unpack_from(code, boot, at)[0] for code, at in (("<H", 14), ("B", 16), ("<I", 36), ("<I", 44))
        )
        self.bytes = np.memmap(path, "u1", "r+")
        self.fats = [
            self.bytes[(reserved + n * fat_sectors) * 512 : (reserved + (n + 1) * fat_sectors) * 512].view("<u4")
            for n in range(fats)
        ]
        self.data = (reserved + fats * fat_sectors) * 512

    def put(self, cluster: int, data: bytes) -> None:
        at = self.data + (cluster - 2) * 512
        self.bytes[at : at + len(data)] = np.frombuffer(data, "u1")

    def chain(self, clusters: Sequence[int]) -> None:
        for fat in self.fats:
            fat[clusters[:-1]] = clusters[1:]
            fat[clusters[-1]] = _END

    def fill_root(self, records: bytes, free: int) -> None:
        """The root's table, its further clusters in a row from `free` on."""
        count = -(-len(records) // 512)
        clusters = [self.root, *range(free, free + count - 1)]
        self.chain(clusters)
        for n, cluster in enumerate(clusters):
            self.put(cluster, records[n * 512 : (n + 1) * 512])
