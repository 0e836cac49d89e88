"""What every file system must do, whatever it is: laid down by its writer, lost by its writer, read by its reader.

All that the registry knows are tried, and the drift file system, which is unlike the others wherever that is possible. A
new one inherits these tests by being declared.
"""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from sastrugi.errors import SastrugiError, VolumeError
from sastrugi.media import Extent, FileMap, RangeSet
from sastrugi.media.raw import RawImage
from sastrugi.recovery.layout import boot_sectors, unlisted_places
from sastrugi.specimen.write_tracker import WriteTracker
from sastrugi.volumes.metadata_scan import heads_of
from sastrugi.volumes.reader import Entry, Volume
from sastrugi.volumes.registry import FileSystem, Variant, file_systems
from sastrugi.volumes.writer import Habits, VolumeWriter
from tests import driftfs

EVERY = [(one, variant) for one in (*file_systems().values(), driftfs.FILE_SYSTEM) for variant in one.variants]
SIZES = (4 << 20, 16 << 20, 40 << 20)
NOON = dt.datetime(2031, 2, 3, 12)
OFFSET = 1 << 20
every = pytest.mark.parametrize(("family", "variant"), EVERY, ids=[variant.name for _, variant in EVERY])


@dataclass
class Card:
    """A volume on a medium, 1 MiB behind its start, with what was put on it."""

    family: FileSystem
    variant: Variant
    image: RawImage
    writer: VolumeWriter[Any]
    now: dt.datetime = NOON
    content: dict[str, bytes] = field(default_factory=dict)
    when: dict[str, dt.datetime] = field(default_factory=dict)

    def store(self, path: str, content: bytes, lie: tuple[Extent, ...] | None = None) -> Any:
        self.now += dt.timedelta(minutes=1)
        node = self.writer.store(path, len(content), [content[:700], content[700:]], self.now, lie=lie)
        self.content[path], self.when[path] = content, self.now
        return node

    def delete(self, path: str, habits: Habits = "linux") -> Any:
        node = self.writer.find(path)
        assert node is not None
        self.content.pop(path, None)
        return self.writer.delete(node, self.now + dt.timedelta(seconds=4), habits)

    def volume(self) -> Volume:
        self.writer.flush()
        volume = self.family.open(self.image, Extent(OFFSET, self.image.size - OFFSET))
        assert volume is not None
        return volume

    def live(self, volume: Volume | None = None) -> dict[str, Entry]:
        return {e.full_path[1:]: e for e in (volume or self.volume()).entries() if not e.deleted and not e.folder}

    def check(self) -> None:
        """Everything that should be there is, and nothing else."""
        live = self.live()
        assert live.keys() == self.content.keys()
        for path, entry in live.items():
            assert b"".join(entry.map.chunks(self.image)) == self.content[path], path
            assert (entry.size, entry.notes, entry.damaged) == (len(self.content[path]), [], False)


def new_card(family: FileSystem, variant: Variant, folder: Path) -> Card:
    for size in SIZES:
        path = folder / f"{variant.name}-{size}.img"
        image = RawImage(path, OFFSET + size + (1 << 20))
        unit = variant.default_unit(size, image.sector, "linux")
        try:
            writer = variant.format(image, Extent(OFFSET, size), unit, "CARD 7", 0x20310203, NOON, "linux")
        except VolumeError:
            image.close()
            continue
        return Card(family, variant, image, writer)
    raise AssertionError(f"{variant.name} has no size among {SIZES}")


@pytest.fixture
def card(family: FileSystem, variant: Variant, tmp_path: Path) -> Iterator[Card]:
    made = new_card(family, variant, tmp_path)
    yield made
    made.image.close()


def fill(card: Card, seed: int = 3) -> random.Random:
    """Files of every size that is near a border, in folders, one of them in pieces."""
    dice, unit = random.Random(seed), card.writer.cluster_size
    card.writer.make_folder("Logs/Day 1", NOON)
    sizes = (0, 1, 511, 512, 513, unit - 1, unit, unit + 1, 3 * unit + 7, 40_000)
    for n, size in enumerate(sizes):
        card.store(f"{('', 'Logs/', 'Logs/Day 1/')[n % 3]}core section {n}.bin", dice.randbytes(size))
    card.store("Logs/notes.txt", b"".join(b"%05d a reading every minute\n" % n for n in range(700)))
    card.store("zeros inside.bin", dice.randbytes(9000) + bytes(20_000) + dice.randbytes(100))
    return dice


