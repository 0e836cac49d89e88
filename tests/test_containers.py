"""Containers: what we write, the system's own tool reads; what it writes, we read; damage ends in one clear line."""

from __future__ import annotations

import random
import shutil
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import MediumError, SastrugiError
from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.containers import CONTAINERS, writer_for
from sastrugi.media.convert import copy_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.specimen.digests import medium_digest
from tests.judges import qemu_img, require_drivers

MIB = 1 << 20
SIZE = 21 * MIB
SUFFIX = {
    "split": ".001",
    "vhd": ".vhd",
    "vhd-fixed": ".vhd",
    "qcow2": ".qcow2",
    "qcow2-packed": ".qcow2",
    "raw": ".img",
}


@pytest.fixture(scope="module")
def raw(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A raw image with holes, zeros, noise, text and odd edges."""
    path = tmp_path_factory.mktemp("raw") / "raw.img"
    image, dice = RawImage(path, SIZE), random.Random(6)
    image.write(0, b"\xeb\x58\x90 begins like a boot sector" + bytes(480))
    for _ in range(24):
        content = dice.choice([dice.randbytes(dice.randint(1, 90_000)), b"firn and hoar " * dice.randint(1, 9000)])
        image.write(dice.randint(0, SIZE - len(content)), content)
    image.write(5 * MIB, bytes(MIB))
    image.write(SIZE - 700, dice.randbytes(700))
    image.close()
    return path


def converted(raw: Path, container: str, folder: Path) -> Path:
    target = folder / f"image{SUFFIX[container]}"
    with open_medium(raw) as source:
        copy_medium(source, writer_for(container, target, source.size, 4 * MIB), Progress())
    return target


def same_bytes(one: Path, other: Path) -> bool:
    with open_medium(one) as a, open_medium(other) as b:
        return a.size == b.size and medium_digest(a) == medium_digest(b) and a.read(0, a.size) == b.read(0, b.size)


@pytest.mark.parametrize("container", CONTAINERS)
def test_every_container_gives_the_same_bytes(raw: Path, tmp_path: Path, container: str) -> None:
    target = converted(raw, container, tmp_path)
    assert same_bytes(raw, target)
    with open_medium(raw) as a, open_medium(target) as b:
        dice = random.Random(container)
        for _ in range(200):
            at, length = dice.randint(0, SIZE), dice.choice([1, 511, 4096, 70_000, 3 * MIB])
            assert a.read(at, length) == b.read(at, length)
        held = list(b.data_ranges())
        assert all(x.end < y.offset for x, y in pairwise(held)), "in order, none touches another"
        covered = RangeSet(held)
        for at in range(0, SIZE, 4096):
            assert not any(a.read(at, 4096)) or not covered.gaps(Extent(at, 4096)), "what is not zero is in the ranges"
        part = list(b.data_ranges(3 * MIB + 7, 9 * MIB + 3))
        assert all(one.offset >= 3 * MIB + 7 and one.end <= 9 * MIB + 3 for one in part)


@pytest.mark.drivers
@pytest.mark.parametrize("container", ["vhd", "vhd-fixed", "qcow2", "qcow2-packed"])
def test_the_systems_tool_reads_what_we_write(raw: Path, tmp_path: Path, container: str) -> None:
    require_drivers()
    target = converted(raw, container, tmp_path)
    form = "vpc" if container.startswith("vhd") else "qcow2"
    if form == "qcow2":
        assert "No errors were found" in qemu_img("check", "-f", form, target)
    qemu_img("convert", "-f", form, "-O", "raw", target, tmp_path / "back.img")
    assert (tmp_path / "back.img").read_bytes() == raw.read_bytes()


@pytest.mark.drivers
@pytest.mark.parametrize(
    "options",
    [
        ("-O", "vpc", "-o", "force_size=on"), ("-O", "vpc", "-o", "subformat=fixed,force_size=on"), ("-O", "qcow2"), ("-O", "qcow2", "-c"),
        ("-O", "qcow2", "-o", "compat=0.10"), ("-O", "qcow2", "-o", "cluster_size=512"), ("-O", "qcow2", "-c", "-o", "cluster_size=2M"),
    ],
)  # fmt: skip
def test_we_read_what_the_systems_tool_writes(raw: Path, tmp_path: Path, options: tuple[str, ...]) -> None:
    require_drivers()
    target = tmp_path / "theirs.img"
    qemu_img("convert", "-f", "raw", *options, raw, target)
    assert same_bytes(raw, target)


@pytest.mark.drivers
@pytest.mark.parametrize(
    ("options", "message"),
    [
        (("-o", "backing_file={raw},backing_fmt=raw"), "needs its backing file '.*raw.img'"),
        (("-o", "data_file={raw}.data"), "external data file"), (("-o", "compression_type=zstd"), "compression other than zlib"),
        (("-o", "extended_l2=on"), "extended L2 entries"),
    ],
)  # fmt: skip
def test_qcow2_that_needs_more_says_what(raw: Path, tmp_path: Path, options: tuple[str, str], message: str) -> None:
    require_drivers()
    target = tmp_path / "x.qcow2"
    shutil.copy(raw, tmp_path / "raw.img")
    option = options[1].format(raw=tmp_path / "raw.img")
    qemu_img("create", "-f", "qcow2", options[0], option, target, str(SIZE))
    with pytest.raises(MediumError, match=message):
        open_medium(target)


@pytest.mark.parametrize("container", ["vhd", "qcow2", "qcow2-packed", "split", "raw", "vhd-fixed"])
def test_a_writer_goes_on_from_its_last_checkpoint(raw: Path, tmp_path: Path, container: str) -> None:
    """What was written after the checkpoint may be there or not: writing it again gives the same container."""
    whole = converted(raw, container, tmp_path)
    (tmp_path / "again").mkdir()
    target = tmp_path / "again" / whole.name
    step = 300_000
    with open_medium(raw) as source:
        writer = writer_for(container, target, SIZE, 4 * MIB)
        for n, at in enumerate(range(0, SIZE, step)):
            writer.write(at, source.read(at, step))
            if n == 20:
                writer.checkpoint()
            if n == 33:  # and here it is killed
                writer.close()
                break
        writer = writer_for(container, target, SIZE, 4 * MIB, resume=True)
        for at in range(21 * step, SIZE, step):
            writer.write(at, source.read(at, step))
        writer.finish()
    assert same_bytes(raw, target)
    if container.startswith("qcow2") and shutil.which("qemu-img"):
        assert "No errors were found" in qemu_img("check", "-f", "qcow2", target)


def test_split_parts_missing_or_short_are_named(raw: Path, tmp_path: Path) -> None:
    first = converted(raw, "split", tmp_path)
    assert len(list(tmp_path.iterdir())) == 6
    with open_medium(tmp_path / "image.004") as medium:
        assert medium.size == SIZE
    held = (tmp_path / "image.003").read_bytes()
    (tmp_path / "image.003").unlink()
    with pytest.raises(MediumError, match=r"part image\.003 is missing"):
        open_medium(first)
    (tmp_path / "image.003").write_bytes(held[:-512])
    with pytest.raises(MediumError, match=r"image\.003: has .* cut short, or not of this image"):
        open_medium(first)


@pytest.mark.parametrize("container", ["vhd", "qcow2"])
def test_a_container_cut_short_says_so(raw: Path, tmp_path: Path, container: str) -> None:
    target = converted(raw, container, tmp_path)
    with target.open("r+b") as file:
        file.truncate(target.stat().st_size // 2)
    with pytest.raises(MediumError, match=r"cut short|outside the file"), open_medium(target) as medium:
        medium.read(0, SIZE)


def test_a_fixed_vhd_without_its_end_is_no_vhd_and_one_with_a_wrong_sum_is_refused(raw: Path, tmp_path: Path) -> None:
    target = converted(raw, "vhd-fixed", tmp_path)
    with target.open("r+b") as file:
        file.seek(SIZE + 30)
        file.write(b"X")
    with pytest.raises(MediumError, match=r"the checksum of its VHD footer \(at byte 22,020,096\) is wrong"):
        open_medium(target)
    with target.open("r+b") as file:
        file.truncate(SIZE)
    assert target.read_bytes() == raw.read_bytes() and same_bytes(raw, target)


@settings(max_examples=120)
@given(st.data())
def test_noise_in_a_container_never_ends_in_a_traceback(
    raw: Path, tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("noise")
    container = data.draw(st.sampled_from(["vhd", "qcow2", "qcow2-packed"]))
    target = converted(raw, container, folder)
    size = target.stat().st_size
    with target.open("r+b") as file:
        for _ in range(data.draw(st.integers(1, 4))):
            at = data.draw(
                st.one_of(st.integers(0, 2048), st.integers(65_536, 65_536 + 64), st.integers(size - 600, size - 1))
            )
            file.seek(min(at, size - 1))
            file.write(data.draw(st.binary(min_size=1, max_size=16)))
    try:
        with open_medium(target) as medium:
            for extent in medium.data_ranges(0, 64 * MIB):
                for at in range(extent.offset, min(extent.end, extent.offset + 8 * MIB), MIB):
                    assert len(medium.read(at, MIB)) <= MIB
    except SastrugiError as error:
        assert str(target) in str(error) and "\n" not in str(error)
    shutil.rmtree(folder)


def test_a_large_medium_converts_at_the_cost_of_its_data(tmp_path: Path) -> None:
    image = RawImage(tmp_path / "large.img", 1 << 40)
    for at in (0, 1 << 33, (1 << 40) - MIB):
        image.write(at, random.Random(at).randbytes(MIB))
    image.close()
    for container in ("vhd", "qcow2"):
        target = converted(tmp_path / "large.img", container, tmp_path)
        assert target.stat().st_blocks * 512 < 12 * MIB
        with open_medium(tmp_path / "large.img") as a, open_medium(target) as b:
            assert a.size == b.size and medium_digest(a) == medium_digest(b)
        target.unlink()


def test_what_a_container_cannot_hold_is_refused(tmp_path: Path) -> None:
    with pytest.raises(MediumError, match="at most, not 3 TiB"):
        writer_for("vhd", tmp_path / "a.vhd", 3 << 40)
    with pytest.raises(MediumError, match="is called …001"):
        writer_for("split", tmp_path / "a.img", MIB)
    with pytest.raises(MediumError, match="999 parts at most"):
        writer_for("split", tmp_path / "a.001", 1 << 40, 512)
    with pytest.raises(MediumError, match="'vdi' is no container: there are raw"):
        writer_for("vdi", tmp_path / "a", MIB)
