"""Films and stills in boxes or chunks: pictures begin where the index says, or the file is not whole; judged by the
demuxer of FFmpeg (PyAV)."""

from __future__ import annotations

import io
import random
import tempfile
import zlib
from functools import cache
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pillow_heif import from_pillow

from sastrugi.kinds import recognise
from sastrugi.kinds._film_samples import _pictures_of
from sastrugi.kinds._iso_boxes import boxes_in
from sastrugi.kinds._riff import chunks_in
from sastrugi.kinds._still_items import _placed_items
from sastrugi.kinds.avi import _media
from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.registry import kind_named
from sastrugi.scenario.dice import Dice

CLUSTER = 4096
FILMS: dict[str, tuple[str, str, str, dict[str, str]]] = {
    "h264": ("libx264", "mp4", "yuv420p", {}),
    "h264, index first": ("libx264", "mov", "yuv420p", {"movflags": "+faststart"}),
    "h265": ("libx265", "mp4", "yuv420p", {}),
    "mpeg-4": ("mpeg4", "mp4", "yuv420p", {"movflags": "+faststart"}),
    "h263": ("h263", "3gp", "yuv420p", {}),
    "images": ("mjpeg", "mov", "yuvj420p", {"movflags": "+faststart"}),
    "prores": ("prores_ks", "mov", "yuv422p10le", {}),
}
"""Films by their coding: encoder, container, pixels, and options of the container."""
AVI = {
    "mpeg-4 in avi": ("mpeg4", "avi", "yuv420p", {}), "h264 in avi": ("libx264", "avi", "yuv420p", {}),
    "images in avi": ("mjpeg", "avi", "yuvj420p", {}),
}  # fmt: skip


@cache
def film(name: str, frames: int = 24) -> bytes:
    """A clip with sound beside it, in chunks by turns."""
    encoder, container_format, pixels, options = (FILMS | AVI)[name]
    scene = [np.asarray(picture) for picture in Dice(name).pictures(176, 144, 8)]
    noise = np.random.default_rng(3)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "clip"
        with av.open(str(path), "w", format=container_format, options=options) as container:
            pictures: Any = container.add_stream(encoder, rate=12)
            pictures.width, pictures.height, pictures.pix_fmt, pictures.bit_rate = 176, 144, pixels, 600_000
            if encoder == "libx265":
                pictures.codec_context.options = {"x265-params": "log-level=none"}
            sound: Any = container.add_stream("aac", rate=48000, layout="mono")
            for n in range(frames):
                container.mux(pictures.encode(av.VideoFrame.from_ndarray(scene[n % 8], format="rgb24")))
                samples = noise.integers(-3000, 3000, (1, 4000)).astype(np.int16)
                frame = av.AudioFrame.from_ndarray(samples, format="s16", layout="mono")
                frame.rate, frame.pts = 48000, n * 4000
                container.mux(sound.encode(frame))
            container.mux(pictures.encode(None))
            container.mux(sound.encode(None))
        return path.read_bytes()


def index_of(data: bytes) -> tuple[int, int]:
    return next((inner, end) for name, inner, end in boxes_in(BytesSource(data), 0, len(data)) if name == b"moov")


@pytest.mark.parametrize("name", FILMS)
def test_pictures_are_where_a_demuxer_finds_them(name: str) -> None:
    data = film(name)
    with av.open(io.BytesIO(data)) as container:
        told = sorted((packet.pos, packet.size) for packet in container.demux(video=0) if packet.size)
    source = BytesSource(data)
    tracks = [_pictures_of(source, boxes_in, at, end) for box, at, end in boxes_in(source, *index_of(data))
              if box == b"trak"]  # fmt: skip
    found = [track for track in tracks if track is not None]
    assert len(found) == 1, "of the sound nothing is looked at"
    test, starts, sizes = found[0]
    assert list(zip(starts.tolist(), sizes.tolist(), strict=True)) == told
    assert all(test(source, at, size) is None for at, size in told)
    for deep in (False, True):
        measure = recognise(source, deep)
        assert measure is not None and measure.whole and measure.length == len(data)


