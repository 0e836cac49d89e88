"""From a captured image and the originals that were on it to a specimen with truth, whatever the file system."""

from __future__ import annotations

import re
import tomllib
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from pathlib import Path

from blake3 import blake3

from sastrugi.errors import SpecimenError, system_words
from sastrugi.kinds import kind_for_name
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.containers.base import RawWriter
from sastrugi.media.convert import copy_medium
from sastrugi.media.faults import write_faults
from sastrugi.media.filemap import FileMap
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.progress import Progress
from sastrugi.safety import new_folder
from sastrugi.specimen.blocks import BLOCK
from sastrugi.specimen.catalogue import Catalogue
from sastrugi.specimen.digests import medium_digest
from sastrugi.specimen.locate import Located, Locator
from sastrugi.specimen.observed_truth import KnownFile, MediumPart, RecordIndex, look_again, parts_of_medium, truths_of
from sastrugi.specimen.truth import (
    RECIPE_FILE,
    TRUTH_FILE,
    Truth,
    TruthLife,
    TruthMedium,
    TruthVolume,
    is_of_specimen,
)
from sastrugi.specimen.truth_writer import write_truth
from sastrugi.volumes.reader import Entry

_ZEROS = bytes(4 << 20)
_READ = 4 << 20
_LONGEST_NAME = 60
_NO_READER = "its file system is not one that can be read here: what still tells of names and places is not known"


@dataclass(frozen=True, slots=True)
class OriginalFile:
    """A file of the folder of originals; `name` counts from there."""

    path: Path
    name: str
    size: int

    def read(self, position: int, length: int) -> bytes:
        try:
            with self.path.open("rb") as file:
                file.seek(position)
                data = file.read(max(min(length, self.size - position), 0))
        except OSError as error:
            raise SpecimenError(f"{self.path}: cannot be read: {system_words(error)}") from error
        if len(data) != max(min(length, self.size - position), 0):
            raise SpecimenError(f"{self.path}: changed while it was read: originals must stay as they are")
        return data


@dataclass(frozen=True, slots=True)
class _OnMedium:
    """A file that a volume lists, read from where it lies."""

    medium: Medium
    map: FileMap

    @property
    def size(self) -> int:
        return self.map.size

    def read(self, position: int, length: int) -> bytes:
        return self.map.read(self.medium, position, min(length, self.size - position))


@dataclass(slots=True)
class Adoption:
    """What became of the originals, by name: on the medium and listed, lost but whole, lost and in part (with the
    share that stands), not there at all, and listed with other content."""

    listed: list[str] = field(default_factory=list)
    whole: list[str] = field(default_factory=list)
    part: dict[str, float] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    others: int = 0
    """Files that the volumes list and that are none of the originals."""
    unreadable: int = 0


def originals_below(folder: Path) -> list[OriginalFile]:
    """All files below a folder, in order; links are not followed. Raises SpecimenError if there are none."""
    if not folder.is_dir():
        raise SpecimenError(f"{folder}: there is no such folder of originals")
    out: list[OriginalFile] = []
    for path in sorted(folder.rglob("*")):
        if path.is_file() and not path.is_symlink():
            out.append(OriginalFile(path, path.relative_to(folder).as_posix(), path.stat().st_size))
    if not out:
        raise SpecimenError(f"{folder}: holds no files: name the folder with the originals of what was on the medium")
    return out


