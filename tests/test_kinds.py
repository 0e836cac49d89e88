"""Every kind: samples that repeat and open, measures that end where the file ends, and no input that breaks them."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import random
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.errors import KindError
from sastrugi.kinds import Measure, Proof, _text, all_kinds, kind_for_name, kind_named, recognise
from sastrugi.kinds.base import BytesSource, Source, UnpackBudget
from sastrugi.kinds.registry import measuring_kind
from sastrugi.scenario.dice import Dice

KINDS = [name for name, kind in all_kinds().items() if kind.make]
HALF_IS_ONE = ("txt", "log", "eml", "mbox", "csv", "mpg", "ts", "opus")
"""Kinds whose every half is one of the kind: nothing in them tells that more should follow."""
SIGNED = [name for name in KINDS if measuring_kind(kind_named(name)).signatures]


@cache
def sample(name: str, size: int = 40_000, seed: int = 0) -> bytes:
    make = kind_named(name).make
    assert make is not None
    return make(Dice(f"sample of {name}" + (f" {seed}" if seed else "")), size)


def measured(name: str, data: bytes | Source, deep: bool = True) -> Measure | None:
    measure = measuring_kind(kind_named(name)).measure
    assert measure is not None
    return measure(data if isinstance(data, Source) else BytesSource(data), deep)


@pytest.mark.parametrize("name", KINDS)
def test_samples_repeat_differ_and_open(name: str, tmp_path: Path) -> None:
    kind = kind_named(name)
    assert kind.make is not None and kind.check is not None
    assert kind.make(Dice(f"sample of {name}"), 40_000) == sample(name)
    assert kind.make(Dice("another"), 40_000) != sample(name)
    path = tmp_path / f"x.{kind.extensions[0]}"
    path.write_bytes(sample(name))
    kind.check(path)
    path.write_bytes(sample(name)[: len(sample(name)) // 2])
    if name not in HALF_IS_ONE:
        with pytest.raises(Exception):  # noqa: B017 - each library has its own
            kind.check(path)


@pytest.mark.parametrize("name", KINDS)
@pytest.mark.parametrize("after", ["the end", "zeros", "noise", "another"])
def test_measure_ends_where_the_file_ends(name: str, after: str) -> None:
    data = sample(name)
    slack = bytes(-len(data) % 512)  # drivers leave zeros up to the end of the sector
    tails = {"the end": b"", "zeros": slack + bytes(9000), "noise": slack + random.Random(1).randbytes(9000)}
    found = measured(name, data + tails.get(after, slack + sample(name, 30_000)))
    assert found is not None and found.whole and found.kind == name
    if found.proof > Proof.GUESS:
        assert found.length == len(data) and found.breaks_at is None
    else:
        assert found.length >= len(data) and "nothing" in found.rule


@pytest.mark.parametrize("name", [n for n in KINDS if kind_named(n).proof > Proof.GUESS])
def test_a_file_cut_short_is_never_whole(name: str) -> None:
    data = sample(name)
    for length in (len(data) // 2 // 512 * 512, len(data) * 9 // 10):
        found = measured(name, data[:length])
        assert found is None or not found.whole or found.proof == Proof.GUESS
        assert found is None or found.length <= length


SEEN_IN_CONTENT = [
    n for n in KINDS if kind_named(n).proof == Proof.CHECKSUM or n in ("jpeg", "gif", "rtf", "mp3", "svg")
]
"""Kinds whose proof reaches every byte, or nearly: of the others the structure alone is seen."""


@pytest.mark.parametrize("name", SEEN_IN_CONTENT)
def test_damage_in_the_middle_is_noticed(name: str) -> None:
    """Overwritten by another file, or by noise, from the middle on: never whole."""
    data = sample(name)
    middle = len(data) // 2 // 512 * 512
    for damaged in (data[:middle] + sample("wav", 60_000), data[:middle] + random.Random(2).randbytes(len(data))):
        found = measured(name, damaged)
        assert found is None or not found.whole
        assert found is None or (found.breaks_at is not None and found.length <= len(damaged))


@pytest.mark.parametrize("name", [n for n in KINDS if kind_named(n).proof == Proof.CHECKSUM])
def test_checksums_find_any_flipped_bit_of_content(name: str) -> None:
    data = bytearray(sample(name))
    data[len(data) // 3] ^= 0x10
    found = measured(name, bytes(data))
    assert found is None or (not found.whole and found.breaks_at is not None and found.breaks_at <= len(data))


class Counting(BytesSource):
    """A source that counts what is read from it."""

    def __init__(self, data: bytes) -> None:
        super().__init__(data)
        self.total = 0

    def read(self, position: int, length: int) -> bytes:
        assert length >= 0 and position >= 0
        got = super().read(position, length)
        self.total += len(got)
        return got


@given(st.sampled_from(SIGNED), st.data())
def test_no_input_raises_or_takes_more_than_linear_time(name: str, draw: st.DataObject) -> None:
    data = bytearray(sample(name, 12_000))
    for _ in range(draw.draw(st.integers(1, 12))):
        at = draw.draw(st.integers(0, min(len(data) - 1, draw.draw(st.sampled_from([40, 400, 40_000])))))
        what = draw.draw(st.sampled_from(["flip", "big", "zero", "cut", "insert"]))
        if what == "flip":
            data[at] ^= draw.draw(st.integers(1, 255))
        elif what == "big":
            data[at : at + 4] = b"\xff\xff\xff\xff"
        elif what == "zero":
            data[at : at + 4] = bytes(4)
        elif what == "cut":
            del data[at : at + 7]
        else:
            data[at:at] = draw.draw(st.binary(max_size=9))
    source = Counting(bytes(data))
    found = measured(name, source)
    assert found is None or 0 <= found.length <= len(data)
    assert source.total < 60 * len(data) + (4 << 20)


def test_structure_alone_measures_large_containers() -> None:
    """A large archive or clip is measured by its structure, not by reading its bytes."""
    for name in ("zip", "mp4", "wav"):
        source = Counting(sample(name, 3_000_000))
        found = measured(name, source, deep=False)
        assert found is not None and found.whole and source.total < 200_000


def test_kinds_are_found_by_name_and_extension() -> None:
    assert kind_for_name("FRN00001.JPG") is kind_named("jpeg")
    assert kind_for_name("notes") is None and kind_for_name("a.unheard") is None
    with pytest.raises(KindError, match="did you mean 'jpeg'"):
        kind_named("jpge")


ANY_JSON = st.recursive(
    st.none()
    | st.booleans()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text('ab\\"[]{},:é雪\n', max_size=20),
    lambda some: st.lists(some, max_size=4) | st.dictionaries(st.text('a"\\}', max_size=4), some, max_size=4),
    max_leaves=20,
)


@given(
    st.lists(ANY_JSON) | st.dictionaries(st.text(), ANY_JSON), st.booleans(), st.sampled_from(["", " \n", "more", "]"])
)
def test_a_long_json_document_closes_where_a_short_one_does(value: Any, escaped: bool, behind: str) -> None:
    """Long ones are not read as a whole, which takes many times their size."""
    mark = b"\xef\xbb\xbf" if escaped else b""
    source = BytesSource(
        mark + (json.dumps(value, ensure_ascii=escaped, indent=1 if escaped else None) + behind).encode()
    )
    read = _text._json_length(source, source.size)
    assert read
    for block in (1, 7, 1 << 16):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(_text, "_MOST_READ", 0)
            patch.setattr(_text, "_BLOCK", block)
            assert _text._json_length(source, source.size) == read


def test_what_is_no_json_is_none_however_long(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(_text, "_MOST_READ", 0)
    for text in (b"[1, 2", b"{what: 1}", b"[weather] 3", b'["no end]'):
        assert _text._json_length(BytesSource(text), len(text)) == 0


@pytest.mark.parametrize("pack", [gzip.compress, bz2.compress, lzma.compress], ids=["gz", "bz2", "xz"])
def test_a_stream_that_is_nothing_but_a_burden_is_given_up(pack: Callable[[bytes], bytes]) -> None:
    """One that unpacks to thousands of times its size is unpacked as far as the medium's budget goes, no further."""
    packed = pack(bytes(96 << 20)) + pack(b"a second member")
    spent, left = BytesSource(packed), BytesSource(packed)
    spent.unpacking, left.unpacking = UnpackBudget(1 << 20), UnpackBudget(1 << 31)
    given_up, whole = recognise(spent, True), recognise(left, True)
    assert whole is not None and whole.whole and whole.length == len(packed)
    if pack is not bz2.compress:  # whose blocks are followed without being unpacked
        assert given_up is not None and not given_up.whole and "was not looked for" in given_up.rule


