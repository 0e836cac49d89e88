"""Capture: a device or image becomes an image in any container, read errors noted, and gone on with after a stop.

While it runs, everything is in a hidden folder beside the target: the image, and a journal of how far it is. A kill
loses at most what was read since the last entry of the journal.
"""

from __future__ import annotations

import errno
import hashlib
import json
import shutil
import time
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from sastrugi.errors import DestinationError, Interrupted, MediumError, SastrugiError, system_words
from sastrugi.media.base import Medium
from sastrugi.media.containers import writer_for
from sastrugi.media.containers.base import ContainerWriter, RawWriter
from sastrugi.media.extents import Extent, RangeSet, total
from sastrugi.media.faults import FAULTS_SUFFIX, write_faults
from sastrugi.media.raw import RawMedium
from sastrugi.progress import Progress
from sastrugi.safety import require_not_medium, require_outside, write_text
from sastrugi.texts import parse_json, read_text
from sastrugi.units import format_size

_FORMAT, _VERSION = "sastrugi-capture", 1
_STEP, _SMALLER = 4 << 20, 64 << 10
_JOURNAL = "journal.json"
_HEAD = 1 << 20
_SAVE_SECONDS = 1.0
_ZEROS = bytes(_STEP)
_LARGEST_JOURNAL = 256 << 20


@dataclass(slots=True)
class Captured:
    """What a capture did: bytes that were read in this run, and what could not be read at all."""

    path: Path
    read: int = 0
    unreadable: RangeSet = field(default_factory=RangeSet)


@dataclass(slots=True)
class _Journal:
    path: Path
    facts: dict[str, object]
    position: int = 0
    unreadable: RangeSet = field(default_factory=RangeSet)
    copied: bool = False
    """All is read, and the image is being moved to its place."""

    def save(self) -> None:
        lost = [list(extent) for extent in self.unreadable]
        state = {"position": self.position, "unreadable": lost, "copied": self.copied}
        write_text(self.path, json.dumps({**self.facts, **state}) + "\n")


def capture(
    source: Medium, out: Path, container: str, progress: Progress, part_size: int = 0, retries: int = 2,
    go_on: bool = False,
) -> Captured:  # fmt: skip
    """Copy all that `source` holds into a new image `out`; holes stay holes.

    Where a read fails it is tried again in smaller steps, down to sectors, and each sector `retries` times more; what
    then cannot be read is zero in the image and listed beside it. Raises Interrupted, with everything saved, when
    `progress` asks to stop or the source goes away; MediumError or DestinationError where the call cannot be carried
    out.
    """
    work = out.with_name(f".{out.name}.capture")
    journal = _begin(source, out, work, container, part_size, go_on)
    result = Captured(out, unreadable=journal.unreadable)
    if journal.copied:
        _put_in_place(journal, out)
        return result
    try:
        writer = writer_for(container, work / out.name, source.size, part_size, resume=go_on)
        if not go_on:
            writer.checkpoint()
            journal.save()
    except (SastrugiError, OSError) as error:  # no such container, too small a one, no room: nothing was begun
        if not go_on:
            shutil.rmtree(work, ignore_errors=True)
        if isinstance(error, OSError):
            raise DestinationError(f"{out}: cannot be made: {system_words(error)}") from error
        raise
    progress.start("capture", source.size)
    saved = time.monotonic()
    try:
        for extent in source.data_ranges(journal.position):
            for at in range(extent.offset, extent.end, _STEP):
                progress.check()
                length = min(_STEP, extent.end - at)
                if _copied_by_system(source, writer, at, length):
                    result.read += length
                else:
                    for place, data in _read(source, at, length, retries, journal.unreadable):
                        result.read += len(data)
                        if data != _ZEROS[: len(data)]:
                            writer.write(place, data)
                journal.position = at + length
                progress.at(journal.position, f"{format_size(total(journal.unreadable))} unreadable")
                if time.monotonic() - saved > _SAVE_SECONDS:
                    writer.checkpoint()
                    journal.save()
                    saved = time.monotonic()
        writer.finish()
    except (Interrupted, _Gone, KeyboardInterrupt) as error:
        writer.checkpoint()
        journal.save()
        writer.close()
        why = str(error) if isinstance(error, _Gone) else "stopped"
        raise Interrupted(f"{why}; {format_size(journal.position)} of {format_size(source.size)} are saved") from None
    except (OSError, MediumError) as error:  # a source that fails is told apart where it is read
        with suppress(OSError, MediumError):
            writer.close()
        refused = error if isinstance(error, OSError) else error.__cause__
        if not isinstance(refused, OSError):
            raise
        raise DestinationError(
            f"{out}: cannot be written: {system_words(refused)}: make room, then go on with --go-on"
        ) from error
    except BaseException:
        writer.close()
        raise
    for part in source.unreadable:  # what is known to be dead counts where a hole needed no reading, too
        journal.unreadable.add(part)
    progress.finish()
    if journal.unreadable:
        write_faults(work / out.name, list(journal.unreadable))
    journal.copied = True
    journal.save()
    _put_in_place(journal, out)
    return result


