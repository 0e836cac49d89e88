"""What lies beside the medium of a specimen: its truth, its recipe, what cannot be read, and the digests of all."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from typing import TYPE_CHECKING

from pydantic import TypeAdapter

from sastrugi.media import Extent, RangeSet
from sastrugi.media.faults import write_faults
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.safety import atomic_file, write_text
from sastrugi.specimen.ceiling import Copy, Share, add_parts_of_units, share_of, with_shared_names
from sastrugi.specimen.digests import medium_digest, sha256_file
from sastrugi.specimen.laid_files import Series
from sastrugi.specimen.observed_truth import KnownFile, MediumPart, RecordIndex, look_again, truths_of
from sastrugi.specimen.truth import (
    LOSSES,
    ORIGINALS,
    RECIPE_FILE,
    SUMS_FILE,
    TRUTH_FILE,
    Truth,
    TruthFile,
    TruthFolder,
    TruthLife,
    TruthMedium,
    TruthVolume,
    truth_entry,
)
from sastrugi.volumes.probing import probe

if TYPE_CHECKING:
    from pathlib import Path

    from sastrugi.media.raw import RawImage
    from sastrugi.specimen.builder import SpecimenBuilder
    from sastrugi.specimen.laid_files import LaidFile, Slot
    from sastrugi.specimen.recipe import Recipe


_FILES_AT_ONCE = 1000


def write_papers(recipe: Recipe, builder: SpecimenBuilder) -> None:
    """Write truth, recipe, faults and digests into the specimen's folder, from the books."""
    folders = tuple(_folder(builder, laid) for laid in builder.laid if laid.folder)
    _write(recipe, builder, builder.image, builder.folder, folders, _files(builder))


def write_papers_by_look(
    recipe: Recipe, builder: SpecimenBuilder, image: RawImage, folder: Path, known: dict[int, KnownFile]
) -> None:
    """The same for an image that another writer laid down beside the plan. `known` are its files, by id of the plan's;
    what is not known of them (buffer files) has no place."""
    every = [laid for laid in builder.laid if not laid.folder]
    last = _last_losses(every)
    files: list[KnownFile] = []
    for laid in every:
        file = known.get(id(laid))
        if file is None:
            continue
        file.path, file.former, file.blake3, file.sha256 = laid.path, tuple(laid.former), laid.blake3, laid.sha256
        file.end, file.ended_by = laid.end, laid.ended_by
        file.lost = _ended_in_loss(laid) and laid.life == last[laid.volume]
        file.stands_as = laid.node.path if laid.node.path != laid.path else ""
        if laid.role in ("reference", "index") or not (laid.content and laid.content.gone):
            look_again(image, file)
        files.append(file)
    folders = tuple(
        TruthFolder(volume=laid.volume, life=laid.life, path=laid.path, record=(), end=laid.end)
        for laid in builder.laid
        if laid.folder
    )
    listed = [
        MediumPart(p.name, p.where, p.listed, probe(image, p.where) if p.writer else None)
        for p in builder.places.values()
    ]
    _write(
        recipe,
        builder,
        image,
        folder,
        folders,
        truths_of(files, RecordIndex(image, listed), folder),
        "by the system's driver",
    )


def _write(
    recipe: Recipe, builder: SpecimenBuilder, image: RawImage, folder: Path, folders: tuple[TruthFolder, ...],
    files: tuple[TruthFile, ...], by: str = "",
) -> None:  # fmt: skip
    builder.progress.start("digests", image.size)
    names = [RECIPE_FILE, TRUTH_FILE]
    if builder.unreadable:
        names.append(write_faults(image.path, list(builder.unreadable)).name)
    with ThreadPoolExecutor(1) as beside:
        whole = beside.submit(sha256_file, image.path) if builder.sha256 else None
        digest = medium_digest(image, builder.progress.at)
        sums = {SPECIMEN_IMAGE: whole.result()} if whole else {}
    truth = Truth(
        recipe=recipe.name,
        title=recipe.title + (f" ({by})" if by else ""),
        seed=recipe.seed,
        medium=TruthMedium(size=image.size, sector=image.sector, digest=digest, unreadable=tuple(builder.unreadable)),
        volumes=tuple(_volume(place) for place in builder.places.values()),
        folders=folders,
        files=files,
    )
    write_truth(folder, truth, recipe.text, names, sums)
    builder.progress.finish()


def write_truth(folder: Path, truth: Truth, recipe: str, names: list[str], sums: dict[str, str]) -> None:
    """Write truth and recipe, and the SHA-256 of the files `names`, added to those known already."""
    with atomic_file(folder / TRUTH_FILE) as temporary, temporary.open("wb") as file:
        file.writelines(_json_of(truth))
    write_text(folder / RECIPE_FILE, recipe)
    sums |= {name: sha256_file(folder / name) for name in names}
    write_text(folder / SUMS_FILE, "".join(f"{sums[name]}  {name}\n" for name in sorted(sums)))