def adopt(
    image: Medium, originals: Path, into: Path, progress: Progress, before: Medium | None = None,
    lost: Sequence[str] = ("*",), replace: bool = False, name: str = "",
) -> Adoption:  # fmt: skip
    """Make a specimen of `image` in the new folder `into` (or, with `replace`, in the place of the specimen there).

    With `before`, an image of the same medium before the loss, the originals are located there, and `image` tells what
    still stands. The specimen is called `name`, or else after its image. Of the originals that no volume lists those
    count as lost that the patterns of `lost` name, the others as live. Raises SpecimenError if nothing of the originals
    is on the medium, or a pattern names none.
    """
    files = originals_below(originals)
    for pattern in lost:
        if not any(_names(pattern, file.name) for file in files):
            raise SpecimenError(f"'{pattern}' names none of the originals in {originals}")
    with new_folder(into, "specimen", TRUTH_FILE, replace, is_of_specimen) as folder:
        target = RawWriter(folder / SPECIMEN_IMAGE, image.size, resume=False)

        def copy(offset: int, data: bytes) -> None:
            if data != _ZEROS[: len(data)]:
                target.write(offset, data)

        catalogue = Catalogue(files, progress)
        if before is None:
            locator = Locator(catalogue, image, progress, copy)
            target.finish()
        else:
            if before.size != image.size:
                raise SpecimenError(
                    f"{before.path}: has {before.size:,} bytes, {image.path} has {image.size:,}: "
                    "the images before and after the loss must be of the same medium"
                )
            locator = Locator(catalogue, before, progress)
            copy_medium(image, target, progress)
        with _opened(folder / SPECIMEN_IMAGE, image.sector) as medium:
            medium.unreadable = RangeSet(image.unreadable)
            found = _Adopting(files, catalogue, medium, before or image, before is not None, lost)
            found.locate(locator, progress)
            found.write(folder, image, originals.name, progress, name or name_of(image.path))
    return found.adoption


def name_of(image: Path) -> str:
    """What a specimen is called after its image: in the letters of recipes' names."""
    words = re.sub(r"[^a-z0-9]+", "-", image.stem.casefold()).strip("-")
    return words[:_LONGEST_NAME].rstrip("-") or "adopted"


def _opened(path: Path, sector: int) -> Medium:
    from sastrugi.media.raw import RawMedium

    return RawMedium(path, sector)


