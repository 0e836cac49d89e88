"""What people look at: maps, shares, paths, damage, and files written whole or not at all."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from sastrugi.errors import DestinationError
from sastrugi.media import Extent
from sastrugi.report.medium_map import _coverage, map_of_truth
from sastrugi.report.style import percent, shorten_path
from sastrugi.safety import atomic_file, new_folder, require_outside
from sastrugi.scoring.scorecard import run_length
from sastrugi.specimen.truth import Specimen
from sastrugi.units import plural, printable


@given(
    st.lists(st.builds(Extent, st.integers(0, 900), st.integers(1, 300)), max_size=6),
    st.integers(1, 64),
    st.integers(1, 20),
)
def test_coverage_counts_the_bytes_of_each_cell(extents: list[Extent], cell: int, count: int) -> None:
    wanted = np.zeros(count, int)
    for extent in extents:
        for position in range(extent.offset, extent.end):
            if position // cell < count:
                wanted[position // cell] += 1
    clipped = [e for e in extents if e.end <= cell * count]
    if len(clipped) == len(extents):
        assert _coverage(extents, cell, count).tolist() == wanted.tolist()


def test_the_map_tells_what_lies_where(demo: Path) -> None:
    with Specimen(demo / "specimen") as specimen:
        truth = specimen.truth
    heading, *rows, legend = [text.plain for text in map_of_truth(truth)]
    letters = "".join(rows)
    cell = int(heading.split("each letter is ")[1].split(" KiB")[0]) * 1024
    for file in truth.files:
        for extent in file.extents:
            middle = letters[(extent.offset + extent.length // 2) // cell]
            if extent.length > 8 * cell and not file.gone and "103FIRN" not in file.path:
                assert middle == ("W" if file.lost else "L"), file.path
    assert letters[0] == "·" and letters[(1 << 20) // cell + 2] == "T" and {"X", "P"} <= set(letters)
    assert all(word in legend for word in ("tables", "live", "still whole", "part gone", "written over", "free"))


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
    import re

    code = run_length(letters)
    assert "".join(letter * int(count) for count, letter in re.findall(r"(\d+)([RWA])", code)) == letters
    assert not re.search(r"([RWA])\d+\1", code)


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
