"""Forms of files that the sample makers do not write: put together by hand, each with a known end."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import random
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from sastrugi.kinds import Proof, recognise
from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.flac import batches, crc16
from sastrugi.scenario.dice import Dice
from tests.test_kinds import measured, sample

DICE = Dice("variants")


def picture(**options: object) -> bytes:
    out = io.BytesIO()
    DICE.fork("p").picture(200, 150).save(out, **options)  # type: ignore[arg-type]
    return out.getvalue()


def chunk(name: bytes, body: bytes, order: str = "<") -> bytes:
    return name + struct.pack(f"{order}I", len(body)) + body + b"\0" * (len(body) & 1)


def wave(mark: bytes, order: str, data: bytes, extra: bytes = b"") -> bytes:
    body = (
        b"WAVE"
        + extra
        + chunk(b"fmt ", struct.pack(f"{order}HHIIHH", 1, 1, 8000, 16000, 2, 16), order)
        + chunk(b"data", data, order)
    )
    return mark + struct.pack(f"{order}I", len(body)) + body


def rf64() -> bytes:
    data = bytes(range(256)) * 8
    plain = wave(b"RF64", "<", data, chunk(b"ds64", bytes(28)))
    size = len(plain) - 8
    large = plain.replace(
        b"ds64" + struct.pack("<I", 28) + bytes(28),
        b"ds64" + struct.pack("<IQQQI", 28, size, len(data), len(data) // 2, 0),
    )
    return (large[:4] + b"\xff\xff\xff\xff" + large[8:]).replace(
        b"data" + struct.pack("<I", len(data)), b"data\xff\xff\xff\xff"
    )


def zipped(comment: bytes = b"", names: int = 3) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for n in range(names):
            archive.writestr(f"{n}.txt", DICE.log_text(500))
        archive.comment = comment
    return out.getvalue()


def tarred(form: int) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form) as archive:
        entry = tarfile.TarInfo("a/" + "long name " * 14 + ".txt")
        entry.size = 700
        archive.addfile(entry, io.BytesIO(bytes(700)))
        link = tarfile.TarInfo("link")
        link.type, link.linkname, link.size = tarfile.LNKTYPE, "a", 0
        archive.addfile(link)
    return out.getvalue()


def jpeg_with_restarts() -> bytes:
    return picture(format="JPEG", quality=70, restart_marker_blocks=3)


def jpeg_with_fill_bytes() -> bytes:
    data = picture(format="JPEG", quality=70)
    return data[:2] + b"\xff\xff\xff" + data[2:-2] + b"\xff\xff" + data[-2:]


def jpeg_with_preview() -> bytes:
    preview = picture(format="JPEG", quality=30)
    data = picture(format="JPEG", quality=70)
    return data[:2] + b"\xff\xe5" + struct.pack(">H", len(preview) + 2) + preview + data[2:]


def animated_png() -> bytes:
    frames = DICE.fork("f").pictures(60, 45, 3)
    out = io.BytesIO()
    frames[0].save(out, "PNG", save_all=True, append_images=frames[1:])
    return out.getvalue()


def gif_with_comment() -> bytes:
    return picture(format="GIF", comment=b"drifting snow " * 40)


def mp3_with_tags() -> bytes:
    ape = b"APETAGEX" + struct.pack("<IIII", 2000, 32 + 20, 1, 0) + bytes(8) + bytes(20 + 32)
    return sample("mp3") + ape + b"TAG" + b"Firnline".ljust(125, b"\0")


def ogg_chained() -> bytes:
    assert len(sample("ogg")) % 512, "a stream at the start of a sector would be a file of its own"
    return sample("ogg") + sample("opus")


def mkv_live() -> bytes:
    """As a recorder writes it: the length of the segment unknown."""
    data = sample("mkv")
    at = data.index(b"\x18\x53\x80\x67") + 4
    width = 9 - data[at].bit_length()
    return data[:at] + bytes([(0xFF >> (width - 1))]) + b"\xff" * (width - 1) + data[at + width :]


def big_endian_tiff() -> bytes:
    from tifffile import TiffWriter

    out = io.BytesIO()
    with TiffWriter(out, byteorder=">") as writer:
        for page in DICE.fork("t").pictures(90, 60, 3):
            writer.write(np.asarray(page), photometric="rgb", tile=(32, 32), software="", metadata=None)
    return out.getvalue()


def utf16(encoding: str) -> bytes:
    return ("\ufeff" + "Ålbreen, drifting snow. " * 30).encode(encoding)


def npy_version_2() -> bytes:
    header = ("{'descr': '<f8', 'fortran_order': False, 'shape': (7, 3), }").ljust(130) + "\n"
    return b"\x93NUMPY\x02\x00" + struct.pack("<I", len(header)) + header.encode() + bytes(7 * 3 * 8)


def rar5() -> bytes:
    """Blocks made after the format's description: main header, one stored file, end."""

    def block(body: bytes, data: bytes = b"") -> bytes:
        head = bytes([len(body)]) + body
        return struct.pack("<I", zlib.crc32(head)) + head + data

    content = b"stake 17, 2.40 m\n" * 4
    file = block(b"\x02\x02" + bytes([len(content)]) + b"\x04\x00\x44\x00\x00\x00\x01\x05a.txt", content)
    return b"Rar!\x1a\x07\x01\x00" + block(b"\x01\x00\x00") + file + block(b"\x05\x00\x00")


