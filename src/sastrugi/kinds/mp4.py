"""MP4 and its relatives: boxes one after the other. Source: ISO/IEC 14496-12 (ISO base media file format)."""

from __future__ import annotations

import tempfile
from pathlib import Path
from struct import Struct

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice
from sastrugi.units import plural

_BOX = Struct(">I4s")
_LARGE = Struct(">Q")
_TOP = frozenset(
    {b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"uuid", b"moof", b"mfra", b"sidx", b"ssix", b"styp",
     b"meta", b"pdin", b"prft", b"emsg", b"udta", b"junk", b"pnot"}
)  # fmt: skip
_PARENTS = (b"moov", b"trak", b"mdia", b"minf", b"stbl")
_OFFSETS = {b"stco": ">u4", b"co64": ">u8"}
_BRANDS = {b"qt  ": "mov", b"M4A ": "m4a", b"M4B ": "m4a", b"heic": "heic", b"mif1": "heic", b"avif": "avif"}
_MAX_INDEX = 64 << 20
_SMALL = 100_000
_FRAMES, _FRAMES_PER_SECOND = 24, 12


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 12)
    if len(head) < 12 or head[4:8] != b"ftyp" or not 16 <= int.from_bytes(head[:4], "big") <= 4096:
        return None
    brand = head[8:12]
    extension = _BRANDS.get(brand, "3gp" if brand[:3] == b"3gp" else "mp4")
    at, names = 0, []
    index: tuple[int, int] | None = None
    while at < source.size:
        box = _box(source, at)
        if box is None or box[0] not in _TOP or (box[0] == b"ftyp" and at):
            break
        name, inner, end = box
        if end > source.size:
            return broken("mp4", at, f"box {name.decode()} reaches beyond the end")
        names.append(name)
        if name == b"moov":
            index = inner, end
        at = end
    still = b"meta" in names and extension in ("heic", "avif")
    if not ({b"moov", b"mdat"} <= set(names) or {b"moov", b"moof"} <= set(names) or still):
        return broken("mp4", at, "index and media are not both there")
    if index is not None:
        outside = _offset_outside(source, *index, limit=at)
        if outside is not None:
            return broken("mp4", at, f"its index names media at {outside:,}, beyond its {at:,} bytes")
    return Measure(
        "mp4",
        at,
        True,
        Proof.STRUCTURE,
        f"{plural(len(names), 'box', 'boxes')} meet, the index points inside",
        extension=extension,
    )


def _box(source: Source, at: int) -> tuple[bytes, int, int] | None:
    """Name, start of the content and end of the box at `at`; None where there is none."""
    head = source.unpack(_BOX, at)
    if head is None:
        return None
    size, name = head
    inner = at + 8
    if size == 1:
        large = source.unpack(_LARGE, inner)
        if large is None:
            return None
        size, inner = large[0], inner + 8
    if size < inner - at:
        return None
    return name, inner, at + size


def _offset_outside(source: Source, start: int, end: int, limit: int, depth: int = 0) -> int | None:
    """The first chunk offset in the index that points at or beyond `limit`."""
    at = start
    while at < end:
        box = _box(source, at)
        if box is None or box[2] > end:
            return None
        name, inner, at = box
        if name in _PARENTS and depth < len(_PARENTS):
            found = _offset_outside(source, inner, at, limit, depth + 1)
            if found is not None:
                return found
        elif name in _OFFSETS:
            table = source.read(inner + 8, min(at - inner - 8, _MAX_INDEX))
            width = np.dtype(_OFFSETS[name]).itemsize
            offsets = np.frombuffer(table, _OFFSETS[name], len(table) // width)
            if len(offsets) and int(offsets.max()) >= limit:
                return int(offsets.max())
    return None


def make(dice: Dice, size: int) -> bytes:
    """A clip of drifting snow whose index stands first or last, as the dice say."""
    width, height = (320, 240) if size > _SMALL else (128, 96)
    scene = [np.asarray(picture) for picture in dice.fork("scene").pictures(width, height, _FRAMES)]
    rate = max(min(size * 8 * _FRAMES_PER_SECOND // _FRAMES, 40_000_000), 40_000)
    with tempfile.TemporaryDirectory() as folder:  # the library goes over the file again to move the index
        path = Path(folder) / "clip.mp4"
        _encode(path, scene, rate, index_first=dice.chance(0.5))
        data = path.read_bytes()
    padding = size - len(data)
    if padding < 8:
        return data
    # A `free` box of sensor readings brings the clip to its size, as cameras reserve room in their files.
    return data + _BOX.pack(padding, b"free") + dice.noise(padding - 8)


def _encode(path: Path, pictures: list[NDArray[np.uint8]], rate: int, index_first: bool) -> None:
    """MPEG-4 part 2, one thread and no time stamps, so that the bytes repeat."""
    import av

    options = {"fflags": "+bitexact"} | ({"movflags": "+faststart"} if index_first else {})
    with av.open(str(path), "w", format="mp4", options=options) as container:
        stream = container.add_stream("mpeg4", rate=_FRAMES_PER_SECOND)
        stream.height, stream.width, stream.pix_fmt = *pictures[0].shape[:2], "yuv420p"
        stream.bit_rate = rate
        stream.codec_context.thread_count = 1
        stream.codec_context.options = {"flags": "+bitexact", "idct": "simple", "dct": "int"}
        for picture in pictures:
            container.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
        container.mux(stream.encode(None))


def check(path: Path) -> None:
    import av

    with av.open(str(path)) as container:
        if not container.streams.video and not container.streams.audio:
            raise ValueError("holds neither pictures nor sound")
        count = (
            sum(1 for _ in container.decode(video=0))
            if container.streams.video
            else sum(1 for _ in container.decode(audio=0))
        )
        if not count:
            raise ValueError("not one frame can be decoded")


KIND = Kind(
    "mp4", "MP4 video", "video", ("mp4", "m4v", "mov", "m4a", "3gp", "heic", "avif"), "video/mp4",
    "boxes one after the other", Proof.STRUCTURE, measure, (Signature(b"ftyp", 4),), make=make, check=check,
)  # fmt: skip
