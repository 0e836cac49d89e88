"""What lies beside the medium of a specimen: its truth, its recipe, what cannot be read, and the digests of all."""

from __future__ import annotations

from collections import defaultdict
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate
from typing import TYPE_CHECKING

from sastrugi.media.extents import cut
from sastrugi.media.faults import write_faults
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.safety import write_text
from sastrugi.specimen.ceiling import Copy, Share, share_of, with_shared_names
from sastrugi.specimen.digests import medium_digest, sha256_file
from sastrugi.specimen.laid_files import Series
from sastrugi.specimen.observed_truth import Known, Part, Records, look_again, truths_of
from sastrugi.specimen.truth import (
    LOSSES,
    RECIPE_FILE,
    SUMS_FILE,
    TRUTH_FILE,
    Truth,
    TruthFile,
    TruthFolder,
    TruthLife,
    TruthMedium,
    TruthVolume,
)
from sastrugi.volumes.probing import probe

if TYPE_CHECKING:
    from pathlib import Path

    from sastrugi.media import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.specimen.builder import Laying
    from sastrugi.specimen.laid_files import Lain, Place
    from sastrugi.specimen.recipe import Recipe


def write_papers(recipe: Recipe, laying: Laying) -> None:
    """Write truth, recipe, faults and digests into the specimen's folder, from the books."""
    folders = tuple(_folder(laying, lain) for lain in laying.laid if lain.folder)
    _write(recipe, laying, laying.image, laying.folder, folders, _files(laying))


def write_papers_by_look(
    recipe: Recipe, laying: Laying, image: RawImage, folder: Path, known: dict[int, Known]
) -> None:
    """The same for an image that another writer laid down beside the plan. `known` are its files, by id of the plan's;
    what is not known of them (buffer files) has no place."""
    laid = [lain for lain in laying.laid if not lain.folder]
    last = _last_losses(laid)
    files: list[Known] = []
    for lain in laid:
        file = known.get(id(lain))
        if file is None:
            continue
        file.path, file.former, file.blake3, file.sha256 = lain.path, tuple(lain.former), lain.blake3, lain.sha256
        file.end, file.ended_by = lain.end, lain.ended_by
        file.lost = _ended_in_loss(lain) and lain.life == last[lain.volume]
        file.stands_as = lain.node.path if lain.node.path != lain.path else ""
        if lain.role in ("reference", "index") or not (lain.content and lain.content.gone):
            look_again(image, file)
        files.append(file)
    folders = tuple(
        TruthFolder(volume=lain.volume, life=lain.life, path=lain.path, record=(), end=lain.end)
        for lain in laying.laid
        if lain.folder
    )
    listed = [
        Part(p.name, p.where, p.listed, probe(image, p.where) if p.writer else None) for p in laying.places.values()
    ]
    _write(
        recipe,
        laying,
        image,
        folder,
        folders,
        truths_of(files, Records(image, listed), folder),
        "by the system's driver",
    )


def _write(
    recipe: Recipe, laying: Laying, image: RawImage, folder: Path, folders: tuple[TruthFolder, ...],
    files: tuple[TruthFile, ...], by: str = "",
) -> None:  # fmt: skip
    laying.progress.start("digests", image.size)
    names = [RECIPE_FILE, TRUTH_FILE]
    if laying.unreadable:
        names.append(write_faults(image.path, list(laying.unreadable)).name)
    with ThreadPoolExecutor(1) as beside:
        whole = beside.submit(sha256_file, image.path) if laying.sha256 else None
        digest = medium_digest(image, laying.progress.at)
        sums = {SPECIMEN_IMAGE: whole.result()} if whole else {}
    truth = Truth(
        recipe=recipe.name,
        title=recipe.title + (f" ({by})" if by else ""),
        seed=recipe.seed,
        medium=TruthMedium(size=image.size, sector=image.sector, digest=digest, unreadable=tuple(laying.unreadable)),
        volumes=tuple(_volume(place) for place in laying.places.values()),
        folders=folders,
        files=files,
    )
    write_truth(folder, truth, recipe.text, names, sums)
    laying.progress.finish()