class _Adopting:
    """The work between locating and writing. `source` is where the originals were looked for."""

    def __init__(
        self, files: Sequence[OriginalFile], catalogue: Catalogue, medium: Medium, source: Medium, after: bool,
        lost: Sequence[str],
    ) -> None:  # fmt: skip
        self.files, self.catalogue, self.medium, self.source = files, catalogue, medium, source
        self.after, self.lost = after, lost
        self.parts = parts_of_medium(medium)
        self.records = RecordIndex(medium, self.parts)
        self.then = self.records
        if after:
            self.then = RecordIndex(source, parts_of_medium(source))
        self.adoption = Adoption()
        self.known: list[KnownFile] = []

    def locate(self, locator: Locator, progress: Progress) -> None:
        entries = [entry for found in self.then.entries.values() for entry in found]
        paths = _paths_by_original(self.files, entries)
        hints = {n: entry.map for n, entry in paths.items() if entry.map.stored}
        located = locator.locate(hints, progress)
        self._require_any(located)
        live = self._live_by_place()
        empty = self._live_and_empty()
        rest: list[tuple[KnownFile, Entry | None]] = []
        taken: set[int] = set()
        for n, (file, place) in enumerate(zip(self.files, located, strict=True)):
            entry = paths.get(n)
            known = self._known(n, file, place, entry)
            listed = live.get(known.map.stored) if known.standing == file.size and file.size else None
            if not file.size and entry is not None:
                listed = empty.get(entry.full_path)
            if not listed:
                rest.append((known, entry))
                continue
            taken.add(id(listed[1]))
            known.volume = listed[0]
            self._take_entry(known, listed[1])
            self.known.append(known)
            self.adoption.listed.append(file.name)
        now = {entry.full_path: entry for _, entry in live.values() if id(entry) not in taken}
        for known, entry in rest:
            if entry is not None and id(entry) in taken:  # another original's
                entry = None
            self._settle(known, entry, now, taken)
        self._others(taken)

    def _require_any(self, located: Sequence[Located]) -> None:
        if self.files and not any(one.pieces or not one.size for one in located):
            raise SpecimenError(
                f"{self.source.path}: nothing of the originals is on it: is it an image of the same medium?"
            )

    def _live_and_empty(self) -> dict[str, tuple[str, Entry]]:
        """The empty files that the volumes list now, by path."""
        return {
            entry.full_path: (part, entry)
            for part, found in self.records.entries.items()
            for entry in found
            if not entry.deleted and not entry.size
        }

    def _live_by_place(self) -> dict[tuple[Extent, ...], tuple[str, Entry]]:
        """The live files of all volumes, by what of the medium they stand on."""
        return {
            entry.map.stored: (part, entry)
            for part, found in self.records.entries.items()
            for entry in found
            if not entry.deleted and entry.map.stored
        }

    def _known(self, n: int, file: OriginalFile, place: Located, entry: Entry | None) -> KnownFile:
        """An original as it was located; or as a volume says, where that tells more and its content bears it out."""
        kind = kind_for_name(file.name)
        known = KnownFile(
            file, "/" + file.name, kind.name if kind else "other", self.catalogue.digests[n], None, None,
            volume=self._volume_of(place), map=place.map, gone=place.gone, rest_tells=place.telling,
        )  # fmt: skip
        told = entry.map if entry is not None else known.map
        # No look for blocks finds holes and units, nor what stands inside of a record.
        hidden = not told.plain or any(extent.offset % BLOCK for extent in told.stored)
        if hidden and told.size == file.size and not told.unknown():
            by_volume = replace(known, map=told, rest_tells=True)
            look_again(self.source, by_volume)
            if by_volume.standing >= known.standing:
                known = by_volume
        if self.after:
            look_again(self.medium, known)
        for _, extent in known.map.pieces() if self.medium.unreadable else ():
            for part in self.medium.unreadable.overlap(extent):  # zeros there are nobody's
                known.gone.add(part)
        return known

    def _settle(self, known: KnownFile, entry: Entry | None, now: dict[str, Entry], taken: set[int]) -> None:
        """What became of an original that no volume lists where it lies. `now` are the files that are listed, by path,
        and that are none of the others."""
        name, size, stands = known.path[1:], known.original.size, known.standing
        other = now.get(entry.full_path) if entry is not None else None
        lost = any(_names(pattern, name) for pattern in self.lost)
        if other is not None and stands < size:
            taken.add(id(other))
            self.adoption.changed.append(name)
            self._take_entry(known, other)
            known.end = "replaced"
            self.known.append(known)
            return
        if not known.map.stored and (entry is None or not size):
            self.adoption.gone.append(name)
            if not lost:
                return  # nothing tells that it ever was there
        if entry is not None:
            self._take_entry(known, entry)
        elif times := self.then.times_of(known):
            known.created, known.modified = times.created, times.modified
        if lost:
            known.end, known.lost = "deleted", True
        if name not in self.adoption.gone[-1:]:
            if stands < size:
                self.adoption.part[name] = stands / size
            else:
                (self.adoption.whole if lost else self.adoption.listed).append(name)
        self.known.append(known)

    @staticmethod
    def _take_entry(known: KnownFile, entry: Entry) -> None:
        """Path and times as the volume has them. A deleted one has the original's path, below the folders that the
        volume tells above it if the rest agrees: its own may have lost characters, or be a guess of our reader's."""
        own, parts = known.path.split("/")[1:], entry.full_path.split("/")[1:]
        if entry.deleted:
            above = len(parts) - len(own)
            agrees = all(a.casefold()[1:] == b.casefold()[1:] for a, b in zip(parts[::-1], own[::-1], strict=False))
            parts = [*parts[: max(above, 0)], *own] if agrees else own
        known.path = "/" + "/".join(parts)
        known.created, known.modified = entry.times.created, entry.times.modified
        known.stream = entry.stream

    def _volume_of(self, place: Located) -> str:
        at = place.pieces[0].extent.offset if place.pieces else -1
        for part in self.parts:
            if part.where.offset <= at < part.where.end:
                return part.name
        return self.parts[0].name

    def _others(self, taken: set[int]) -> None:
        """Files that the volumes list and that are no originals: results that bring them back are no noise."""
        for part, found in self.records.entries.items():
            for entry in found:
                if entry.deleted or id(entry) in taken:
                    continue
                size = entry.size
                if entry.map.size != size or entry.map.unknown():
                    continue  # its chain is broken: nobody can say what its content is
                content = _OnMedium(self.medium, entry.map)
                digest = blake3()
                for at in range(0, size, _READ):
                    digest.update(content.read(at, _READ))
                kind = kind_for_name(entry.name)
                known = KnownFile(
                    content, entry.full_path, kind.name if kind else "other", digest.hexdigest(),
                    entry.times.created, entry.times.modified, part, role="use",
                    map=entry.map,
                )  # fmt: skip
                self.known.append(known)
                self.adoption.others += 1

    def write(self, folder: Path, image: Medium, originals: str, progress: Progress, name: str) -> None:
        progress.start("digest", image.size)
        names = [RECIPE_FILE, TRUTH_FILE]
        unreadable = list(image.unreadable)
        self.adoption.unreadable = sum(extent.length for extent in unreadable)
        if unreadable:
            names.append(write_faults(folder / SPECIMEN_IMAGE, unreadable).name)
        medium = TruthMedium(
            size=image.size, sector=image.sector, digest=medium_digest(self.medium, progress.at),
            unreadable=tuple(unreadable),
        )  # fmt: skip
        truth = Truth(
            recipe=name, title=f"{image.path.name}, with the originals of {originals}", seed=0, medium=medium,
            volumes=tuple(_volume(part) for part in self.parts), folders=(),
            files=truths_of(self.known, self.records, folder),
        )  # fmt: skip
        write_truth(folder, truth, self._text(image.path.name, originals), names, {})
        progress.finish()

    def _text(self, image: str, originals: str) -> str:
        """What stands in the place of a recipe: where the specimen comes from, and which originals are not in it."""
        lines = ["# This specimen was adopted, not built.", "[adopted]", f"image = {_quoted(image)}"]
        lines += [f"originals = {_quoted(originals)}", f"changed = [{', '.join(map(_quoted, self.adoption.changed))}]"]
        lines.append(f"not-there = [{', '.join(map(_quoted, self.adoption.gone))}]")
        text = "\n".join(lines) + "\n"
        tomllib.loads(text)
        return text


