"""Does a specimen still agree with its truth? Everything is read again, through our reader and by its bytes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import PurePath

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import SpecimenError, system_words
from sastrugi.media.extents import RangeSet
from sastrugi.media.faults import FAULTS_SUFFIX
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.media.partitions import read_table
from sastrugi.media.raw import RawMedium
from sastrugi.progress import Progress
from sastrugi.specimen.ceiling import share_by_books, share_by_look, standing_blocks
from sastrugi.specimen.digests import blake3_of, medium_digest, sha256_file
from sastrugi.specimen.truth import RECIPE_FILE, SUMS_FILE, TRUTH_FILE, UNKNOWN, Specimen, TruthFile, TruthVolume
from sastrugi.texts import read_text
from sastrugi.units import percent
from sastrugi.volumes.probing import probe
from sastrugi.volumes.record_peek import names_match, peek_record

FAULTS_FILE = SPECIMEN_IMAGE + FAULTS_SUFFIX
_READ, _LARGEST_SUMS = 1 << 22, 1 << 20


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was checked: how many times, and every disagreement in words."""

    name: str
    count: int
    faults: tuple[str, ...]


def audit(specimen: Specimen, progress: Progress) -> list[Check]:
    """All checks; the specimen is sound when none has a fault."""
    checks = [_papers(specimen), _medium(specimen, progress), _table(specimen), _live_files(specimen, progress)]
    return [*checks, _originals(specimen, progress), _ceilings(specimen, progress), _records(specimen, progress)]


def _papers(specimen: Specimen) -> Check:
    """Truth, recipe and list of faults, by SHA256SUMS; the medium has a check of its own."""
    path = specimen.folder / SUMS_FILE
    faults: list[str] = []
    try:
        text = read_text(path, _LARGEST_SUMS, "ascii")
    except (OSError, ValueError) as error:
        told = system_words(error) if isinstance(error, OSError) else error
        return Check("digests of the papers", 0, (f"{SUMS_FILE} cannot be read: {told}",))
    lines = text.splitlines()
    listed = {name: digest for digest, _, name in (line.partition("  ") for line in lines)}
    for name in (RECIPE_FILE, TRUTH_FILE, *([FAULTS_FILE] if specimen.truth.medium.unreadable else [])):
        if name not in listed:
            faults.append(f"{SUMS_FILE} does not list {name}")
    for name, digest in listed.items():
        try:
            if sha256_file(specimen.folder / PurePath(name).name) != digest:
                faults.append(f"{name} is not the file that {SUMS_FILE} lists")
        except OSError:
            faults.append(f"{name} is listed in {SUMS_FILE}, but cannot be read")
    if "".join(f"{digest}  {name}\n" for name, digest in listed.items()) != text:
        faults.append(f"{SUMS_FILE} holds more than digests and names")
    return Check("digests of the papers", len(listed), tuple(faults))


def _medium(specimen: Specimen, progress: Progress) -> Check:
    progress.start("medium", specimen.medium.size)
    size, wanted = specimen.medium.size, specimen.truth.medium
    faults = [] if size == wanted.size else [f"the medium has {size:,} bytes, the truth says {wanted.size:,}"]
    if not faults and medium_digest(specimen.medium, progress.at) != wanted.digest:
        faults.append("the bytes of the medium are not those the truth was written for")
    if not faults and isinstance(specimen.medium, RawMedium):
        with RawMedium(specimen.medium.path, wanted.sector) as plain:  # which reads what lies below faults, too
            faults += [f"bytes stand at {part.offset:,}, where nothing can be read" for part in wanted.unreadable
                       if any(plain.read(*part))]  # fmt: skip
    progress.finish()
    return Check("medium digest", 1, tuple(faults))


def _table(specimen: Specimen) -> Check:
    """The table lists the volumes that it should, and no others."""
    places = {part.where for part in read_table(specimen.medium)}
    listed = [volume for volume in specimen.truth.volumes if volume.listed]
    faults = [
        f"no partition of {volume.where.length:,} bytes at {volume.where.offset:,} for volume '{volume.name}'"
        for volume in listed
        if volume.where not in places
    ]
    known = {volume.where for volume in listed}
    faults += [f"a partition of {p.length:,} bytes at {p.offset:,} is not in the truth" for p in places - known]
    return Check("partition table", len(listed), tuple(faults))


def _live_files(specimen: Specimen, progress: Progress) -> Check:
    """Every live file must be listed by our reader, at its path, with its digest; on a sound volume nothing else."""
    faults: list[str] = []
    live = specimen.truth.live
    progress.start("live files", len(live), "files")
    done = 0
    for volume in specimen.truth.volumes:
        unknown = volume.life is not None and volume.life.file_system == UNKNOWN
        for fault in (_where_they_lie if unknown else _listed)(specimen, volume):
            faults += [fault] if fault else []
            done += 1
            progress.at(done)
    progress.finish()
    return Check("live files read back", len(live), tuple(faults))


def _listed(specimen: Specimen, volume: TruthVolume) -> Iterator[str]:
    """For each file of a volume what is wrong with it, or nothing."""
    files = _files_of(specimen, volume)
    expected = {file.on_volume: file for file in files if file.standing}
    # A file that only lost bytes of its content is still listed, and no fault.
    listed_still = {file.map for file in files if file.end in ("damaged", "overlaid")}
    reader = probe(specimen.medium, volume.where) if volume.life else None
    entries = reader.entries() if reader is not None else ()
    for entry in (one for one in entries if not (one.deleted or one.folder)):
        path = entry.full_path
        found = expected.pop(path, None)
        if found is None:
            strange = not volume.trouble and entry.map not in listed_still
            yield f"{path} is on volume '{volume.name}', but not in the truth" if strange else ""
            continue
        right = blake3_of(entry.map.chunks(specimen.medium, _READ)) == found.blake3
        yield _told(path, entry.size == found.size and right)
    for path in expected:
        yield f"{path} is not on volume '{volume.name}' any more"


