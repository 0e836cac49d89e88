"""A checker of HFS Plus volumes after Apple's Technical Note TN1150, written apart from the program's own reader and writer:
no checker for it installs where the tests run. It reads bytes with `struct` alone and answers all that is wrong."""

from __future__ import annotations

import itertools
import struct
from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from sastrugi.volumes.hfsplus.names import folded

Runs = list[tuple[int, int]]


@dataclass
class Fork:
    size: int
    blocks: int
    runs: Runs

    @classmethod
    def of(cls, data: bytes) -> Fork:
        size, _, blocks = struct.unpack_from(">QII", data)
        pairs = [struct.unpack_from(">II", data, 16 + 8 * n) for n in range(8)]
        return cls(size, blocks, [(s, c) for s, c in pairs if c])


@dataclass
class Checker:
    """`wrong` is what was found; the rest what a volume says of itself."""

    path: Path
    offset: int = 0
    size: int = 0
    wrong: list[str] = field(default_factory=list)
    taken: Counter[int] = field(default_factory=Counter)
    further: dict[tuple[int, int], Runs] = field(default_factory=lambda: defaultdict(list))

    def check(self) -> list[str]:
        self.file = self.path.open("rb")
        with self.file:
            self.size = self.size or self.path.stat().st_size - self.offset
            self._header()
            if not self.wrong:
                self._trees()
                self._catalog()
                self._space()
        return self.wrong

    def _say(self, right: bool, what: str) -> None:
        if not right and len(self.wrong) < 40:
            self.wrong.append(what)

    def _read(self, at: int, length: int) -> bytes:
        self.file.seek(self.offset + at)
        return self.file.read(length)

    def _header(self) -> None:
        raw, copy = self._read(1024, 512), self._read(self.size - 1024, 512)
        sign, version, attributes = struct.unpack_from(">HHI", raw)
        self.by_case = sign == 0x4858
        self._say((sign, version) in ((0x482B, 4), (0x4858, 5)), f"signature {sign:#x} of version {version}")
        self._say(copy[:4] == raw[:4] and copy[40:48] == raw[40:48], "the copy of the header is of another volume")
        self._say(bool(attributes & 0x100), "it was not unmounted")
        self.files, self.folders, self.block, self.blocks, self.free = struct.unpack_from(">5I", raw, 32)
        self.next_number = struct.unpack_from(">I", raw, 64)[0]
        self._say(self.blocks == self.size // self.block, f"{self.blocks} blocks of {self.block} in {self.size} bytes")
        names = ("bitmap", "extents", "catalog", "attributes", "startup")
        self.own = {name: Fork.of(raw[112 + 80 * n : 192 + 80 * n]) for n, name in enumerate(names)}
        self.journal = struct.unpack_from(">I", raw, 12)[0] if attributes & 0x2000 else 0
        self._say(copy[112:192] == raw[112:192], "the copy of the header tells another bitmap")

    def _fork_bytes(self, fork: Fork, number: int, kind: int = 0) -> bytes:
        runs = fork.runs + (self.further[number, kind] if len(fork.runs) == 8 else [])
        return b"".join(self._read(start * self.block, count * self.block) for start, count in runs)[: fork.size]

    # -- trees --------------------------------------------------------------------------------------------------------

    def _trees(self) -> None:
        for key, data in self._leaves("extents", self._fork_bytes(self.own["extents"], 3)):
            kind, number, first = key[2], *struct.unpack(">II", key[4:12])
            pairs = [struct.unpack_from(">II", data, 8 * n) for n in range(8)]
            self._say(
                sum(c for _, c in self.further[number, kind]) >= 0 and first > 0, f"extents of {number} from {first} on"
            )
            self.further[number, kind] += [(s, c) for s, c in pairs if c]
        self.attributed = {
            struct.unpack_from(">I", key, 4)[0]
            for key, _ in self._leaves("attributes", self._fork_bytes(self.own["attributes"], 8))
        }

    def _sort(self, name: str, key: bytes) -> tuple[int, int | bytes, int | bytes]:
        if name == "extents":
            return struct.unpack_from(">I", key, 4)[0], key[2], struct.unpack_from(">I", key, 8)[0]
        if name == "attributes":
            return struct.unpack_from(">I", key, 4)[0], key[14:], struct.unpack_from(">I", key, 8)[0]
        units = key[8:]
        return struct.unpack_from(">I", key, 2)[0], units if self.by_case else folded(units), b""

    def _leaves(self, name: str, data: bytes) -> Iterator[tuple[bytes, bytes]]:
        """The records of a tree in order: keys (with their lengths) and data; every node is looked at on the way."""
        depth, root, count, first, last, size, _, total, free = struct.unpack_from(">HIIIIHHII", data, 14)
        self._say(total * size == len(data), f"{name}: {total} nodes of {size} in {len(data)} bytes")
        nodes: dict[int, tuple[int, int, int, int, list[bytes]]] = {}
        bits, at = bytearray(), 0
        while True:  # the map, in the header node and in map nodes
            node = data[at * size : (at + 1) * size]
            ends = struct.unpack(">4H", node[-8:]) if not at else struct.unpack(">2H", node[-4:])
            bits += node[ends[1] : ends[0]]
            seen = {0} if not at else seen | {at}  # noqa: F821
            at = struct.unpack_from(">I", node)[0]
            if not at or at in seen:
                break
        level, reached = [root] if root else [], set(seen)
        height, found = depth, 0
        while level:
            below: list[int] = []
            for place, number in enumerate(level):
                reached.add(number)
                raw = data[number * size : (number + 1) * size]
                after, before, kind, own, records, reserved = struct.unpack_from(">IIbBHH", raw)
                ends = list(struct.unpack(f">{records + 1}H", raw[size - 2 * (records + 1) :]))[::-1]
                where = f"{name}: node {number}"
                self._say(
                    (kind, own, reserved) == (-1 if height == 1 else 0, height, 0),
                    f"{where} of kind {kind}, height {own}",
                )
                self._say(records > 0 and ends[0] == 14 and ends == sorted(set(ends)), f"{where}: offsets {ends[:4]}")
                self._say(ends[-1] <= size - 2 * (records + 1), f"{where}: records over its offsets")
                neighbours = (level[place - 1] if place else 0, level[place + 1] if place + 1 < len(level) else 0)
                self._say((before, after) == neighbours, f"{where}: linked to {before}, {after}, not {neighbours}")
                rows = [raw[a:b] for a, b in itertools.pairwise(ends)]
                keys = [self._sort(name, row[: 2 + struct.unpack_from(">H", row)[0]]) for row in rows]
                self._say(all(a < b for a, b in itertools.pairwise(keys)), f"{where}: keys out of order")
                nodes[number] = (kind, own, after, before, rows)
                if height > 1:
                    below += [struct.unpack(">I", row[-4:])[0] for row in rows]
                    for row, child in zip(rows, below[-len(rows) :], strict=True):
                        leaf = data[child * size + 14 :]
                        key = leaf[: 2 + struct.unpack_from(">H", leaf)[0]]
                        self._say(row[:-4] == key, f"{where}: its key for node {child} is not that node's first")
            if height == 1:
                self._say((first, last) == (level[0], level[-1]), f"{name}: first and last leaf {first}, {last}")
                for number in level:
                    found += len(nodes[number][4])
                    for row in nodes[number][4]:
                        length = 2 + struct.unpack_from(">H", row)[0]
                        yield row[:length], row[length:]
            level, height = below, height - 1
        self._say(found == count, f"{name}: {found} records, the header says {count}")
        used = {n for n in range(len(bits) * 8) if bits[n // 8] & 0x80 >> n % 8}
        self._say(used == reached, f"{name}: the map and the nodes differ in {sorted(used ^ reached)[:8]}")
        self._say(free == total - len(reached), f"{name}: {free} free nodes of {total}, {len(reached)} are used")

    # -- the catalog --------------------------------------------------------------------------------------------------

    def _catalog(self) -> None:
        names: dict[int, tuple[int, bytes]] = {}
        threads: dict[int, tuple[int, int, bytes]] = {}
        valence, told, links, apart = Counter[int](), {}, Counter[int](), {}
        files = folders = 0
        for key, data in self._leaves("catalog", self._fork_bytes(self.own["catalog"], 4)):
            parent, units = struct.unpack_from(">I", key, 2)[0], key[8:]
            kind, flags = struct.unpack_from(">HH", data)
            if kind in (3, 4):
                up, length = struct.unpack_from(">IH", data, 4)
                threads[parent] = (kind, up, data[10 : 10 + 2 * length])
                self._say(len(data) == 10 + 2 * length and not units, f"thread of {parent}")
                continue
            value, number = struct.unpack_from(">II", data, 4)
            self._say(len(data) == (88 if kind == 1 else 248), f"record of {number}: {len(data)} bytes")
            self._say(number not in names and number < self.next_number, f"number {number} twice, or not given out")
            names[number], valence[parent] = (parent, units), valence[parent] + 1
            self._say(bool(flags & 4) == (number in self.attributed), f"attributes of {number}")
            if kind == 1:
                folders += number != 2
                told[number] = value
                continue
            files += 1
            self._say(bool(flags & 2) and not value, f"flags {flags} of {number}")
            if data[48:56] == b"hlnkhfs+":
                links[struct.unpack_from(">I", data, 44)[0]] += 1
            elif units.startswith("iNode".encode("utf-16-be")):
                apart[int(units.decode("utf-16-be")[5:])] = struct.unpack_from(">I", data, 44)[0]
            for n, fork in ((0, Fork.of(data[88:168])), (0xFF, Fork.of(data[168:248]))):
                self._take(number, fork, self.further.pop((number, n), []))
        for number, (parent, units) in names.items():
            kind = 3 if number in told else 4
            self._say(threads.pop(number, None) == (kind, parent, units), f"the thread of {number} does not lead back")
            self._say(parent == 1 or parent in told, f"{number} is in no folder")
        self._say(not threads, f"threads of nothing: {sorted(threads)[:5]}")
        for number, count in told.items():
            self._say(valence[number] == count, f"folder {number} tells {count}, holds {valence[number]}")
        self._say(
            (files, folders) == (self.files, self.folders),
            f"{files} files, {folders} folders; told {self.files}, {self.folders}",
        )
        self._say(dict(links) == apart, f"names of files that have several: {dict(links)}, told {apart}")

    def _take(self, number: int, fork: Fork, more: Runs) -> None:
        runs = fork.runs + more
        have = sum(count for _, count in runs)
        self._say(
            have == fork.blocks and (not more or len(fork.runs) == 8), f"{number}: {have} blocks, told {fork.blocks}"
        )
        self._say(fork.blocks >= -(-fork.size // self.block), f"{number}: {fork.size} bytes in {fork.blocks} blocks")
        for start, count in runs:
            self.taken.update(range(start, start + count))

    def _space(self) -> None:
        for number, name in ((6, "bitmap"), (3, "extents"), (4, "catalog"), (8, "attributes")):
            self._take(number, self.own[name], self.further.pop((number, 0), []))
        self._say(not self.further or not any(self.further.values()), f"extents of nothing: {list(self.further)[:5]}")
        front = -(-1536 // self.block)
        back = (self.size - 1024) // self.block
        self.taken.update([*range(front), *range(back, self.blocks)])
        twice = [block for block, times in self.taken.items() if times > 1]
        self._say(not twice, f"blocks that two have: {sorted(twice)[:8]}")
        bits = self._fork_bytes(self.own["bitmap"], 6)
        used = {n for n in range(self.blocks) if bits[n // 8] & 0x80 >> n % 8}
        self._say(used == set(self.taken), f"bitmap and files differ in {sorted(used ^ set(self.taken))[:8]}")
        self._say(self.free == self.blocks - len(used), f"{self.free} free blocks told, {self.blocks - len(used)} are")
