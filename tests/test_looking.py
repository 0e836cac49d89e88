"""Looking at media and scans: whose each byte is, earlier lives, counts, contact sheets of hostile files."""

from __future__ import annotations

import datetime as dt
import random
import struct
import zlib
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.report.byte_owners import Claim, claims_of, stretches_of
from sastrugi.specimen.truth import Specimen
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.write import FatWriter
from tests.conftest import Program
from tests.test_kinds import sample

NOON = dt.datetime(2031, 2, 3, 12)


@given(st.lists(st.tuples(st.integers(0, 90), st.integers(1, 40)), max_size=8), st.integers(0, 50), st.integers(1, 50))
def test_every_byte_of_a_window_has_the_owners_that_claim_it(
    places: list[tuple[int, int]], start: int, length: int
) -> None:
    window = Extent(start, length)
    claims = [Claim(f"file {n}", Extent(at, size), 0, size) for n, (at, size) in enumerate(places[:6])]
    stretches = stretches_of(window, claims)
    owners = {at: c for s in stretches for at in range(s.where.offset, s.where.end) for c in [s.claims]}
    assert set(range(start, start + length)) <= set(owners)
    for at in range(start, start + length):
        assert {c.what for c in owners[at]} == {f"file {n}" for n, (o, s) in enumerate(places[:6]) if o <= at < o + s}


def test_hex_tells_bytes_structures_and_files(sastrugi: Program, demo: Path) -> None:
    specimen, scan = demo / "specimen", demo / "card.scan"
    image = (specimen / "medium.img").read_bytes()
    boot = image[1 << 20 : (1 << 20) + 512]
    reserved, fats, fat_sectors = struct.unpack_from("<H", boot, 14)[0], boot[16], struct.unpack_from("<I", boot, 36)[0]
    fat_2 = (1 << 20) + (reserved + fat_sectors) * 512
    data = (1 << 20) + (reserved + fats * fat_sectors) * 512
    for offset, told in (
        ("0", "partition table"), ("1 MiB", "boot sector"), (str(fat_2), "FAT 2"), (hex(data), "root folder"),
        (str((1 << 20) + 6 * 512), "backup boot sector"), (str(data), "directory entry of /DCIM (live)"),
        (str(60 << 20), "volume 1, FAT32 'FIRNLINE'"),
    ):  # fmt: skip
        ran = sastrugi("hex", specimen, offset, "--length", "64")
        assert told in " ".join(ran.out.split()), offset
        at = int(offset, 16) if offset.startswith("0x") else int(offset) if offset.isdigit() else 1 << 20
        assert image[at : at + 8].hex(" ") in ran.out
    with Specimen(specimen) as opened:
        dice = random.Random(2)
        for file in dice.sample([f for f in opened.truth.files if f.extents], 8):
            position = dice.randrange(file.extents[0].length)
            at = file.extents[0].offset + position
            shown = sastrugi("hex", specimen, str(at), "--length", "16", "--scan", scan, "--json").json
            assert bytes.fromhex(shown["bytes"]) == image[at : at + 16]
            claims = shown["owners"][0]["claims"]
            assert any(c.get("position") == position and file.path.lstrip("/") in c["what"] for c in claims)
    assert "lies behind its end" in sastrugi("hex", specimen, "1 TiB", code=2).err
    assert "not a size" in sastrugi("hex", specimen, "here", code=2).err
    assert "hexadecimal" in sastrugi("hex", specimen, "0xzz", code=2).err


@settings(max_examples=15)
@given(st.binary(min_size=512, max_size=2048), st.integers(0, 4096))
def test_owners_of_a_hostile_medium_are_told_without_harm(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, at: int
) -> None:
    path = tmp_path_factory.mktemp("hex") / "m.img"
    path.write_bytes(data[:510] + b"\x55\xaa" + data[512:] + bytes(8192 - max(len(data), 512)))
    with open_medium(path) as medium:
        window = Extent(at, 64)
        assert sum(s.where.length for s in stretches_of(window, claims_of(medium, window))) == 64


@pytest.mark.parametrize("recipe", ["other-clusters", "other-file-system"])
def test_earlier_lives_are_seen(sastrugi: Program, tmp_path: Path, recipe: str) -> None:
    sastrugi("build", recipe, "--into", tmp_path / "s")
    with Specimen(tmp_path / "s") as specimen:
        lives = [life for volume in specimen.truth.volumes for life in volume.lives]
    first = lives[0]
    plain = sastrugi("look", tmp_path / "s", "--json").json["volumes"]
    deep = sastrugi("look", tmp_path / "s", "--lives", "--json").json["volumes"]
    assert deep[: len(plain)] == plain and len(deep) > len(plain)
    earlier = deep[len(plain)]
    assert "earlier life" in earlier["origin"] and earlier["cluster"] == first.cluster
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    seen = sastrugi("look", tmp_path / "s.scan", "--json").json
    assert [v["cluster"] for v in seen["volumes"]] == [v["cluster"] for v in deep] and seen["state"] == "finished"
    listed = sastrugi("list", tmp_path / "s.scan", "--json").json
    for by in ("by_pass", "by_group", "by_confidence"):
        assert sum(t["live"] + t["deleted"] + t["found"] for t in seen[by]) == len(listed)
    assert "an earlier life" in " ".join(sastrugi("look", tmp_path / "s.scan").out.split())


def bomb() -> bytes:
    """A small PNG that says it is 30,000 by 30,000 points."""

    def chunk(name: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    rows = zlib.compress(bytes(30_001 * 2000))
    head = struct.pack(">IIBBBBB", 30_000, 30_000, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


def test_a_contact_sheet_shows_what_it_can_and_says_what_not(sastrugi: Program, tmp_path: Path) -> None:
    image = RawImage(tmp_path / "m.img", 40 << 20)
    writer = FatWriter(image, plan(0, image.size, 32, 512), "SHEET", 1, NOON)
    files = {f"{kind}.{kind}": sample(kind, 20_000) for kind in ("png", "gif", "wav", "pdf", "zip", "mp4")}
    files |= {"bomb.png": bomb(), "cut.jpeg": sample("jpeg", 30_000)[:200], "text.txt": b"Camp Firnline, calm.\n" * 20}
    stored = [writer.store(f"/{name}", len(content), [content], NOON) for name, content in files.items()]
    for node in stored:
        writer.delete(node, NOON)
    writer.flush()
    image.close()
    sastrugi("scan", tmp_path / "m.img", "--out", tmp_path / "m.scan")
    ran = sastrugi("preview", tmp_path / "m.scan", "--out", tmp_path / "p.png", "--json").json
    names = {f["number"]: f["name"] for f in sastrugi("list", tmp_path / "m.scan", "--json").json}
    assert {names[one["number"]] for one in ran["broken"]} == {"bomb.png", "cut.jpeg"} and ran["shown"] == len(files)
    with Image.open(tmp_path / "p.png") as sheet:
        assert sheet.width == 1260 and len(sheet.convert("RGB").getcolors(1 << 20) or []) > 100
    assert "is the medium itself" in sastrugi("preview", tmp_path / "m.scan", "--out", tmp_path / "m.img", code=2).err