def test_a_long_log_that_begins_like_a_list_is_a_log() -> None:
    line = b"[2031-02-03 08:00:00] wind from the south\n"
    source = BytesSource(line * ((5 << 20) // len(line)))
    assert _text.sort_of_text(source, source.size) == ("log", source.size)


@pytest.mark.parametrize(
    "how",
    [
        {}, {"row_group_size": 300}, {"compression": "zstd", "data_page_version": "2.0"}, {"write_page_index": True},
        {"use_dictionary": False, "write_statistics": False}, {"compression": "gzip", "data_page_size": 512},
    ],
)  # fmt: skip
def test_tables_are_whole_where_their_footer_stands_behind_their_columns(how: dict[str, Any]) -> None:
    """However they are written, also without rows; with anything between, they are not."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    table = pa.table({
        "stake": list(range(3000)), "note": [f"firn {n % 7}" for n in range(3000)], "wet": [n % 3 == 0 for n in range(3000)],
        "depths": [[n, n + 1] for n in range(3000)], "told": [{"by": n, "at": None} for n in range(3000)],
    })  # fmt: skip
    for rows in (table, table.slice(0, 0)):
        out = io.BytesIO()
        pq.write_table(rows, out, **how)
        data = out.getvalue()
        found = measured("parquet", data + b"Firnline" * 99)
        assert found is not None and found.whole and found.length == len(data)
        for at in (5, len(data) // 3, len(data) // 2) if len(rows) else ():
            foreign = measured("parquet", data[:at] + bytes(range(256)) * 8 + data[at:])
            assert foreign is not None and not foreign.whole
