"""Block devices as media, through loop devices: read, written over, refused while they are in use."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import Program

Attach = Callable[[Path], Path]


@pytest.fixture
def loop() -> Iterator[Attach]:
    """Makes an image a block device; detached in the end."""
    made: list[Path] = []

    def attach(image: Path) -> Path:
        if os.geteuid() or not shutil.which("losetup"):
            pytest.skip("a loop device needs root")
        done = subprocess.run(["losetup", "-f", "--show", "-P", str(image)], capture_output=True, text=True)
        if done.returncode:
            pytest.skip(f"no loop device here: {done.stderr}")
        made.append(Path(done.stdout.strip()))
        return made[-1]

    yield attach
    for device in made:
        subprocess.run(["losetup", "-d", str(device)], check=True)


def test_a_device_is_a_medium_like_its_image(sastrugi: Program, demo: Path, tmp_path: Path, loop: Attach) -> None:
    image = tmp_path / "card.img"
    shutil.copy(demo / "specimen" / "medium.img", image)
    device = loop(image)
    rows = [sastrugi("look", path, "--json").json["volumes"] for path in (image, device)]
    assert rows[0] == rows[1]
    found, drawn = [], []
    for n, path in enumerate((image, device)):
        sastrugi("scan", path, "--out", tmp_path / f"{n}.scan")
        found.append(sastrugi("list", tmp_path / f"{n}.scan", "--json").json)
        drawn.append(sastrugi("map", path, "--out", tmp_path / f"{n}.png", "--json").json)
        drawn[-1] = {**drawn[-1], "map": "", "title": ""}
    assert found[0] == found[1] and len(found[0]) > 10
    assert drawn[0] == drawn[1]
    digests = {
        sastrugi("capture", path, "--out", tmp_path / f"{n}.qcow2", "--json").json["digest"]
        for n, path in enumerate((image, device))
    }
    assert len(digests) == 1


def test_a_device_is_written_only_when_that_is_meant(
    sastrugi: Program, demo: Path, tmp_path: Path, loop: Attach
) -> None:
    stick, small = tmp_path / "stick.img", tmp_path / "small.img"
    size = (demo / "specimen" / "medium.img").stat().st_size
    for path, room in ((stick, size + (1 << 20)), (small, 1 << 20)):
        path.write_bytes(b"\xa5" * room)
    device = loop(stick)
    assert "--write-device" in sastrugi("capture", demo / "specimen", "--out", device, code=2).err
    assert (
        "use a larger device"
        in sastrugi("capture", demo / "specimen", "--out", loop(small), "--write-device", code=2).err
    )
    sastrugi("capture", demo / "specimen", "--out", device, "--write-device")
    assert stick.read_bytes()[:size] == (demo / "specimen" / "medium.img").read_bytes()
    assert stick.read_bytes()[size:] == b"\xa5" * (1 << 20)
    assert small.read_bytes() == b"\xa5" * (1 << 20)
    assert "is the source itself" in sastrugi("capture", device, "--out", device, "--write-device", code=2).err


def test_a_mounted_device_is_refused_or_warned_of(sastrugi: Program, tmp_path: Path, loop: Attach) -> None:
    if not shutil.which("mkfs.ext4"):
        pytest.skip("mkfs.ext4 is not installed")
    image = tmp_path / "disk.img"
    with image.open("wb") as file:
        file.truncate(8 << 20)
    subprocess.run(["mkfs.ext4", "-q", str(image)], check=True)
    device, point = loop(image), tmp_path / "point"
    point.mkdir()
    if subprocess.run(["mount", str(device), str(point)], capture_output=True).returncode:
        pytest.skip("no mounts here")
    try:
        before = image.read_bytes()
        ran = sastrugi("capture", image, "--out", device, "--write-device", code=2)
        assert f"is mounted at {point}" in ran.err and image.read_bytes() == before
        assert f"is mounted at {point}" in sastrugi("look", device).err
    finally:
        subprocess.run(["umount", str(point)], check=True)
    assert "mounted" not in sastrugi("look", device).err


def test_a_disk_that_fills_up_half_way_is_one_clear_line(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """On a small file system of its own, so that it is really full."""
    point = tmp_path / "small"
    point.mkdir()
    if os.geteuid() or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1M", "none", str(point)]).returncode:
        pytest.skip("no mounts here")
    try:
        for words in (
            ("build", "camera-card", "--into", point / "specimen"),
            ("adopt", demo / "specimen" / "medium.img", "--originals", demo / "results", "--into", point / "adopted"),
            ("extract", next(demo.glob("*.scan")), "--into", point / "out"),
        ):
            ran = sastrugi(*words, code=None)
            assert ran.code in (2, 130) and ran.err.strip().count("\n") <= 1, ran.err
            assert "room" in ran.err or "are free" in ran.err, ran.err
        assert {path.name for path in point.iterdir()} <= {"out"}
    finally:
        subprocess.run(["umount", str(point)], check=True)