class _Gone(Exception):
    """The source does not answer any more."""


def _begin(source: Medium, out: Path, work: Path, container: str, part_size: int, go_on: bool) -> _Journal:
    """Check the call, and make or find the folder of the work."""
    require_not_medium(out, source.path)
    require_outside(out, source.path, "the source")
    facts: dict[str, object] = {
        "format": _FORMAT, "version": _VERSION, "source": str(source.path), "size": source.size,
        "head": hashlib.sha256(source.read(0, _HEAD)).hexdigest(), "container": container, "part_size": part_size,
    }  # fmt: skip
    journal = _Journal(work / _JOURNAL, facts)
    if go_on:
        _resume(journal, out)
        return journal
    if out.exists():
        raise DestinationError(f"{out}: is there already: name a new file")
    if journal.path.exists():
        raise DestinationError(f"{out}: a capture to it was stopped: go on with --go-on, or remove {work}")
    if work.exists():
        shutil.rmtree(work)  # of a run that was killed before it had read anything
    room = shutil.disk_usage(out.resolve().parent).free if out.resolve().parent.is_dir() else None
    needed = total(source.data_ranges())
    if room is None or needed > room:
        told = "there is no such folder" if room is None else f"only {format_size(room)} are free there"
        raise DestinationError(f"{out}: {told}, {format_size(needed)} are to be read: name another place")
    work.mkdir()
    return journal


def _resume(journal: _Journal, out: Path) -> None:
    try:
        saved = parse_json(read_text(journal.path, _LARGEST_JOURNAL))
        position = int(saved.pop("position"))
        lost = RangeSet(Extent(int(offset), int(length)) for offset, length in saved.pop("unreadable"))
        copied = saved.pop("copied", False) is True
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise DestinationError(f"{out}: there is no capture to go on with: leave --go-on out") from error
    for key, value in journal.facts.items():
        if saved.get(key) != value and key != "source":
            raise MediumError(
                f"{out}: its capture was begun with another {key.replace('_', ' ')} "
                f"({saved.get(key)!r:.60}, now {value!r:.60})"
            )
    journal.position, journal.unreadable, journal.copied = position, lost, copied


def _copied_by_system(source: Medium, writer: ContainerWriter, offset: int, length: int) -> bool:
    """From one raw image to another the system copies by itself, quicker than bytes pass through here."""
    if not (isinstance(source, RawMedium) and isinstance(writer, RawWriter)):
        return False
    return not source.unreadable and source.copy_to(writer.handle, offset, length)


def _read(source: Medium, offset: int, length: int, retries: int, unreadable: RangeSet) -> list[tuple[int, bytes]]:
    """The parts of a range that can be read, in order; the others are added to `unreadable`."""
    try:
        return [(offset, source.read_or_fail(offset, length))]
    except OSError as error:
        if error.errno != errno.EIO:
            raise _Gone(f"the source went away at byte {offset:,} ({system_words(error)})") from error
    smaller = _SMALLER if length > _SMALLER else source.sector
    if length > smaller:
        out: list[tuple[int, bytes]] = []
        for at in range(offset, offset + length, smaller):
            out += _read(source, at, min(smaller, offset + length - at), retries, unreadable)
        return out
    for _ in range(retries):
        try:
            return [(offset, source.read_or_fail(offset, length))]
        except OSError as error:
            if error.errno != errno.EIO:
                raise _Gone(f"the source went away at byte {offset:,} ({system_words(error)})") from error
    unreadable.add(Extent(offset, length))
    return []


def _put_in_place(journal: _Journal, out: Path) -> None:
    """Move the finished image (all its parts, the first last) and its list of faults out of the folder of the work;
    the journal stays until all is moved, so that a run that goes on moves what is left."""
    work = journal.path.parent
    names = [path.name for path in work.iterdir() if path.name != _JOURNAL and not path.name.startswith(".")]
    for name in sorted(names, key=lambda name: (name == out.name, name)):
        if (out.parent / name).exists() and name != out.name + FAULTS_SUFFIX:
            raise DestinationError(f"{out.parent / name}: is there already; the finished image is in {work}")
        (work / name).replace(out.parent / name)
    shutil.rmtree(work, ignore_errors=True)
