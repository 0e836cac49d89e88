"""Every writer against a model, our readers and fsck, after every step of any sequence of operations."""

from __future__ import annotations

import datetime as dt
import random
import tempfile
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.specimen.formats import FILE_SYSTEMS, format_volume
from sastrugi.volumes.probing import probe
from sastrugi.volumes.writer import VolumeWriter
from tests.judges import EXT, HFS, assert_clean, driver_reads, require_drivers

NOON = dt.datetime(2031, 2, 3, 12)
VOLUMES = {"fat12": (2 << 20, 1024), "fat16": (8 << 20, 512), "fat32": (36 << 20, 512), "exfat": (6 << 20, 1024),
           "ntfs": (8 << 20, 1024), "ext2": (4 << 20, 1024), "ext3": (8 << 20, 2048), "ext4": (8 << 20, 1024),
           "hfs+": (8 << 20, 1024), "hfsx": (8 << 20, 512)}  # fmt: skip

name_chars = st.characters(exclude_categories=["Cs", "Cc"], exclude_characters='"*/:<>?\\|\uffff')
long_names = st.text(name_chars, min_size=1, max_size=40).filter(
    lambda n: n[-1] not in " ." and n[0] != " " and len(n.encode("utf-16-le")) <= 100
)
camera_names = st.integers(0, 99999).map(lambda n: f"FRN{n:05d}.JPG")
names = st.one_of(long_names, camera_names)
lengths = st.one_of(st.just(0), st.integers(1, 9000))


def read_all(image: Path) -> dict[str, bytes]:
    """All live files of a bare volume through our reader, which must find nothing wrong."""
    with open_medium(image) as medium:
        volume = probe(medium, Extent(0, medium.size))
        assert volume is not None
        found = {
            "/".join(e.path): b"".join(e.map.chunks(medium)) for e in volume.entries() if not e.deleted and not e.folder
        }
        assert not volume.health
        return found