def write_truth(folder: Path, truth: Truth, recipe: str, names: list[str], sums: dict[str, str]) -> None:
    """Write truth and recipe, and the SHA-256 of the files `names`, added to those known already."""
    write_text(folder / TRUTH_FILE, truth.model_dump_json(indent=1) + "\n")
    write_text(folder / RECIPE_FILE, recipe)
    sums |= {name: sha256_file(folder / name) for name in names}
    write_text(folder / SUMS_FILE, "".join(f"{sums[name]}  {name}\n" for name in sorted(sums)))


def _files(laying: Laying) -> tuple[TruthFile, ...]:
    """All files. The same content elsewhere on the medium counts for the ceiling, too."""
    laid = [lain for lain in laying.laid if not lain.folder]
    last = _last_losses(laid)
    series = Series(laying.laid)
    shares = _shares(laid)
    return with_shared_names(
        _file(
            laying, number, lain, _ended_in_loss(lain) and lain.life == last[lain.volume], shares[lain.blake3], series
        )
        for number, lain in enumerate(laid, 1)
    )  # fmt: skip


def _shares(laid: list[Lain]) -> dict[str, Share]:
    """What stands of each content."""
    copies: defaultdict[str, list[Lain]] = defaultdict(list)
    for lain in laid:
        copies[lain.blake3].append(lain)
    out: dict[str, Share] = {}
    for digest, lains in copies.items():
        if any(not lain.standing and lain.content is not None and not len(lain.content.gone) for lain in lains):
            out[digest] = Share(1.0)
            continue
        out[digest] = share_of(lains[0].size, [_copy(lain) for lain in lains])
    return out


def _copy(lain: Lain) -> Copy:
    assert lain.content is not None
    extents = cut(lain.content.extents, lain.size)
    positions = accumulate((extent.length for extent in extents), initial=0)
    return Copy.of(zip(positions, extents, strict=False), lain.content.gone, lain.path if lain.standing else "")


def _ended_in_loss(lain: Lain) -> bool:
    return lain.role == "reference" and lain.end in LOSSES


def _last_losses(laid: list[Lain]) -> dict[str, int]:
    """The last life of each volume in which a reference was lost: what an earlier one lost is no longer looked for."""
    last: dict[str, int] = {}
    for lain in laid:
        if _ended_in_loss(lain):
            last[lain.volume] = max(lain.life, last.get(lain.volume, 0))
    return last


def _volume(place: Place) -> TruthVolume:
    lives = tuple(
        TruthLife(
            number=life.number, file_system=life.file_system, cluster=life.cluster, label=life.label, where=life.where,
            data=life.data, began=life.began, end=life.end, ended_by=life.ended_by,
        )
        for life in place.lives
    )  # fmt: skip
    return TruthVolume(name=place.name, where=place.where, listed=place.listed, trouble=place.trouble, lives=lives)


def _record(laying: Laying, lain: Lain) -> tuple[Extent, ...]:
    writer = laying.places[lain.volume].writer
    if lain.standing and writer:
        return writer.record(lain.node)
    best = lain.best_record()
    return best.evidence.record if best else lain.record


def _folder(laying: Laying, lain: Lain) -> TruthFolder:
    return TruthFolder(
        volume=lain.volume, life=lain.life, path=lain.path, record=_record(laying, lain), end=lain.end
    )  # fmt: skip


def _file(laying: Laying, number: int, lain: Lain, lost: bool, share: Share, series: Series) -> TruthFile:
    assert lain.content is not None
    best = lain.best_record()
    stands_as = lain.node.path if lain.standing else best.path if best else lain.path
    return TruthFile(
        id=number,
        volume=lain.volume,
        life=lain.life,
        path=lain.path,
        role=lain.role,
        former=tuple(lain.former),
        stands_as=stands_as if stands_as != lain.path else "",
        kind=lain.kind,
        size=lain.size,
        blake3=lain.blake3,
        sha256=lain.sha256,
        created=lain.created,
        modified=lain.modified,
        extents=lain.content.extents,
        record=_record(laying, lain),
        end=lain.end,
        ended_by=lain.ended_by,
        lost=lost,
        gone=tuple(lain.content.gone),
        gone_to=tuple(lain.content.takers),
        copies=() if lain.standing else share.copies,
        ceiling=lain.ceiling(share, series),
    )
