"""What people look at: maps, shares, paths, damage, and files written whole or not at all."""

from __future__ import annotations

import re
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from rich.cells import cell_len

from sastrugi.errors import DestinationError
from sastrugi.media import Extent, RangeSet
from sastrugi.report.layers import COLOURS, _settled
from sastrugi.report.medium_map import grid_of
from sastrugi.report.style import shorten_path
from sastrugi.safety import atomic_file, new_folder, require_outside
from sastrugi.scoring import damage
from sastrugi.specimen.truth import Specimen
from sastrugi.units import percent, plural, printable
from tests.conftest import Program


@given(st.lists(st.builds(Extent, st.integers(0, 3 << 20), st.integers(1, 80_000)), max_size=12), st.integers(2, 24))
def test_a_grid_loses_no_byte(extents: list[Extent], rows: int) -> None:
    """Each byte is in one layer, and in one cell or in a stretch of free space that is left out."""
    layers = _settled("t", 4 << 20, {"L": extents[::2], "W": extents[1::2]}, [])
    grid = grid_of(layers, 16, rows)
    assert len(grid.rows) <= rows
    sums = {letter: sum(int(row.shares[n].sum()) for row in grid.rows) for n, letter in enumerate(grid.letters)}
    sums["·"] += grid.after + sum(row.skipped for row in grid.rows)
    assert {letter: count for letter, count in sums.items() if count} == {
        one.letter: one.bytes for one in layers.layers
    }
    assert sum(sums.values()) == 4 << 20
    ends = [row.start + grid.cell * 16 for row in grid.rows]
    assert all(start >= end for start, end in zip([row.start for row in grid.rows[1:]], ends, strict=False))


def test_the_map_tells_what_lies_where(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    ran = sastrugi("map", demo / "specimen", "--out", tmp_path / "m.png", "--json").json
    layers = {one["letter"]: [Extent(*extent) for extent in one["extents"]] for one in ran["layers"]}
    with Specimen(demo / "specimen") as specimen:
        for file in specimen.truth.files:
            letter = "L" if not file.lost else "P" if file.gone else "W"
            over = RangeSet(part for other in specimen.truth.lost for part in other.gone)
            for extent in file.extents:
                for part in over.gaps(extent):
                    assert any(one.offset <= part.offset and part.end <= one.end for one in layers[letter]), file.path
    assert sum(one["bytes"] for one in ran["layers"]) == ran["size"] == 64 << 20
    with Image.open(tmp_path / "m.png") as picture:
        assert picture.size == (1280, 800)
        colours = {f"#{r:02X}{g:02X}{b:02X}" for _, (r, g, b) in picture.getcolors(1 << 20)}
    assert {COLOURS[letter].upper() for letter in layers} <= colours
    shown = sastrugi("map", demo / "specimen", "--out", tmp_path / "m.png", "--replace").out
    assert all(f"{one['letter']} {one['meaning']}" in " ".join(shown.split()) for one in ran["layers"])
    assert max(map(len, shown.splitlines())) <= 100


def test_a_medium_without_a_truth_is_drawn_by_its_tables(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    ran = sastrugi("map", demo / "specimen" / "medium.img", "--out", tmp_path / "m.png", "--json", "--replace").json
    known = {one["letter"]: one["bytes"] for one in ran["layers"]}
    with Specimen(demo / "specimen") as specimen:
        live = sum(file.size for file in specimen.truth.live)
    assert {"T", "F", "L", "W", "·"} <= set(known) and 0.8 * live < known["L"] <= live
    refused = sastrugi("map", demo / "specimen" / "medium.img", "--out", demo / "specimen" / "medium.img", code=2)
    assert "is the medium itself" in refused.err


@pytest.mark.parametrize(
    ("share", "text"),
    [(None, "–"), (0, "0 %"), (1, "100 %"), (0.99999, "99.9 %"), (0.00001, "0.1 %"), (0.5, "50 %"), (2 / 3, "66.7 %")],
)
def test_shares_are_exact_only_when_they_are(share: float | None, text: str) -> None:
    assert percent(share) == text


@given(st.text(max_size=60), st.integers(4, 40))
def test_paths_fit_and_keep_their_end(path: str, room: int) -> None:
    short = shorten_path(path, room)
    assert cell_len(short) <= room and not set(short) & {"\n", "\x1b", "\r"}
    clean = printable(path)
    assert short == clean or (short.startswith("…") and clean.endswith(short[1:]))


@given(st.text("RWA", max_size=200))
def test_damage_is_run_length_coded(letters: str) -> None:
    code = damage.encode(np.frombuffer(letters.encode(), np.uint8))
    runs = damage.decode(code)
    assert "".join(letter * count for count, letter in runs) == letters
    assert all(a[1] != b[1] for a, b in pairwise(runs))
    wrong, longest = damage.shortfall(code, 512 * len(letters))
    assert wrong == len(re.findall("[WA]+", letters))
    assert longest == 512 * max(map(len, re.split("[WA]", letters)))


def test_terminal_codes_in_names_are_shown_and_not_obeyed() -> None:
    assert printable("a\x1b[31mb\u202e.jpg\n") == "a\\x1b[31mb\\u202e.jpg\\n"
    assert printable("Ålbreen — dzień 雪原.gif") == "Ålbreen — dzień 雪原.gif"
    assert (plural(1, "file"), plural(2, "file"), plural(1234, "box", "boxes")) == ("1 file", "2 files", "1,234 boxes")


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "deep" / "card.json"
    with atomic_file(target) as temporary:
        temporary.write_text("whole")
        assert not target.exists()
    with pytest.raises(ZeroDivisionError), atomic_file(target) as temporary:
        temporary.write_text("half")
        raise ZeroDivisionError
    assert target.read_text() == "whole" and [p.name for p in target.parent.iterdir()] == ["card.json"]


def test_a_folder_appears_whole_or_not_at_all(tmp_path: Path) -> None:
    (tmp_path / "empty").mkdir()
    with new_folder(tmp_path / "empty", "specimen") as folder:
        (folder / "x").touch()
    with pytest.raises(ZeroDivisionError), new_folder(tmp_path / "other", "specimen") as folder:
        (folder / "x").touch()
        raise ZeroDivisionError
    assert sorted(p.name for p in tmp_path.rglob("*")) == ["empty", "x"]
    for wrong in (tmp_path / "empty", tmp_path / "empty" / "x"):
        with pytest.raises(DestinationError), new_folder(wrong, "specimen"):
            pass


def test_a_destination_inside_the_guarded_is_refused_however_it_is_written(tmp_path: Path) -> None:
    guarded = tmp_path / "specimen"
    guarded.mkdir()
    (tmp_path / "way").symlink_to(guarded)
    for inside in (
        guarded,
        guarded / "a" / "b",
        tmp_path / "x" / ".." / "specimen",
        tmp_path / "way",
        tmp_path / "way" / "new",
    ):
        with pytest.raises(DestinationError):
            require_outside(inside, guarded, "the specimen")
    require_outside(tmp_path / "specimen-2", guarded, "the specimen")