def extents_of(parts: tuple[Extent, ...]) -> set[int]:
    """The sectors that extents touch."""
    return {n for at, length in parts for n in range(at // 512, -(-(at + length) // 512))}


@every
def test_what_is_stored_is_read(card: Card, variant: Variant) -> None:
    fill(card)
    card.check()
    volume = card.volume()
    assert (volume.family, volume.file_system, volume.health) == (card.family.family, variant.title, [])
    assert volume.label == "CARD 7" and volume.where == card.writer.where and volume.cluster_size
    for path, entry in card.live(volume).items():
        node = card.writer.find(path)
        assert node is not None and entry.map == card.writer.map(node) and entry.record
        assert RangeSet(entry.record).count(volume.where) == sum(part.length for part in RangeSet(entry.record))
        assert entry.times.modified is not None
        off = abs(entry.times.modified - card.writer.moment(card.when[path]))
        assert off.total_seconds() < variant.time_grain, path
    folders = {e.full_path for e in volume.entries() if e.folder and not e.deleted}
    assert folders == {"/Logs", "/Logs/Day 1"}
    assert not list(volume.history()) or card.family is driftfs.FILE_SYSTEM


@every
def test_every_byte_has_one_owner(card: Card) -> None:
    fill(card)
    volume = card.volume()
    own = [extent for _, extent in volume.own_extents()]
    seen = RangeSet(own)
    for path, entry in card.live(volume).items():
        for extent in entry.map.stored:
            inside = any(record.offset <= extent.offset and extent.end <= record.end for record in entry.record)
            assert inside or not seen.overlap(extent), path
            seen.add(extent)
        owners = {conflict.owner for conflict in volume.conflicts(entry.map.stored)}
        assert owners <= {path}, path
        assert bool(owners) == bool(entry.map.stored)
    free = card.writer.free_extents()
    assert not volume.conflicts(free) and not any(seen.overlap(extent) for extent in free)
    used, left = volume.used_and_free()
    assert left == card.writer.room and used + left <= volume.where.length


@every
@pytest.mark.parametrize("where", ["next", "first", "last", "spread", "byte"])
def test_space_is_given_out_as_it_is_asked_for(card: Card, where: str) -> None:
    dice, unit = fill(card), card.writer.cluster_size
    card.delete("core section 9.bin")
    before = card.writer.room
    content = dice.randbytes(5 * unit - 3)
    space = card.writer.space_for(len(content))
    at: Any = card.writer.data.offset + card.writer.data.length // 2 // unit * unit if where == "byte" else where
    lie = card.writer.reserve(space, at, lambda lo, hi: (lo + hi) // 2)
    assert sum(part.length for part in lie) == space == before - card.writer.room
    assert all((part.offset - card.writer.data.offset) % unit == 0 == part.length % unit for part in lie)
    assert where != "byte" or lie[0].offset >= at
    node = card.store("reserved.bin", content, lie)
    assert extents_of(card.writer.extents(node)) <= extents_of(lie)
    card.check()
    card.delete("reserved.bin")
    assert card.writer.room == before
    with pytest.raises(VolumeError, match="full"):
        card.writer.reserve(before + unit)


@every
def test_changes_are_read(card: Card) -> None:
    dice, writer = fill(card), card.writer
    grown, moved, saved = (
        writer.find(f"Logs/{n}") for n in ("notes.txt", "core section 4.bin", "Day 1/core section 8.bin")
    )
    more = dice.randbytes(20_000)
    writer.grow(grown, len(more), [more], NOON)
    card.content["Logs/notes.txt"] += more
    map_before = writer.map(moved)
    writer.rename(moved, "Logs/Day 1/moved with a longer name.bin", NOON)
    card.content["Logs/Day 1/moved with a longer name.bin"] = card.content.pop("Logs/core section 4.bin")
    assert writer.map(moved) == map_before
    for in_place in (True, False):
        content = dice.randbytes(9000 if in_place else 300)
        writer.rewrite(saved, len(content), [content], NOON, in_place)
        card.content["Logs/Day 1/core section 8.bin"] = content
        card.check()
    folder = writer.find("Logs/Day 1")
    writer.rename(folder, "Season", NOON)
    card.content = {path.replace("Logs/Day 1/", "Season/"): data for path, data in card.content.items()}
    card.check()
    with pytest.raises(VolumeError):
        writer.rename(writer.find("Season"), "Season/inside itself", NOON)
    with pytest.raises(VolumeError):
        writer.delete(writer.find("Season"), NOON)
    with pytest.raises(VolumeError):
        writer.store("Logs/notes.txt", 0, [], NOON)
    with pytest.raises(VolumeError):
        writer.store("nowhere/x.bin", 0, [], NOON)
    card.check()


@every
@pytest.mark.parametrize("habits", ["linux", "old-linux"])
def test_what_a_deletion_leaves_is_what_the_reader_finds(card: Card, habits: Habits) -> None:
    """While the traces stand that the writer tells of, the reader gives name, size and place; and not otherwise."""
    fill(card)
    gone = {}
    for path in ("Logs/core section 7.bin", "core section 3.bin", "Logs/notes.txt", "zeros inside.bin"):
        node = card.writer.find(path)
        content, place = card.content[path], card.writer.map(node)
        gone[path] = (content, place, card.delete(path, habits))
        assert not card.writer.find(path)
    card.check()
    volume = card.volume()
    told = {
        e.full_path[1:]: e for e in (*volume.history(), *(e for e in volume.entries() if e.deleted)) if not e.folder
    }
    inside = RangeSet([volume.where])
    for path, (content, place, evidence) in gone.items():
        assert all(inside.count(part) == part.length for trace in evidence.traces for part in trace.where)
        names = [trace.worth for trace in evidence.traces if trace.tells == "name"]
        places = [trace.worth for trace in evidence.traces if trace.tells == "place"]
        assert evidence.record and (names or habits == "linux")
        if not names or not places:  # nobody can tell what nothing tells
            assert path not in told
            continue
        if names[0] == "full" and places[0] in ("whole", "start"):
            own = RangeSet(told[path].record)  # a file may stand inside of its record
            assert not any(own.gaps(conflict.extent) for conflict in volume.conflicts(told[path].map.stored))
            assert told[path].size == len(content)
            assert told[path].deleted and told[path].map.start == place.start
        if places[0] == "whole":
            assert told[path].map == place and b"".join(place.chunks(card.image)) == content


@every
def test_a_record_tells_what_it_is_looked_at_for(card: Card, variant: Variant) -> None:
    fill(card)
    card.writer.flush()
    for path, content in card.content.items():
        node = card.writer.find(path)
        seen = card.family.peek(
            variant.name,
            card.image.read_extents(card.writer.record(node)),
            card.writer.record(node),
            card.writer.data.offset,
            card.writer.cluster_size,
        )
        assert seen is not None and (seen.name, seen.size) == (path.rpartition("/")[2], len(content))
        assert not content or seen.start == card.writer.map(node).start
    assert card.family.peek(variant.name, bytes(64), [Extent(0, 64)], 0, 512) is None


@every
def test_a_driver_needs_what_the_writer_says(card: Card) -> None:
    """Without any of it a file is not given as it was; without what nothing needs every file is."""
    fill(card)
    card.writer.flush()
    path = "Logs/core section 7.bin"
    node = card.writer.find(path)
    entry = card.live()[path]
    structures = card.writer.structures()
    assert card.writer.fatal_structures <= structures.keys()
    for name in card.writer.spare_structures & structures.keys():
        before = [(part, card.image.read(*part)) for part in card.writer.structures()[name]]
        for part, _ in before:
            card.image.write(part.offset, bytes(part.length))
        now = card.live(card.family.open(card.image, Extent(OFFSET, card.image.size - OFFSET)))
        assert {p: e.map for p, e in now.items()}.items() >= {path: entry.map}.items(), name
        for part, data in before:
            card.image.write(part.offset, data)
    for name in card.writer.fatal_structures & structures.keys():
        kept = [(part, card.image.read(*part)) for part in structures[name]]
        card.image.write(kept[0][0].offset, bytes(kept[0][0].length))
        damaged = card.family.open(card.image, Extent(OFFSET, card.image.size - OFFSET))
        assert damaged is None or not damaged.mountable, name
        card.image.write(kept[0][0].offset, kept[0][1])
    for part in card.writer.needs(node):
        before = card.image.read(*part)
        card.image.write(part.offset, bytes(part.length))
        now = card.live().get(path)
        assert now is None or now.map != entry.map or now.notes or now.damaged or now.size != entry.size
        card.image.write(part.offset, before)
    card.check()


@every
def test_a_volume_that_no_table_lists_is_found(card: Card, family: FileSystem) -> None:
    fill(card)
    card.writer.flush()
    known = file_systems() | {family.family: family}
    with pytest.MonkeyPatch.context() as patch:
        for module in ("sastrugi.recovery.layout", "sastrugi.volumes.probing", "sastrugi.volumes.metadata_scan"):
            patch.setattr(f"{module}.file_systems", lambda: known)
        patch.setattr("sastrugi.volumes.metadata_scan._boot_tests", lambda: [one.boot.test for one in known.values()])
        whole = [Extent(0, card.image.size)]
        found = unlisted_places(card.image, [], boot_sectors(card.image, whole))
    assert [(place.where, place.listed) for place in found] == [(card.writer.where, False)]
    assert found[0].volume is not None and found[0].volume.family == family.family
    sectors = np.frombuffer(random.Random(1).randbytes(512 * 4000), "u1").reshape(-1, 512)
    assert not family.boot.test(sectors, heads_of(sectors)).any()


@every
def test_whatever_is_written_passes_by_the_books(card: Card) -> None:
    """What later writes take of a file is noted, to the byte, with the one who took it."""
    tracker = WriteTracker(card.image)
    dice = fill(card)
    node = card.writer.find("zeros inside.bin")
    place, content = card.writer.map(node), card.content["zeros inside.bin"]
    tracked = tracker.watch(place.stored)
    card.delete("zeros inside.bin")
    tracker.writer = "the next season"
    lie = card.writer.reserve(card.writer.room // card.writer.cluster_size * card.writer.cluster_size // 2, "first")
    for n, part in enumerate(lie):
        card.writer.image.write(part.offset, dice.randbytes(part.length) if n % 2 else bytes(part.length))
    right = place.right(tracked.gone)
    now = b"".join(place.chunks(card.image))
    for part in right:
        assert now[part.offset : part.end] == content[part.offset : part.end]
    assert tracked.takers == ("the next season",) and right.count(Extent(0, len(content))) < len(content)


@every
@pytest.mark.parametrize("seed", range(6))
def test_any_bytes_are_read_without_harm(card: Card, seed: int) -> None:
    """Random bytes over a volume's structures and folders: less is found, and nothing breaks."""
    fill(card)
    card.delete("Logs/notes.txt")
    card.writer.flush()
    dice = random.Random(seed)
    own = [extent for _, extent in card.volume().own_extents()]
    for _ in range(30):
        part = dice.choice(own)
        at = part.offset + dice.randrange(min(part.length, 1 << 16))
        card.image.write(at, dice.choice([b"\0", b"\xff", b"\x7f"]) * dice.choice([1, 2, 4, 8]))
    volume = card.family.open(card.image, Extent(OFFSET, card.image.size - OFFSET))
    if volume is None:
        return
    try:
        entries = [*volume.entries(), *volume.history()]
        volume.used_and_free()
        for entry in entries:
            assert all(part.offset >= 0 and part.length > 0 for part in entry.map.stored)
            assert entry.map.size <= max(entry.size, 0) or not entry.placements
            entry.map.read(card.image, 0, 4096)
            volume.conflicts(entry.map.stored)
        list(volume.structures())
    except SastrugiError:
        return


def test_maps_of_nothing() -> None:
    assert FileMap().size == 0 and FileMap.of((), 0) == FileMap() and not FileMap().stored and FileMap().plain
