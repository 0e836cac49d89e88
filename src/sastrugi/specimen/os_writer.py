"""The operating system as writer: the same steps, carried out by its own driver on a loop mount.

Our writer lays the specimen down first, in an image of its own (the plan); every step is then repeated through the
file system the system mounts. Where the driver put things is not asked of it: content is located on the medium by its
blocks, before it changes and at the end, and what still tells of it is looked at.
"""

from __future__ import annotations

import datetime as dt
import fcntl
import os
import shutil
import struct
import subprocess
import sys
import time
from collections.abc import Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from sastrugi.errors import SpecimenError, system_words
from sastrugi.media import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.specimen.catalogue import Catalogue
from sastrugi.specimen.laid_files import LaidFile, Slot
from sastrugi.specimen.locate import Locator
from sastrugi.specimen.observed_truth import KnownFile
from sastrugi.specimen.second_writer import SecondWriter, Turns
from sastrugi.specimen.truth import ORIGINALS
from sastrugi.units import format_size
from sastrugi.volumes.probing import probe
from sastrugi.volumes.registry import family_of, variant_named

_READ = 1 << 20
_SET_ATTRIBUTES = 0x40047211
"""FAT_IOCTL_SET_ATTRIBUTES (Linux, include/uapi/linux/msdos_fs.h)."""
_ARCHIVE = 0x20
_PATIENCE = 60
"""Seconds to wait for the driver to let go of a volume."""
_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


def require_driver() -> None:
    """Raise SpecimenError where nothing can be mounted."""
    if sys.platform != "linux":
        raise SpecimenError("--writer os mounts volumes as Linux does, and this is no Linux: leave it out")
    if os.geteuid() != 0:
        raise SpecimenError("--writer os mounts volumes, which needs root: run it as root, or leave it out")
    for tool in ("losetup", "mount"):
        _require_tool(tool, "mount")


def _require_tool(tool: str, package: str) -> None:
    if shutil.which(tool, path=_PATH) is None:
        raise SpecimenError(f"--writer os needs '{tool}': install the package {package}, or leave it out")


@dataclass(frozen=True, slots=True)
class PlannedContent:
    """The content of a file as the plan has it: on its image, or saved when it was written over there."""

    laid: LaidFile
    image: RawImage
    folder: Path

    @property
    def size(self) -> int:
        return self.laid.size

    def read(self, position: int, length: int) -> bytes:
        content = self.laid.content
        assert content is not None
        length = max(min(length, self.size - position), 0)
        if not content.gone:
            return self.laid.map.read(self.image, position, length)
        with (self.folder / ORIGINALS / self.laid.blake3).open("rb") as saved:
            saved.seek(position)
            return saved.read(length)