def rar4() -> bytes:
    def block(sort: int, flags: int, rest: bytes, data: bytes = b"") -> bytes:
        head = struct.pack("<BHH", sort, flags, 7 + len(rest)) + rest
        return struct.pack("<H", zlib.crc32(head) & 0xFFFF) + head + data

    content = b"stake 18, 2.41 m\n" * 4
    file = struct.pack("<IIBIIBBHI", len(content), len(content), 3, zlib.crc32(content), 0, 20, 0x30, 5, 32) + b"a.txt"
    return (
        b"Rar!\x1a\x07\x00" + block(0x73, 0, bytes(6)) + block(0x74, 0x8000, file, content) + block(0x7B, 0x4000, b"")
    )


VARIANTS: dict[str, tuple[str, Callable[[], bytes]]] = {
    "sound, 64-bit lengths": ("wav", rf64),
    "sound, big-endian": ("wav", lambda: wave(b"RIFX", ">", bytes(999) + b"\1")),
    "sound, odd chunk": ("wav", lambda: wave(b"RIFF", "<", bytes(500), chunk(b"LIST", b"odd"))),
    "archive with a comment": ("zip", lambda: zipped(b"PK\x05\x06 is not the end")),
    "archive of many": ("zip", lambda: zipped(names=400)),
    "tar, GNU": ("tar", lambda: tarred(tarfile.GNU_FORMAT)),
    "tar, pax": ("tar", lambda: tarred(tarfile.PAX_FORMAT)),
    "gzip of two members": ("gz", lambda: gzip.compress(b"firn" * 200, mtime=0) + gzip.compress(b"hoar" * 100, mtime=0)),
    "bzip2 of two members": ("bz2", lambda: bz2.compress(b"firn" * 200) + bz2.compress(b"hoar" * 100)),
    "xz of two streams": ("xz", lambda: lzma.compress(b"firn" * 200) + lzma.compress(b"hoar" * 100)),
    "photograph with restarts": ("jpeg", jpeg_with_restarts),
    "photograph with fill bytes": ("jpeg", jpeg_with_fill_bytes),
    "photograph with a preview": ("jpeg", jpeg_with_preview),
    "photograph, progressive": ("jpeg", lambda: picture(format="JPEG", progressive=True, quality=60)),
    "photograph, grey": ("jpeg", lambda: encoded(DICE.fork("g").picture(160, 120).convert("L"), "JPEG")),
    "photograph, one colour": ("jpeg", lambda: encoded(Image.new("RGB", (900, 700), "white"), "JPEG", optimize=True)),
    "photograph, black": ("jpeg", lambda: encoded(Image.new("RGB", (900, 700)), "JPEG", optimize=True)),
    "picture, animated": ("png", animated_png),
    "picture, palette": ("png", lambda: encoded(DICE.fork("q").picture(80, 60).quantize(16), "PNG")),
    "animation with a comment": ("gif", gif_with_comment),
    "mp3 with tags behind": ("mp3", mp3_with_tags),
    "ogg, two streams chained": ("ogg", ogg_chained),
    "tiff, big-endian tiles": ("tiff", big_endian_tiff),
    "webp, lossless": ("webp", lambda: picture(format="WEBP", lossless=True)),
    "bmp with a palette": ("bmp", lambda: encoded(DICE.fork("b").picture(61, 47).quantize(200), "BMP")),
    "array, version 2": ("npy", npy_version_2),
    "rar 5": ("rar", rar5),
    "rar 4": ("rar", rar4),
}  # fmt: skip


def encoded(image: Image.Image, form: str, **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, form, **options)  # type: ignore[arg-type]
    return out.getvalue()