class VolumeMachine(RuleBasedStateMachine):
    """One volume and the files that must be on it."""

    @initialize(file_system=st.sampled_from(sorted(VOLUMES)), seed=st.integers(0, 2**32))
    def format(self, file_system: str, seed: int) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.path = Path(self.folder.name) / "v.img"
        self.size, self.cluster = VOLUMES[file_system]
        self.image = RawImage(self.path, self.size)
        self.dice = random.Random(seed)
        self.lay(file_system, self.cluster)

    def lay(self, file_system: str, cluster: int) -> None:
        where = Extent(0, self.size)
        self.writer: VolumeWriter = format_volume(self.image, where, file_system, cluster, "FIRNLINE", 7, NOON)
        self.model: dict[str, bytes] = {}
        self.folders = [""]

    def place(self, name: str) -> str:
        """A path for a name in some folder, or nothing if the name is taken there."""
        path = f"{self.dice.choice(self.folders)}/{name}".lstrip("/")
        return "" if self.writer.find(path) else path

    @rule(name=names, length=lengths, begin=st.sampled_from(["next", "first", "middle"]))
    def store(self, name: str, length: int, begin: str) -> None:
        path = self.place(name)
        if path:
            content = self.dice.randbytes(length)
            data = self.writer.data
            where = {"middle": data.offset + data.length // 2}.get(begin, begin)
            lie = None if begin == "next" else self.writer.reserve(self.writer.space_for(length), where)
            self.writer.store(path, length, [content[:100], content[100:]], NOON, lie=lie)
            self.model[path] = content

    @rule(name=names)
    def make_folder(self, name: str) -> None:
        path = self.place(name)
        if path:
            self.writer.make_folder(path, NOON)
            self.folders.append(path)

    def victim(self) -> str:
        return self.dice.choice(sorted(self.model))

    @precondition(lambda self: self.model)
    @rule(length=lengths)
    def grow(self, length: int) -> None:
        path, more = self.victim(), self.dice.randbytes(length)
        self.writer.grow(self.writer.find(path), length, [more], NOON)
        self.model[path] += more

    @precondition(lambda self: self.model)
    @rule(length=lengths, in_place=st.booleans())
    def rewrite(self, length: int, in_place: bool) -> None:
        path, content = self.victim(), self.dice.randbytes(length)
        self.writer.rewrite(self.writer.find(path), length, [content], NOON, in_place)
        self.model[path] = content

    @precondition(lambda self: self.model)
    @rule(name=names)
    def rename(self, name: str) -> None:
        path, to = self.victim(), self.place(name)
        if to:
            self.writer.rename(self.writer.find(path), to, NOON)
            self.model[to] = self.model.pop(path)

    @precondition(lambda self: len(self.folders) > 1)
    @rule(name=names)
    def move_folder(self, name: str) -> None:
        path, to = self.dice.choice(self.folders[1:]), self.place(name)
        if not to:
            return
        if to.startswith(path + "/"):
            with pytest.raises(VolumeError, match="into itself"):
                self.writer.rename(self.writer.find(path), to, NOON)
            return
        self.writer.rename(self.writer.find(path), to, NOON)
        moved = lambda p: to + p[len(path) :] if p == path or p.startswith(path + "/") else p  # noqa: E731
        self.folders = [moved(p) for p in self.folders]
        self.model = {moved(p): content for p, content in self.model.items()}

    @precondition(lambda self: self.model)
    @rule(habits=st.sampled_from(["linux", "windows", "macos", "camera", "old-linux"]))
    def delete(self, habits: str) -> None:
        path = self.victim()
        self.writer.delete(self.writer.find(path), NOON, habits)
        del self.model[path]

    @rule(file_system=st.sampled_from(sorted(VOLUMES)), wider=st.booleans())
    def format_again(self, file_system: str, wider: bool) -> None:
        with suppress(VolumeError):  # this file system does not fit here with these clusters
            self.lay(file_system, self.cluster * (2 if wider else 1))

    @invariant()
    def everything_reads_back(self) -> None:
        if hasattr(self, "writer"):
            self.writer.flush()
            assert read_all(self.path) == self.model
            assert self.writer.clusters.free == sum(n for _, n in self.writer.clusters.free_runs(0, 1 << 40))

    def teardown(self) -> None:
        if not hasattr(self, "writer"):
            return
        self.image.close()
        assert_clean(self.path, self.writer.file_system)
        if self.writer.file_system != "exfat":
            for path, content in self.model.items():
                if path.isascii():  # mtools maps other characters to those of its locale
                    assert driver_reads(self.path, self.writer.file_system, path) == content
        self.folder.cleanup()


@pytest.mark.drivers
class TestVolumes(VolumeMachine.TestCase):  # type: ignore[name-defined,misc]
    """The machine as a test; the judges must be there."""

    settings = settings(max_examples=25, stateful_step_count=25)

    @classmethod
    def setUpClass(cls) -> None:
        require_drivers()


@pytest.mark.parametrize(
    ("file_system", "size", "cluster", "message"),
    [
        ("fat32", 16 << 20, 4096, r"FAT32 .* needs 65,525 to"), ("fat16", 16 << 20, 3 << 10, "cannot be 3"),
        ("fat12", 1 << 30, 512, r"needs 1 to 4,084"), ("exfat", 1 << 19, 4096, "1 MiB at least"),
        ("exfat", 16 << 20, 64 << 20, "cannot be 64 MiB"), ("exfat", 1 << 20, 512 << 10, "and needs"),
    ],
)  # fmt: skip
def test_volumes_that_cannot_be_say_their_limits(
    tmp_path: Path, file_system: str, size: int, cluster: int, message: str
) -> None:
    image = RawImage(tmp_path / "v.img", size)
    with pytest.raises(VolumeError, match=message):
        format_volume(image, Extent(0, size), file_system, cluster, "", 7, NOON)


@pytest.mark.parametrize("file_system", FILE_SYSTEMS)
def test_every_file_system_refuses_what_it_cannot_hold(tmp_path: Path, file_system: str) -> None:
    size, cluster = VOLUMES[file_system]
    writer = format_volume(RawImage(tmp_path / "v.img", size), Extent(0, size), file_system, cluster, "", 7, NOON)
    writer.make_folder("A/B", NOON)
    writer.store("A/B/core.txt", 5, [b"firn "], NOON)
    cases = [
        ("A/" + "y" * 300, 1, "characters|bytes"), ("C/d.txt", 1, "no such folder"), ("A/B/core.txt", 1, "already a file"),
        ("A/big", 40 << 20, "more are needed"),
    ]  # fmt: skip
    if file_system in (*EXT, *HFS):  # a name there is any text but two
        cases += [("A/B/..", 1, "cannot be a name"), ("A/a\0b", 1, "cannot be a name")]
    else:
        cases += [
            ("A/core.txt:1", 1, "cannot hold|no file"), ("A/a|b", 1, "cannot hold"), ("A/end.", 1, "space or a dot"),
            ("A/B/CORE.TXT", 1, "already a file"),
        ]  # fmt: skip
    for path, length, message in cases:
        with pytest.raises(VolumeError, match=message):
            writer.store(path, length, [], NOON)
    with pytest.raises(VolumeError, match="not empty"):
        writer.delete(writer.find("A"), NOON)  # type: ignore[arg-type]
    with pytest.raises(VolumeError, match="announced"):
        writer.store("A/short", 9, [b"firn"], NOON)
    with pytest.raises(VolumeError, match=r"at most|characters"):
        format_volume(
            writer.image,
            Extent(0, size),
            file_system,
            cluster,
            "A label far too long for any file system of today" * 6,
            7,
            NOON,
        )