@given(name=st.sampled_from(sorted(FILMS)), at=st.floats(0.1, 0.8), count=st.integers(1, 6), seed=st.integers(0, 99))
def test_a_film_among_which_clusters_of_another_lie_is_not_whole(name: str, at: float, count: int, seed: int) -> None:
    """It breaks behind where they begin, and not far: at the next picture, or where the index should be."""
    data = film(name)
    start, end = index_of(data)
    cut = int(at * len(data)) // CLUSTER * CLUSTER
    if start < len(data) // 2:
        cut = max(cut, -(-end // CLUSTER) * CLUSTER)
    foreign = random.Random(seed).randbytes(count * CLUSTER)
    there = (data[:cut] + foreign + data[cut:])[: len(data)]
    for deep in (False, True):
        measure = recognise(BytesSource(there), deep)
        assert measure is not None and not measure.whole and measure.breaks_at is not None
        assert measure.breaks_at >= cut
        if start < len(data) // 2:
            assert measure.breaks_at - cut < 1 << 16, "quick as deep: the first wrong one is looked for"


@given(
    name=st.sampled_from(sorted(FILMS)), seed=st.integers(0, 1 << 32), count=st.integers(1, 6),
    value=st.sampled_from([0, 1, 0x7F, 0xFF, None]),
)  # fmt: skip
def test_any_bytes_in_an_index_end_in_a_measure(name: str, seed: int, count: int, value: int | None) -> None:
    data, dice = bytearray(film(name)), random.Random(seed)
    start, end = index_of(film(name))
    for _ in range(count):
        at, length = dice.randrange(start, end), dice.choice([1, 2, 4, 8])
        data[at : at + length] = bytes([dice.randrange(256) if value is None else value]) * len(data[at : at + length])
    measure = recognise(BytesSource(bytes(data)), deep=True)
    assert measure is None or 0 <= measure.length <= len(data)


@given(size=st.integers(30_000, 400_000), at=st.floats(0.1, 0.9), count=st.integers(1, 6), seed=st.integers(0, 99))
def test_an_avi_film_among_which_clusters_of_another_lie_is_not_whole(
    size: int, at: float, count: int, seed: int
) -> None:
    """Looked at in all its chunks, it breaks behind where they begin, and not far."""
    data = avi_film(size // 40_000)
    cut = max(int(at * len(data)) // CLUSTER, 2) * CLUSTER
    there = (data[:cut] + random.Random(seed).randbytes(count * CLUSTER) + data[cut:])[: len(data)]
    quick, deep = recognise(BytesSource(there)), recognise(BytesSource(there), deep=True)
    assert quick is not None and not quick.whole
    assert deep is not None and deep.breaks_at is not None and cut <= deep.breaks_at < cut + (1 << 16)


@cache
def avi_film(seed: int) -> bytes:
    return kind_named("avi").make(Dice(f"film {seed}"), 40_000 * seed + 30_000)


@pytest.mark.parametrize("name", AVI)
def test_every_chunk_of_an_avi_film_follows_the_one_before(name: str) -> None:
    """Also where sound stands between pictures, and with the lists of records that some programs write."""
    data = film(name)
    with av.open(io.BytesIO(data)) as container:
        told = sorted(packet.pos for packet in container.demux() if packet.size)
    (first, last), *_ = _media(BytesSource(data), len(data))
    chunks = list(chunks_in(BytesSource(data), first + 4, last))
    assert [inner for _, inner, end in chunks if end > inner] == told, "those that repeat a picture are empty"
    for deep in (False, True):
        measure = recognise(BytesSource(data), deep)
        assert measure is not None and measure.whole and measure.length == len(data)
    parts = data[first + 4 : told[6] - 8], data[told[6] - 8 : last]
    records = b"".join(b"LIST" + (4 + len(part)).to_bytes(4, "little") + b"rec " + part for part in parts)
    head = data[: first - 4] + (4 + len(records)).to_bytes(4, "little") + b"movi" + records
    again = head[:4] + (len(head) - 8).to_bytes(4, "little") + head[8:]
    measure = recognise(BytesSource(again), deep=True)
    assert measure is not None and measure.whole and measure.length == len(again)
    # Zeros behind the last chunk, which the index is right about, are no fault; without an index they are told.
    padded = data[: first - 4] + (last - first + 64).to_bytes(4, "little") + data[first:last] + bytes(64) + data[last:]
    padded = padded[:4] + (len(padded) - 8).to_bytes(4, "little") + padded[8:]
    measure = recognise(BytesSource(padded), deep=True)
    assert measure is not None and measure.whole
    bare = padded[: last + 64]
    measure = recognise(BytesSource(bare[:4] + (len(bare) - 8).to_bytes(4, "little") + bare[8:]), deep=True)
    assert measure is not None and measure.breaks_at == last


def moved(film: bytes, of: bytes, by: int = 0) -> bytes:
    """A film whose index names media where they are now (or so many bytes behind) instead of where they were."""
    was, now = (data.index(b"mdat") for data in (of, film))
    out = bytearray(film)
    at = 0
    while (at := film.find(b"stco", at) + 4) > 3:
        for n in range(int.from_bytes(film[at + 4 : at + 8], "big")):
            place = slice(at + 8 + 4 * n, at + 12 + 4 * n)
            out[place] = (int.from_bytes(film[place], "big") + now - was + by).to_bytes(4, "big")
    return bytes(out)


@pytest.mark.parametrize("first", ["wide", "mdat", "moov"])
def test_a_film_may_say_no_type(first: str) -> None:
    """Those from before there was a box for it; what only begins like one is none."""
    data = film("images" if first == "moov" else "prores")
    typed = int.from_bytes(data[:4], "big")
    boxes = {name: data[inner - 8 : end] for name, inner, end in boxes_in(BytesSource(data), typed, len(data))}
    order = [b"moov", b"mdat"] if first == "moov" else [b"mdat", b"moov"]
    old = moved(b"".join([b"\0\0\0\x08wide" * (first == "wide"), *(boxes[name] for name in order)]), data)
    assert recognise(BytesSource(moved(old, old, by=512))) is None, "the end of a film of which this is not the start"
    for behind in (b"", bytes(600), random.Random(2).randbytes(600)):
        measure = recognise(BytesSource(old + behind))
        assert measure is not None and (measure.kind, measure.length, measure.whole) == ("mov", len(old), True)
    half = recognise(BytesSource(old[: len(old) // 2]))
    assert half is None if first == "mdat" else half is not None and not half.whole
    index = zlib.compress(boxes[b"moov"])
    parts = b"\0\0\0\x0cdcomzlib" + (12 + len(index)).to_bytes(4, "big") + b"cmvd" + bytes(4) + index
    packed = (16 + len(parts)).to_bytes(4, "big") + b"moov" + (8 + len(parts)).to_bytes(4, "big") + b"cmov" + parts
    measure = recognise(BytesSource(packed + boxes[b"mdat"]))
    assert measure is not None and measure.whole, "an index may be packed"


# -- still pictures ---------------------------------------------------------------------------------------------------


@cache
def still(pictures: int) -> bytes:
    """A HEIF file of several pictures of one size."""
    file = from_pillow(Dice("still").picture(320, 240))
    for n in range(1, pictures):
        file.add_from_pillow(Dice(f"still {n}").picture(320, 240))
    out = io.BytesIO()
    file.save(out, quality=90)
    return out.getvalue()


@given(at=st.floats(0.1, 0.8), count=st.integers(1, 6), seed=st.integers(0, 99))
def test_parts_of_a_still_picture_are_where_they_are_listed(at: float, count: int, seed: int) -> None:
    data = still(6)
    whole = recognise(BytesSource(data))
    assert whole is not None and whole.whole and whole.length == len(data)
    cut = max(int(at * len(data)) // CLUSTER, 1) * CLUSTER
    there = (data[:cut] + random.Random(seed).randbytes(count * CLUSTER) + data[cut:])[: len(data)]
    measure = recognise(BytesSource(there))
    assert measure is not None and measure.breaks_at is not None and cut <= measure.breaks_at < cut + len(data) // 5


@given(seed=st.integers(0, 1 << 32), count=st.integers(1, 8))
def test_any_bytes_in_a_list_of_items_end_in_a_measure(seed: int, count: int) -> None:
    data, dice = bytearray(still(3)), random.Random(seed)
    for _ in range(count):
        data[dice.randrange(16, 700)] = dice.choice([0, 1, 2, 4, 0x40, 0x44, 0x7F, 0xFF])
    measure = recognise(BytesSource(bytes(data)))
    assert measure is None or 0 <= measure.length <= len(data)


def test_a_list_of_items_that_take_no_room_ends_soon() -> None:
    """Forged: items by the thousand, each in as many pieces as can be said, of no bytes."""
    item = (7).to_bytes(2, "big") + bytes(2) + b"\xff\xff"
    places = bytes(4) + b"\0\0\xff\xff" + item * 65535
    assert list(_placed_items(BytesSource(places), 0, len(places))) == []
