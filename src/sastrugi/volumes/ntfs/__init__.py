"""NTFS 3.1, after what its Linux drivers' authors and the drivers themselves document of it.

`layout` declares the structures, `records` takes many file records apart at once, `read` reads volumes, `earlier`
those that are no more.
"""

from __future__ import annotations

from sastrugi.volumes.boot_sectors import boots_in
from sastrugi.volumes.ntfs.earlier import earlier_volumes
from sastrugi.volumes.ntfs.peek import peek
from sastrugi.volumes.ntfs.read import open_ntfs, starts
from sastrugi.volumes.ntfs.records import record_sectors
from sastrugi.volumes.registry import BootMark, FileSystem

FILE_SYSTEM = FileSystem(
    family="ntfs",
    title="NTFS",
    variants=(),
    open=open_ntfs,
    boot=BootMark(boots_in, starts),
    peek=peek,
    metadata_sectors=record_sectors,
    earlier=earlier_volumes,
    mounts=(("mount.ntfs-3g",),),
    tools="ntfs-3g",
)