def _json_of(truth: Truth) -> Iterator[bytes]:
    """The text of a truth, its files some at a time: of a hundred thousand the whole of it is much."""
    files = TypeAdapter(tuple[TruthFile, ...])
    whole = truth.model_copy(update={"files": ()}).model_dump_json(indent=1).encode()
    head, mark, tail = whole.rpartition(b"[]")
    yield head + mark[:1]
    for at in range(0, len(truth.files), _FILES_AT_ONCE):
        inside = files.dump_json(truth.files[at : at + _FILES_AT_ONCE], indent=1)[1:-2]
        yield (b"," if at else b"") + inside.replace(b"\n", b"\n ")
    yield (b"\n " if truth.files else b"") + mark[1:] + tail + b"\n"


def _files(builder: SpecimenBuilder) -> tuple[TruthFile, ...]:
    """All files. The same content elsewhere on the medium counts for the ceiling, too."""
    every = [laid for laid in builder.laid if not laid.folder]
    last = _last_losses(every)
    series = Series(builder.laid)
    shares = _shares(builder, every)
    return with_shared_names(
        _file(
            builder, number, laid, _ended_in_loss(laid) and laid.life == last[laid.volume], shares[laid.blake3], series
        )
        for number, laid in enumerate(every, 1)
    )  # fmt: skip


def _shares(builder: SpecimenBuilder, every: list[LaidFile]) -> dict[str, Share]:
    """What stands of each content."""
    copies: defaultdict[str, list[LaidFile]] = defaultdict(list)
    for laid in every:
        copies[laid.blake3].append(laid)
    beginnings: defaultdict[str, list[Copy]] = defaultdict(list)
    for laid in every:
        for size, digest in laid.grown_from if not laid.standing else ():
            standing = _copy(builder, laid).standing
            beginnings[digest].append(Copy(RangeSet(standing.overlap(Extent(0, size)))))
    out: dict[str, Share] = {}
    for digest, lains in copies.items():
        if any(not laid.standing and laid.content is not None and not len(laid.content.gone) for laid in lains):
            out[digest] = Share(1.0)
            continue
        out[digest] = share_of(lains[0].size, [*beginnings[digest], *(_copy(builder, laid) for laid in lains)])
    return out


def _copy(builder: SpecimenBuilder, laid: LaidFile) -> Copy:
    assert laid.content is not None
    standing = laid.map.right(laid.content.gone)
    saved = builder.folder / ORIGINALS / laid.blake3
    if laid.map.coded and laid.content.gone and saved.exists():
        with saved.open("rb") as file:

            def original(position: int, length: int) -> bytes:
                file.seek(position)
                return file.read(length)

            add_parts_of_units(builder.image, laid.map, laid.content.gone, original, standing)
    for place, tracked in laid.others:
        for part in place.right(tracked.gone):
            standing.add(part)
    return Copy(standing, laid.path if laid.standing else "")


def _ended_in_loss(laid: LaidFile) -> bool:
    return laid.role == "reference" and laid.end in LOSSES


def _last_losses(every: list[LaidFile]) -> dict[str, int]:
    """The last life of each volume in which a reference was lost: what an earlier one lost is no longer looked for."""
    last: dict[str, int] = {}
    for laid in every:
        if _ended_in_loss(laid):
            last[laid.volume] = max(laid.life, last.get(laid.volume, 0))
    return last


def _volume(place: Slot) -> TruthVolume:
    lives = tuple(TruthLife(**asdict(life)) for life in place.lives)
    return TruthVolume(name=place.name, where=place.where, listed=place.listed, trouble=place.trouble, lives=lives)


def _record(builder: SpecimenBuilder, laid: LaidFile) -> tuple[Extent, ...]:
    writer = builder.places[laid.volume].writer
    if laid.standing and writer:
        return writer.record(laid.node)
    best = laid.best_record()
    return best.record if best else laid.record


def _folder(builder: SpecimenBuilder, laid: LaidFile) -> TruthFolder:
    return TruthFolder(
        volume=laid.volume, life=laid.life, path=laid.path, record=_record(builder, laid), end=laid.end
    )  # fmt: skip


def _file(builder: SpecimenBuilder, number: int, laid: LaidFile, lost: bool, share: Share, series: Series) -> TruthFile:
    place, left = laid.best_place()
    best = laid.best_record()
    stands_as = laid.node.path if laid.standing else best.path if best else laid.path
    return truth_entry(
        number, laid, laid.size, lost, place, left.gone, left.takers, _record(builder, laid), stands_as,
        laid.node.stream, share.copies, laid.ceiling(share, series),
    )  # fmt: skip