class DriverWriter(SecondWriter):
    """Carries the steps out on `image` through the system's driver. Close it, whatever happens."""

    def __init__(self, image: RawImage, plan: RawImage, folder: Path, progress: Progress) -> None:
        self.image, self.plan, self.folder, self.progress = image, plan, folder, progress
        self.known: dict[int, KnownFile] = {}
        self._pending: dict[int, tuple[Slot, LaidFile]] = {}
        self._mounted: Slot | None = None
        self._device = ""
        self._point = folder / "mounted"
        self._point.mkdir()

    # -- mounting ---------------------------------------------------------------------------

    def _on(self, place: Slot, path: str) -> Path:
        """Where a path of a volume is in the system's tree; mounts the volume."""
        if self._mounted is not place:
            self.unmount()
            self._attach(place)
            family = family_of(place.life.file_system)
            said = ""
            for words in family.mounts if family else ():
                done = _run(*words, self._device, str(self._point))
                said = said or done
                if not done:
                    self._mounted = place
                    break
            else:
                self._detach()
                raise SpecimenError(
                    f"the system cannot mount {place.life.file_system} ({said}): its driver is missing, or loop mounts "
                    "are not allowed here; leave --writer os out to build with our own writer"
                )
        return self._point / path.lstrip("/")

    def unmount(self) -> None:
        """Everything is on the image after this."""
        if self._mounted is None:
            return
        said = _run("umount", str(self._point))
        if said:
            raise SpecimenError(f"the system does not unmount {self._point}: {said}")
        self._mounted = None
        self._detach()

    def _attach(self, place: Slot) -> None:
        where = place.where
        words = ["losetup", "-f", "--show", "-o", str(where.offset), "--sizelimit", str(where.length)]
        if self.image.sector != 512:
            words += ["-b", str(self.image.sector)]
        done = subprocess.run([*words, str(self.image.path)], capture_output=True, text=True, env=_environment())
        if done.returncode:
            raise SpecimenError(f"the system gives no loop device: {done.stderr.strip()}: leave --writer os out")
        self._device = done.stdout.strip()

    def _detach(self) -> None:
        """Give the device back, and wait until the driver has let go of it. A mount namespace that another program made
        meanwhile has a copy of our mount, and the driver writes its last when that copy goes, too."""
        device, self._device = self._device, ""
        if not device:
            return
        _run("losetup", "-d", device)
        ours = str(self.image.path.resolve())
        backing = Path("/sys/block", Path(device).name, "loop", "backing_file")
        last = time.monotonic() + _PATIENCE
        while True:
            try:
                if backing.read_text().rstrip("\n") != ours:
                    return
            except OSError:  # no file is behind the device any more
                return
            self.progress.check()
            if time.monotonic() > last:
                raise SpecimenError(
                    f"the system still holds {device} {_PATIENCE} s after it was unmounted: another program has a copy "
                    "of the mount (a container that was started meanwhile?); end it and build again"
                )
            time.sleep(0.01)

    def close(self) -> None:
        """Unmount and detach, as far as that can be done."""
        if self._mounted is not None:
            _run("umount", "-l", str(self._point))
            self._mounted = None
        if self._device:
            _run("losetup", "-d", self._device)

    # -- what is told -----------------------------------------------------------------------

    def table(self, writes: Sequence[tuple[int, bytes]], zeros: Sequence[Extent] = ()) -> None:
        self.unmount()
        for extent in zeros:
            self.image.zero(*extent)
        for offset, data in writes:
            self.image.write(offset, data)

    def format(self, place: Slot, full: bool) -> None:
        self.unmount()
        if full:
            self.image.zero(*place.where)
        life, sector = place.life, self.image.sector
        family, variant = family_of(life.file_system), variant_named(life.file_system)
        assert family is not None and variant is not None  # a recipe asks for no other
        if variant.mkfs is None:
            raise SpecimenError(f"the system has no command that makes {variant.title}: leave --writer os out")
        words = variant.mkfs(life.cluster, sector, life.label)
        _require_tool(words[0], family.tools)
        self._attach(place)
        said = _run(*words, self._device)
        self._detach()
        if said:
            raise SpecimenError(f"{words[0]} does not make this volume: {said}")
        volume = probe(self.image, place.where)
        if volume is None:
            raise SpecimenError(f"{words[0]} made a volume of {format_size(place.where.length)} that cannot be read")
        life.data, life.cluster = volume.data.offset, volume.cluster_size

    def end_life(self, place: Slot) -> None:
        self.locate()
        self.unmount()

    def make_folder(self, place: Slot, laid: LaidFile) -> None:
        self._on(place, laid.node.path).mkdir()

    def store(self, place: Slot, lains: Sequence[LaidFile], turns: Turns) -> None:
        contents = [PlannedContent(laid, self.plan, self.folder) for laid in lains]
        written = [0] * len(lains)
        opened: dict[int, BinaryIO] = {}
        with ExitStack() as stack:
            for n, size in turns.order:
                if n not in opened:
                    opened[n] = stack.enter_context(self._on(place, lains[n].node.path).open("xb", buffering=0))
                for at in range(written[n], written[n] + size, _READ):
                    opened[n].write(contents[n].read(at, min(_READ, written[n] + size - at)))
                written[n] += size
                if turns.forced:
                    os.fsync(opened[n].fileno())
                if written[n] == lains[n].size:
                    opened.pop(n).close()
        for laid in lains:
            if not laid.size:
                self._on(place, laid.node.path).touch(exist_ok=False)
            self._finish(place, laid)

    def discard(self, place: Slot) -> None:
        self.locate()
        said = _run("fstrim", str(self._on(place, "/")))
        if said:
            raise SpecimenError(f"the system does not discard what is free on {place.name}: {said}")

    def grow(self, place: Slot, laid: LaidFile, old_size: int) -> None:
        content = PlannedContent(laid, self.plan, self.folder)
        with self._on(place, laid.node.path).open("ab") as out:
            for at in range(old_size, laid.size, _READ):
                out.write(content.read(at, _READ))
        self._finish(place, laid)

    def rewrite(self, place: Slot, laid: LaidFile, in_place: bool) -> None:
        content = PlannedContent(laid, self.plan, self.folder)
        with self._on(place, laid.node.path).open("r+b" if in_place else "wb") as out:
            for at in range(0, laid.size, _READ):
                out.write(content.read(at, _READ))
            out.truncate(laid.size)
        self._finish(place, laid)

    def _finish(self, place: Slot, laid: LaidFile) -> None:
        path = self._on(place, laid.node.path)
        seconds = laid.modified.replace(tzinfo=dt.UTC).timestamp()
        os.utime(path, (seconds, seconds))
        if laid.node.attributes:
            with suppress(OSError), path.open("rb") as file:  # not every driver knows how
                fcntl.ioctl(file.fileno(), _SET_ATTRIBUTES, struct.pack("I", _ARCHIVE | laid.node.attributes))
        if laid.role != "filler":
            self._pending[id(laid)] = (place, laid)

    def before_change(self, laid: LaidFile) -> None:
        if id(laid) in self._pending:
            self.locate()

    def rename(self, place: Slot, old_path: str, laid: LaidFile) -> None:
        self._on(place, old_path).rename(self._on(place, laid.node.path))

    def link(self, place: Slot, laid: LaidFile, new: LaidFile) -> None:
        self._on(place, new.node.path).hardlink_to(self._on(place, laid.node.path))
        self._finish(place, new)

    def delete(self, place: Slot, path: str, folder: bool) -> None:
        target = self._on(place, path)
        if folder:
            target.rmdir()
        else:
            target.unlink()

    def finish(self) -> None:
        """All steps are done: everything is on the image and located."""
        self.locate()
        self.unmount()

    # -- where the driver put it ------------------------------------------------------------

    def locate(self) -> None:
        """Find the content that was written since the last time. What the volume lists of it helps where the same
        content stands twice, or is too short to be known by itself."""
        if not self._pending:
            return
        self.unmount()
        waiting = list(self._pending.values())
        hints: dict[int, FileMap] = {}
        created: dict[int, dt.datetime] = {}
        for place in {id(place): place for place, _ in waiting}.values():
            volume = probe(self.image, place.where)
            entries = {
                entry.full_path: entry
                for entry in (volume.entries() if volume else ())
                if not entry.deleted and not entry.folder
            }
            for n, (own, laid) in enumerate(waiting):
                entry = entries.get(laid.node.path) if own is place else None
                if entry is not None:
                    hints[n] = entry.map
                    created[n] = entry.times.created or laid.created
        contents = [PlannedContent(laid, self.plan, self.folder) for _, laid in waiting]
        quiet = Progress()
        quiet.stop_asked = self.progress.stop_asked
        found = Locator(Catalogue(contents, quiet), self.image, quiet).locate(hints, quiet)
        for n, ((place, laid), content, one) in enumerate(zip(waiting, contents, found, strict=True)):
            if not one.whole:
                raise SpecimenError(
                    f"{laid.path}: {one.size - one.found:,} of its {one.size:,} bytes are not on the medium after the "
                    "system wrote it: is the driver in order?"
                )
            self.known[id(laid)] = KnownFile(
                content, laid.path, laid.kind, laid.blake3, created.get(n, laid.created), laid.modified,
                place.name, laid.life, laid.role, map=one.map, gone=one.gone,
            )  # fmt: skip
        self._pending.clear()


def _environment() -> dict[str, str]:
    return os.environ | {"PATH": _PATH, "LC_ALL": "C.UTF-8", "TZ": "UTC"}


def _run(*words: str) -> str:
    """Run a tool of the system; answers what it complained about, or nothing if all went well."""
    try:
        done = subprocess.run(
            words, capture_output=True, text=True, errors="replace", env=_environment(), stdin=subprocess.DEVNULL
        )
    except OSError as error:
        return f"{words[0]}: {system_words(error)}"
    said = " ".join((done.stderr or done.stdout).split()).partition(". dmesg")[0]
    return (said or f"{words[0]} left with status {done.returncode}") if done.returncode else ""
