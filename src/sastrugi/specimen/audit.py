"""Does a specimen still agree with its truth? Everything is read again, through our reader and by its bytes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from blake3 import blake3

from sastrugi.media.partitions import read_mbr
from sastrugi.progress import Progress
from sastrugi.specimen.ceiling import share_by_books, share_by_look
from sastrugi.specimen.digests import medium_digest
from sastrugi.specimen.truth import Specimen, TruthFile
from sastrugi.volumes.base import Entry, probe


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was checked: how many times, and every disagreement in words."""

    name: str
    count: int
    faults: tuple[str, ...]


def audit(specimen: Specimen, progress: Progress) -> list[Check]:
    """All checks; the specimen is sound when none has a fault."""
    checks = [_medium(specimen, progress), _table(specimen)]
    checks += [_live_files(specimen, progress), _originals(specimen, progress), _ceilings(specimen, progress)]
    return checks


def _medium(specimen: Specimen, progress: Progress) -> Check:
    progress.start("medium", specimen.medium.size)
    size, wanted = specimen.medium.size, specimen.truth.medium
    faults = [] if size == wanted.size else [f"the medium has {size:,} bytes, the truth says {wanted.size:,}"]
    if not faults and medium_digest(specimen.medium, progress.at) != wanted.digest:
        faults.append("the bytes of the medium are not those the truth was written for")
    progress.finish()
    return Check("medium digest", 1, tuple(faults))


def _table(specimen: Specimen) -> Check:
    places = {part.where for part in read_mbr(specimen.medium)}
    bare = [volume for volume in specimen.truth.volumes if volume.where.offset == 0]
    faults = [
        f"no partition of {volume.where.length:,} bytes at {volume.where.offset:,} for volume '{volume.name}'"
        for volume in specimen.truth.volumes
        if volume not in bare and volume.where not in places
    ]
    return Check("partition table", len(specimen.truth.volumes), tuple(faults))


def _live_files(specimen: Specimen, progress: Progress) -> Check:
    """Every live file must be listed by our reader, at its path, with its digest, and nothing else may be."""
    faults: list[str] = []
    progress.start("live files", len(specimen.truth.live), "files")
    done = 0
    for volume in specimen.truth.volumes:
        reader = probe(specimen.medium, volume.where) if volume.file_system else None
        expected = {file.path: file for file in specimen.truth.live if file.volume == volume.name}
        entries: list[Entry] = [] if reader is None else [e for e in reader.entries() if not e.deleted and not e.folder]
        for entry in entries:
            path = "/" + "/".join(entry.path)
            file = expected.pop(path, None)
            if file is None:
                faults.append(f"{path} is on volume '{volume.name}', but not in the truth")
                continue
            digest = blake3()
            for offset, length in entry.placements[0].extents if entry.placements else ():
                digest.update(specimen.medium.read(offset, length))
            if entry.size != file.size or digest.hexdigest() != file.blake3:
                faults.append(f"{path} does not read back as it was written")
            done += 1
            progress.at(done)
        faults += [f"{path} is not on volume '{volume.name}' any more" for path in expected]
    progress.finish()
    return Check("live files read back", len(specimen.truth.live), tuple(faults))


def _originals(specimen: Specimen, progress: Progress) -> Check:
    lost = specimen.truth.lost
    faults: list[str] = []
    progress.start("originals", len(lost), "files")
    for n, file in enumerate(lost, 1):
        if _digest(specimen.blocks(file)) != file.blake3:
            faults.append(f"the original of {file.path} is not what the truth says")
        progress.at(n)
    progress.finish()
    return Check("originals of lost files", len(lost), tuple(faults))


def _digest(blocks: Iterable[bytes]) -> str:
    digest = blake3()
    for block in blocks:
        digest.update(block)
    return digest.hexdigest()


def _ceilings(specimen: Specimen, progress: Progress) -> Check:
    faults: list[str] = []
    looked: dict[str, float] = {}
    files = [file for file in specimen.truth.files if file.extents]
    progress.start("ceilings", len(files), "files")
    for n, file in enumerate(files, 1):
        seen, kept = share_by_look(specimen, file), share_by_books(file)
        looked[file.blake3] = max(looked.get(file.blake3, 0.0), seen)
        if seen < kept - 1e-12:
            faults.append(f"{file.path}: the books say {kept:.1%} of it stands, a look finds {seen:.1%}")
        progress.at(n)
    faults += [_over(file, looked[file.blake3]) for file in files if file.ceiling.bytes > looked[file.blake3] + 1e-12]
    progress.finish()
    return Check("ceilings, by books and by look", len(files), tuple(faults))


def _over(file: TruthFile, seen: float) -> str:
    return f"{file.path}: its ceiling is {file.ceiling.bytes:.1%}, a look finds {seen:.1%}"