def _names(pattern: str, name: str) -> bool:
    """Whether a pattern is a name, a path or a glob over either."""
    return fnmatchcase(name, pattern) or fnmatchcase(name.rpartition("/")[2], pattern)


def _quoted(text: str) -> str:
    """A TOML basic string of any name."""
    safe = text.encode("utf-8", "replace").decode("utf-8").replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c >= " " and c != "\x7f" else f"\\u{ord(c):04X}" for c in safe) + '"'


def _volume(part: MediumPart) -> TruthVolume:
    reader = part.reader
    life = TruthLife(
        number=1, file_system=part.file_system, cluster=reader.cluster_size if reader else 0,
        label=reader.label if reader else "", where=part.where, data=reader.data.offset if reader else 0, began=0,
        end="live",
    )  # fmt: skip
    trouble = "" if reader else _NO_READER
    return TruthVolume(name=part.name, where=part.where, listed=part.listed, trouble=trouble, lives=(life,))


def _paths_by_original(files: Sequence[OriginalFile], entries: Sequence[Entry]) -> dict[int, Entry]:
    """For each original the entry whose path ends most like its own; live entries and those of its size come first.

    A deleted entry may have lost the first character of its name.
    """
    by_name: defaultdict[str, list[Entry]] = defaultdict(list)
    for entry in entries:
        by_name[entry.name.casefold()[1:]].append(entry)
    out: dict[int, Entry] = {}
    for n, file in enumerate(files):
        parts = file.name.casefold().split("/")
        best: tuple[tuple[int, ...], Entry] | None = None
        for entry in by_name.get(parts[-1][1:], []):
            own = [part.casefold() for part in entry.full_path.split("/")[1:]]
            if own[-1] != parts[-1] and not (entry.deleted and entry.name_sure < 1):
                continue
            like = next((k for k, (a, b) in enumerate(zip(own[-2::-1], parts[-2::-1], strict=False)) if a != b), None)
            depth = min(len(own), len(parts)) - 1 if like is None else like
            rank = (own[:-1] == parts[:-1], depth, own[-1] == parts[-1], not entry.deleted, entry.size == file.size)
            if best is None or rank > best[0]:
                best = (rank, entry)
        if best is not None and (best[1].size == file.size or not best[1].deleted):
            out[n] = best[1]
    return out
