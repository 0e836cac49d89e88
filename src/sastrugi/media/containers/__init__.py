"""Containers of images: split raw, VHD and qcow2, each a reader and a writer in one file. Raw images need none.

`find_container` recognises what a file is; `writer_for` makes a writer by its name.
"""

from __future__ import annotations

from pathlib import Path

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.containers.base import ContainerWriter, RawWriter
from sastrugi.media.containers.qcow2 import Qcow2Medium, Qcow2Writer, is_qcow2
from sastrugi.media.containers.split import SplitMedium, SplitWriter, is_split
from sastrugi.media.containers.vhd import VhdMedium, VhdWriter, is_vhd

CONTAINERS = ("raw", "split", "vhd", "vhd-fixed", "qcow2", "qcow2-packed")
_SUFFIXES = {".vhd": "vhd", ".qcow2": "qcow2", ".001": "split"}


def find_container(path: Path) -> Medium | None:
    """The medium in a container file, or None for a raw image; raises MediumError for a container that is damaged."""
    if is_split(path):
        return SplitMedium(path)
    if is_qcow2(path):
        return Qcow2Medium(path)
    if is_vhd(path):
        return VhdMedium(path)
    return None


def container_for(path: Path) -> str:
    """The container that a file name asks for; `raw` where it asks for none."""
    return _SUFFIXES.get(path.suffix.lower(), "raw")


def writer_for(container: str, path: Path, size: int, part_size: int = 0, resume: bool = False) -> ContainerWriter:
    """A writer of a container at `path` for a medium of `size` bytes; `resume` goes on with one that was begun."""
    if container == "raw":
        return RawWriter(path, size, resume)
    if container == "split":
        return SplitWriter(path, size, resume, part_size)
    if container in ("vhd", "vhd-fixed"):
        return VhdWriter(path, size, resume, dynamic=container == "vhd")
    if container in ("qcow2", "qcow2-packed"):
        return Qcow2Writer(path, size, resume, packed=container == "qcow2-packed")
    raise MediumError(f"'{container}' is no container: there are {', '.join(CONTAINERS)}")