def _where_they_lie(specimen: Specimen, volume: TruthVolume) -> Iterator[str]:
    """The same of a volume that nobody lists: its files are read where they lie."""
    for file in _files_of(specimen, volume):
        if file.standing:
            yield _told(file.on_volume, blake3_of(specimen.blocks(file)) == file.blake3)


def _files_of(specimen: Specimen, volume: TruthVolume) -> list[TruthFile]:
    """The files of the life of a volume that goes on, or was the last."""
    return [one for one in specimen.truth.files if one.volume == volume.name and one.life == len(volume.lives)]


def _told(path: str, right: bool) -> str:
    return "" if right else f"{path} does not read back as it was written"


def _originals(specimen: Specimen, progress: Progress) -> Check:
    lost = [file for file in specimen.truth.files if not file.standing and file.kept]
    faults: list[str] = []
    progress.start("originals", len(lost), "files")
    for n, file in enumerate(lost, 1):
        try:
            if blake3_of(specimen.blocks(file)) != file.blake3:
                faults.append(f"the original of {file.path} is not what the truth says")
        except SpecimenError as error:
            faults.append(str(error))
        progress.at(n)
    progress.finish()
    return Check("originals of lost files", len(lost), tuple(faults))


def _ceilings(specimen: Specimen, progress: Progress) -> Check:
    faults: list[str] = []
    files = [file for file in specimen.truth.files if file.kept]
    left = Counter(file.blake3 for file in files)
    together: dict[str, NDArray[np.bool_]] = {}
    progress.start("ceilings", len(files), "files")
    for n, file in enumerate(files, 1):
        try:
            blocks = standing_blocks(specimen, file)
        except SpecimenError:
            continue  # its original cannot be read, which is told as such
        seen, kept = share_by_look(file, blocks), share_by_books(file.map, RangeSet(file.gone))
        if not file.unplaced and seen < kept - 1e-12 and _share_by_bytes(specimen, [file]) < kept - 1e-12:
            faults.append(f"{file.path}: the books say {percent(kept)} of it stands, a look finds {percent(seen)}")
        together[file.blake3] = together.get(file.blake3, blocks) | blocks
        left[file.blake3] -= 1
        if not left[file.blake3]:  # the last of its copies: what stands in any of them counts for all
            seen = share_by_look(file, together.pop(file.blake3))
            if file.ceiling.bytes > seen + 1e-12 and file.ceiling.bytes > 1e-12 + _share_by_bytes(
                specimen, [one for one in files if one.blake3 == file.blake3]
            ):
                faults.append(_over(file, seen))
        progress.at(n)
    progress.finish()
    return Check("ceilings, by books and by look", len(files), tuple(faults))


def _share_by_bytes(specimen: Specimen, copies: Sequence[TruthFile]) -> float:
    """The share of a file's bytes that stand where one of its copies lay, by looking at each: books count bytes, of
    which zeros stand also where zeros were written over them, in blocks that are not right as a whole."""
    size = copies[0].size
    standing = 0
    for position in range(0, size, _READ):
        then = np.frombuffer(specimen.original(copies[0], position, _READ), "u1")
        same = np.zeros(len(then), bool)
        for one in copies:
            now = one.map.read(specimen.medium, position, len(then)).ljust(len(then), b"\0")
            same |= np.frombuffer(now, "u1") == then
        standing += int(np.count_nonzero(same))
    return standing / size if size else 1.0


def _over(file: TruthFile, seen: float) -> str:
    return f"{file.path}: its ceiling is {percent(file.ceiling.bytes)}, a look finds {percent(seen)}"


def _records(specimen: Specimen, progress: Progress) -> Check:
    """Where the books say that a record still places a file, a look at its bytes must find name, size and place."""
    lives = {(volume.name, life.number): life for volume in specimen.truth.volumes for life in volume.lives}
    told = [f for f in specimen.truth.files if not f.standing and f.ceiling.placed != "none" and f.record]
    files = [file for file in told if file.size and not file.stream]  # a stream is part of its file's record
    faults: list[str] = []
    progress.start("records", len(files), "files")
    for n, file in enumerate(files, 1):
        life = lives[file.volume, file.life]
        data = specimen.medium.read_extents(file.record)
        seen = peek_record(life.file_system, data, file.record, life.data, life.cluster)
        if seen is None or (file.ceiling.placed == "whole" and seen.size != file.size):
            faults.append(f"{file.path}: the books say that its record stands, a look does not find it")
        elif file.ceiling.placed != "hint" and seen.start is not None and file.map.start not in (None, seen.start):
            faults.append(f"{file.path}: its record names another place than the books")
        elif (
            file.ceiling.name in ("full", "name")
            and not file.stands_as
            and not any(_tells(name, file.name) for name in (seen.name, *seen.others))
        ):
            faults.append(f"{file.path}: the books say that its name stands, a look finds '{seen.name}'")
        progress.at(n)
    progress.finish()
    return Check("records, by books and by look", len(files), tuple(faults))


def _tells(seen: str, name: str) -> bool:
    """Whether a record tells a name, or what is left of it where the first of its entries were written over (or all of
    them): then another record, or a copy of the file, tells the whole."""
    stem, dot, extension = seen.rpartition(".")
    return (
        not seen
        or names_match(seen, name)
        or bool(dot and stem and name.startswith(stem) and name.endswith(dot + extension))
    )
