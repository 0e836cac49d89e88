"""Tables and chains are read many entries at once; whatever that gives, reading one by one must give the same."""

from __future__ import annotations

import random
import struct
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from sastrugi.media import Extent
from sastrugi.recovery.safe_destination import counted_names, numbered
from sastrugi.recovery.sector_survey import _near_joined
from sastrugi.volumes._fat_family.reader import ChainReader
from sastrugi.volumes.allocation import runs_of
from sastrugi.volumes.exfat import directory as exfat
from sastrugi.volumes.exfat.layout import set_checksum, set_checksums
from sastrugi.volumes.fat import directory as fat
from sastrugi.volumes.fat.layout import short_name_checksum, short_name_checksums
from sastrugi.volumes.fat.names import long_entries, short_alias
from tests.test_exfat import blank_entries
from tests.test_writers import long_names

_BAD, _END = 0x0FFFFFF7, 0x0FFFFFFF


@given(st.lists(st.booleans(), max_size=80), st.integers(0, 1000))
def test_runs_are_what_stands_side_by_side(flags: list[bool], start: int) -> None:
    wanted: list[tuple[int, int]] = []
    for at, flag in enumerate(flags, start):
        if flag and wanted and sum(wanted[-1]) == at:
            wanted[-1] = (wanted[-1][0], wanted[-1][1] + 1)
        elif flag:
            wanted.append((at, 1))
    assert list(runs_of(np.array(flags, bool), start)) == wanted


@given(st.lists(st.binary(min_size=11, max_size=11), min_size=1, max_size=20))
def test_checksums_of_short_names(names: list[bytes]) -> None:
    """Against the sum as the specification writes it, byte by byte."""
    wanted = []
    for name in names:
        value = 0
        for byte in name:
            value = ((value & 1) << 7) + (value >> 1) + byte & 0xFF
        wanted.append(value)
    assert short_name_checksums(np.frombuffer(b"".join(names), "u1").reshape(-1, 11)).tolist() == wanted
    assert [short_name_checksum(name) for name in names] == wanted


@given(st.integers(3, 19), st.integers(1, 12), st.integers(0, 1 << 30))
def test_checksums_of_entry_sets(entries: int, count: int, seed: int) -> None:
    sets = [random.Random(seed + n).randbytes(32 * entries) for n in range(count)]
    together = set_checksums(np.frombuffer(b"".join(sets), "u1").reshape(count, -1)).tolist()
    wanted = []
    for one in sets:
        value = 0
        for at, byte in enumerate(one):
            if at not in (2, 3):
                value = ((value & 1) << 15) + (value >> 1) + byte & 0xFFFF
        wanted.append(value)
    assert together == wanted == [set_checksum(one) for one in sets]


@given(st.lists(st.tuples(long_names, st.booleans(), st.booleans()), min_size=1, max_size=30), st.integers(0, 1 << 30))
def test_a_table_of_sets_is_its_sets(rows: list[tuple[str, bool, bool]], seed: int) -> None:
    """In use, deleted, and with a byte that is wrong: each as if it stood alone."""
    from sastrugi.volumes.exfat.write import _entry_set

    dice, table, alone = random.Random(seed), b"", []
    for name, deleted, harmed in rows:
        one = bytearray(_entry_set(*blank_entries(), name))
        for at in range(0, len(one), 32):
            one[at] &= 0x7F if deleted else 0xFF
        if harmed:
            one[dice.randrange(66, len(one))] ^= 1 << dice.randrange(7)
        found = exfat.parse_set(bytes(one), len(table))
        alone += [found] if found is not None else []
        table += bytes(one)
    assert exfat.parse_table(table + bytes(32)) == alone


@given(st.lists(st.tuples(long_names, st.booleans()), min_size=1, max_size=20), st.booleans())
def test_a_table_of_long_names_is_its_names(rows: list[tuple[str, bool]], wide: bool) -> None:
    """Deleted or not, in any order; what stands behind the end mark counts for nothing."""
    table, wanted = b"", []
    for n, ((name, deleted), one) in enumerate(zip(rows, fat_records(rows), strict=True)):
        wanted.append((name, deleted, (0x10000 if wide else 0) + n + 2, 100 + n, len(table), len(one)))
        table += bytes(one)
    records = fat.parse_table(table + bytes(32) + table, 32 if wide else 16)
    assert [(r.name, r.deleted, r.cluster, r.size, r.position, r.length) for r in records] == wanted