@pytest.mark.parametrize("case", VARIANTS)
@pytest.mark.parametrize("behind", ["end", "zeros", "noise"])
def test_a_variant_ends_where_it_ends(case: str, behind: str) -> None:
    name, make = VARIANTS[case]
    data = make()
    slack = bytes(-len(data) % 512)
    tail = {"end": b"", "zeros": slack + bytes(4096), "noise": slack + random.Random(5).randbytes(4096)}[behind]
    found = recognise(BytesSource(data + tail), deep=True)
    assert found is not None and found.whole, found
    assert (found.kind, found.length) == (name, len(data)), found.rule


@pytest.mark.parametrize("case", [c for c in VARIANTS if "comment" not in c])
def test_a_variant_cut_short_is_not_whole(case: str) -> None:
    _, make = VARIANTS[case]
    data = make()
    found = recognise(BytesSource(data[: len(data) * 2 // 3]), deep=True)
    assert found is None or not found.whole or found.length < len(data) * 2 // 3


packed = st.builds(
    bz2.compress,
    st.one_of(
        st.binary(max_size=4000),
        st.builds(lambda n, seed: random.Random(seed).randbytes(n), st.integers(0, 400_000), st.integers(0, 9)),
        st.builds(lambda n: b"firn;%d\n" * (n // 8), st.integers(0, 3_000_000)),
    ),
    st.integers(1, 9),
)


@given(
    st.lists(packed, min_size=1, max_size=3), st.sampled_from([b"", bytes(700), b"BZh", b"BZh91AY&SY", b"\x17rE8P\x90"])
)
def test_bzip2_ends_by_its_marks_where_it_ends_unpacked(streams: list[bytes], behind: bytes) -> None:
    data = b"".join(streams) + behind
    quick, whole = (recognise(BytesSource(data), deep=deep) for deep in (False, True))
    assert (quick is None) == (whole is None)
    if quick is None or whole is None:
        assert len(streams[0]) == 14, "one without a block"
        return
    assert (quick.length, quick.whole, quick.breaks_at) == (whole.length, whole.whole, whole.breaks_at)
    unpacked = quick.proof != Proof.STRUCTURE
    assert unpacked or not behind, "what was not unpacked is not proved, and its size must be told"


@given(st.integers(1, 9), st.integers(0, 31), st.integers(0, 400))
def test_bzip2_with_clusters_of_another_is_not_whole(level: int, bit: int, at: int) -> None:
    """A file of the size that is told, with what belongs to others in it, or with a checksum that is of no block."""
    data = bytearray(bz2.compress(random.Random(level).randbytes(220_000), level))
    if at:
        data = (data[: at * 512] + bytes(512) + data[at * 512 :])[: len(data)]
    else:
        data[data.find(b"1AY&SY") + 6 + bit // 8] ^= 1 << bit % 8
    quick, deep = (recognise(BytesSource(bytes(data)), deep=one) for one in (False, True))
    assert quick is not None and not quick.whole and quick == deep


def test_bzip2_full_of_marks_ends_soon() -> None:
    """Marks without blocks between them cost no more than blocks would."""
    found = recognise(BytesSource(b"BZh9" + b"1AY&SY" * 2_000_000))
    assert found is None or not found.whole


@pytest.mark.parametrize("constants", [3, 9000, 60_000])
def test_a_class_is_measured_across_what_is_read_at_once(constants: int) -> None:
    pool = b"".join(b"\1\0\x0b" + b"%011d" % n for n in range(constants - 1)) + b"\5" + bytes(8)
    data = b"\xca\xfe\xba\xbe\0\0\0\x34" + struct.pack(">H", constants + 2) + pool + bytes(14)
    found = recognise(BytesSource(data + bytes(5000)))
    assert found is not None and found.whole and found.length == len(data)
    for end in (len(data) - 15, len(data) // 2, 12):
        cut = recognise(BytesSource(data[:end]))
        assert cut is not None and not cut.whole
    wrong = recognise(BytesSource(data[:10] + b"\2" + data[11:]))
    assert wrong is not None and wrong.breaks_at == 10


def test_a_recording_without_a_length_ends_where_its_elements_do() -> None:
    data = mkv_live()
    found = measured("mkv", data + bytes(600))
    assert found is not None and found.whole and found.length == len(data) and found.proof == Proof.GUESS


@pytest.mark.parametrize("encoding", ["utf-16-le", "utf-16-be"])
def test_text_in_two_bytes_a_character_ends_at_the_zeros(encoding: str) -> None:
    data = utf16(encoding)
    found = measured("txt", data + bytes(512))
    assert found is not None and found.length == len(data)


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ('{"stake": 17, "note": "}{\\"", "values": [1, 2, {"a": []}]}\n', "json"),
        ("time,stake,height\n2031-01-02,4,230\n2031-01-03,4,231\n2031-01-04,5,90\n", "csv"),
        ("2031-01-02 10:00:00 a started\n2031-01-02 10:00:01 b\n2031-01-02 10:00:09 c\n", "log"),
        ("Subject: Stakes\nFrom: camp@firnline.example\n\nAll well.\n", "eml"),
        ("From camp Mon Jan 02 10:00:00 2031\nSubject: Stakes\n\nAll well, nothing new.\n", "mbox"),
        ("Drifting snow, the mast was dug out twice.\nNothing else.\n", "txt"),
    ],
)
def test_sorts_of_text_are_told_apart(text: str, kind: str) -> None:
    found = measured("txt", text.encode() + bytes(512))
    assert found is not None and (found.kind, found.length) == (kind, len(text.encode()))


def test_the_end_of_markup_is_its_closing_tag() -> None:
    page = b'<?xml version="1.0" encoding="windows-1251"?>\n<!-- a <b> --><log>' + "снег".encode("cp1251") + b"</log>\n"
    found = recognise(BytesSource(page + bytes(400)))
    assert found is not None and (found.kind, found.length, found.whole) == ("xml", len(page), True)
    nested = b"<svg xmlns='x'><g><svgx/></g></svg>  \n"
    found = recognise(BytesSource(nested + b"\0" * 50))
    assert found is not None and (found.kind, found.length) == ("svg", len(nested))
    assert recognise(BytesSource(b"<?xml version='1.0'?><log>never closed")).whole is False  # type: ignore[union-attr]


@pytest.mark.parametrize(
    "page",
    [
        b"<?xml version='1.0'?><log><log>inner</log><log/><log a='>'>x</log> outer</log>\n",
        b"<?xml version='1.0'?><log/>\n",
        b"<html><body>a</body></html>\n<!-- made by the station -->\n",
    ],
)
def test_an_element_may_hold_its_own_name_and_a_comment_may_follow(page: bytes) -> None:
    found = recognise(BytesSource(page + bytes(400)))
    assert found is not None and found.whole and found.length == len(page)


def os2_bitmap() -> bytes:
    """The oldest header: twelve bytes, a palette of three bytes each."""
    rows = bytes(range(256)) * 8
    start = 14 + 12 + 768
    head = b"BM" + struct.pack("<IIIIHHHH", start + len(rows), 0, start, 12, 64, 32, 1, 8)
    return head + bytes(768) + rows


def profiled_bitmap() -> bytes:
    """The newest header, with a colour profile behind the pixels."""
    rows, profile = bytes(range(192)) * 16, b"profile " * 50
    head = struct.pack("<IiiHHIIiiII", 124, 64, 16, 1, 24, 0, len(rows), 2835, 2835, 0, 0)
    head += bytes(112 - len(head)) + struct.pack("<III", 124 + len(rows), len(profile), 0)
    return b"BM" + struct.pack("<IIII"[:4], 138 + len(rows) + len(profile), 0, 138) + head + rows + profile


def open_ended_jp2() -> bytes:
    """A codestream whose box goes to the end of the file, whatever that is, behind a box of the extended format."""
    data = sample("jp2", 20_000)
    at = data.index(b"jp2c") - 4
    rreq = struct.pack(">I", 16) + b"rreq" + bytes(8)
    return data[:12] + data[12:32] + rreq + data[32:at] + bytes(4) + data[at + 4 :]


def linearized_pdf() -> bytes:
    """The length that it states counts the end of line behind the last end mark."""
    objects = b"%%PDF-1.5\n1 0 obj\n<< /Linearized 1 /L %05d /O 2 >>\nendobj\n"
    middle = b"startxref\n0\n%%EOF\n"
    second = len(objects % 0) + len(middle)
    rest = b"2 0 obj\n<< /Type /Catalog >>\nendobj\n"
    table = b"xref\n0 3\n0000000000 65535 f \n%010d 00000 n \n%010d 00000 n \n" % (9, second)
    end = b"trailer << /Size 3 /Root 2 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (second + len(rest))
    length = second + len(rest) + len(table) + len(end)
    return objects % length + middle + rest + table + end


def parted_catalogue() -> bytes:
    """One plain message, and one of two parts with what the system calls a number between them."""
    texts = [b"stake", b"Pfahl"]
    at = 48 + 16
    body = b"".join(text + b"\0" for text in texts)
    tables = b"".join(struct.pack("<II", len(t), at + sum(len(x) + 1 for x in texts[:n])) for n, t in enumerate(texts))
    names = at + len(body)
    segments = names + 8
    strings = segments + 8
    place = strings + 2 * 20
    parts = b"%d of" + b"stakes\0"
    one = struct.pack("<IIIII", place, 5, 0, 7, 0xFFFFFFFF)
    head = struct.pack("<7I", 0x950412DE, 1, 1, 48, 56, 0, 0)
    head += struct.pack("<5I", 1, names, 1, segments, segments + 4)
    return (
        head
        + tables
        + body
        + struct.pack("<III", 4, names, 0)[:8]
        + struct.pack("<II", strings, strings + 20)
        + one * 2
        + parts
    )


@pytest.mark.parametrize(
    ("make", "kind"),
    [
        (os2_bitmap, "bmp"), (profiled_bitmap, "bmp"), (open_ended_jp2, "jp2"), (linearized_pdf, "pdf"),
        (parted_catalogue, "mo"),
    ],
)  # fmt: skip
def test_forms_that_other_programs_write(make: Callable[[], bytes], kind: str) -> None:
    data = make()
    found = recognise(BytesSource(data + bytes(-len(data) % 512) + random.Random(2).randbytes(9000)))
    assert found is not None and (found.kind, found.whole, found.length) == (kind, True, len(data)), found


class InBlocks(BytesSource):
    """A source that is read in blocks of a few bytes."""

    def __init__(self, data: bytes, block: int) -> None:
        super().__init__(data)
        self.block = block

    def blocks(self, position: int, end: int | None = None, size: int = 0) -> Iterator[tuple[int, bytes]]:
        return super().blocks(position, end, self.block)


@given(text=st.text("{}\\a\n\0", max_size=60), block=st.integers(1, 9))
def test_rich_text_ends_where_its_first_brace_is_closed(text: str, block: int) -> None:
    """A brace behind a backslash is text; however it is read."""
    data = b"{\\rtf" + text.encode()
    depth, end = 0, None
    for at, byte in enumerate(data):
        if not byte:
            break
        if data[at - 1 : at] != b"\\":
            depth += {ord("{"): 1, ord("}"): -1}.get(byte, 0)
        if not depth:
            end = at + 1
            break
    while end is not None and data[end : end + 1] == b"\n":
        end += 1
    measure = recognise(InBlocks(data, block))
    assert measure is not None and measure.whole == (end is not None)
    assert measure.length == (end if end is not None else data.find(0) if 0 in data else len(data))


@given(st.lists(st.binary(max_size=700), min_size=1, max_size=6))
def test_checksums_of_frames_side_by_side(frames: list[bytes]) -> None:
    """As RFC 9639 (section 9.3) has them: a polynomial division, bit after bit; what bears its own behind it gives 0."""
    wanted = []
    for frame in frames:
        value = 0
        for byte in frame:
            value ^= byte << 8
            for _ in range(8):
                value = (value << 1 ^ (0x8005 if value & 0x8000 else 0)) & 0xFFFF
        wanted.append(value)
    assert crc16(frames).tolist() == wanted
    assert not crc16([frame + value.to_bytes(2, "big") for frame, value in zip(frames, wanted, strict=True)]).any()


@given(st.lists(st.sampled_from([1, 14, 256, 9000, 1 << 20]), max_size=60), st.integers(0, 20_000))
def test_frames_of_any_lengths_have_room_together(lengths: list[int], small: int) -> None:
    """A long one among many short ones is not the measure of all of them."""
    ends = np.cumsum([0, *lengths, *[14] * small]).tolist()
    frames = list(pairwise(ends))
    parts = list(batches(frames))
    assert [frame for part in parts for frame in part] == frames
    for part in parts:
        longest = max(end - first for first, end in part)
        assert len(part) * longest <= 4 << 20 and len(part) * 256 <= 4 << 20


@given(st.floats(0.15, 1), st.integers(1, 255))  # in front of the frames is room that nothing checks
def test_a_wrong_byte_in_any_frame_is_seen(at: float, change: int) -> None:
    sound = bytearray(sample("flac", 60_000))
    place = int(at * (len(sound) - 1))
    sound[place] ^= change
    measure = measured("flac", bytes(sound))
    assert measure is not None and not measure.whole and (measure.breaks_at or 0) <= place