def fat_records(rows: list[tuple[str, bool]]) -> list[bytes]:
    """The entries of each of some files of one folder, by its name and whether it is deleted."""
    taken: set[bytes] = set()
    out = []
    for n, (name, deleted) in enumerate(rows):
        short, _ = short_alias(name, taken)
        taken.add(short)
        plain = short + struct.pack("<B8xHHHHI", 0x20, 1, 0x6000, 0x5E21, n + 2, 100 + n)
        one = bytearray(long_entries(name, short) + plain)
        if deleted:
            one[::32] = bytes([0xE5]) * (len(one) // 32)
        out.append(bytes(one))
    return out


@given(st.lists(st.tuples(long_names, st.booleans()), min_size=1, max_size=12), st.data())
def test_a_table_goes_on_where_a_name_reaches_over_the_edge(rows: list[tuple[str, bool]], data: st.DataObject) -> None:
    records = fat_records(rows)
    table = b"".join(records)
    edge = 32 * data.draw(st.integers(1, len(table) // 32))
    begins = [sum(map(len, records[:n])) for n in range(len(records) + 1)]
    between = edge in begins
    assert fat.goes_on(table[:edge], table[edge:]) is (None if between else True)
    if not between:  # what begins with a file of its own is no part of it
        alone = fat_records([("field notes of the depot.txt", rows[0][1])])[0]
        assert fat.goes_on(table[:edge], alone) is False
        joined = fat.joined_record(table[:edge], table[edge:])
        (name,) = [rows[n][0] for n, at in enumerate(begins[:-1]) if at < edge < begins[n + 1]]
        assert joined is not None and joined.name == name


class Table:
    """A file allocation table in memory, as a medium."""

    def __init__(self, entries: NDArray[np.uint32]) -> None:
        self._bytes = entries.astype("<u4").tobytes()

    def read(self, offset: int, length: int) -> bytes:
        return self._bytes[offset : offset + length]


@given(st.integers(2, 60), st.integers(0, 1 << 30), st.integers(1, 80))
def test_a_chain_is_followed_as_one_link_after_the_other(clusters: int, seed: int, most: int) -> None:
    """Whatever stands in the table: ends, gaps, loops, numbers that are none."""
    dice = random.Random(seed)
    entries = np.zeros(clusters + 2, np.uint32)
    for n in range(2, clusters + 2):
        entries[n] = dice.choice([n + 1, n + 1, n + 1, dice.randrange(2, clusters + 2), 0, _END, clusters + 500])

    def holds(cluster: int) -> bool:
        return 2 <= cluster < clusters + 2

    medium = Table(entries)
    reader = ChainReader(
        medium, Extent(0, 4 * len(entries)), 32, _BAD, holds, lambda data: np.frombuffer(data, "<u4")  # type: ignore[arg-type]
    )  # fmt: skip
    runs, problem = reader.chain(2, most)
    walked, at = [], 2
    told = ""
    while len(walked) < most:
        if not holds(at):
            told = "leaves" if at else "free"
            break
        if at in walked:
            told = "loop"
            break
        walked.append(at)
        if entries[at] >= _BAD:
            break
        at = int(entries[at])
    followed = [n for start, length in runs for n in range(start, start + length)]
    if told == "loop":  # it is noticed where a run begins again, which may be a few links later
        assert followed[: len(walked)] == walked and (problem or len(followed) == most)
    else:
        assert followed == walked
        assert told in problem and bool(told) == bool(problem)


@given(st.lists(st.tuples(st.integers(0, 1 << 22), st.integers(1, 1 << 17)), max_size=12))
def test_what_is_joined_for_a_sweep_holds_all_of_it(parts: list[tuple[int, int]]) -> None:
    """In order, none of it lost, and with little between what was asked for."""
    asked: list[Extent] = []
    for gap, length in parts:
        asked.append(Extent((asked[-1].end if asked else 0) + gap, length))
    joined = _near_joined(asked)
    assert all(a.end + (64 << 10) <= b.offset for a, b in pairwise(joined))
    assert all(any(one.offset <= part.offset and part.end <= one.end for one in joined) for part in asked)
    assert sum(one.length for one in joined) <= sum(part.length for part in asked) + (64 << 10) * len(asked)


def test_names_are_counted_on_from_where_they_were() -> None:
    count = [1]
    given_names = [next(iter(counted_names("A.JPG", count)))]
    for _ in range(3):
        taken = set(given_names)
        given_names.append(next(name for name in counted_names("A.JPG", count) if name not in taken))
    assert given_names == ["A.JPG", numbered("A.JPG", 2), numbered("A.JPG", 3), numbered("A.JPG", 4)]
    assert count == [4]


@pytest.mark.parametrize("width", [40, 60, 80, 100])
@given(data=st.data())
def test_a_table_gives_up_columns_before_it_cuts_keys(width: int, data: st.DataObject) -> None:
    import io

    from rich.console import Console

    from sastrugi.report.style import table

    words = st.text(st.characters(codec="ascii", categories=("L", "N")), min_size=1, max_size=20)
    heads = ["Key", "One", "Two", "Three"]
    out = table(gives_way=("Three", "Two", "One"), keys=("Key",))
    for head in heads:
        out.add_column(head)
    rows = data.draw(st.lists(st.tuples(*[words] * 4), min_size=1, max_size=5))
    for row in rows:
        out.add_row(*row)
    console = Console(file=io.StringIO(), width=width)
    console.print(out)
    lines = console.file.getvalue().split("\n")  # type: ignore[attr-defined]
    assert max(len(line.rstrip()) for line in lines) <= width
    assert [line.split()[0] for line in lines[3:] if line.strip()] == [row[0] for row in rows]
    shown = lines[1].split()
    assert shown == heads[: len(shown)]
    console.print(out)  # what was given up is there again where there is room
    wide = Console(file=io.StringIO(), width=200)
    wide.print(out)
    assert wide.file.getvalue().split("\n")[1].split() == heads  # type: ignore[attr-defined]
