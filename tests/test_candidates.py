"""How results are told: by witnesses, by first blocks, by the best assignment; each beside a slow way that is plainly right."""

from __future__ import annotations

import itertools
import random
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.progress import Progress
from sastrugi.scoring.block_index import HEAD_BLOCKS, NO_SHIFT, Heads, Witnesses, _Index
from sastrugi.scoring.candidates import CandidateSet, find_candidates
from sastrugi.scoring.claims import Claims
from sastrugi.scoring.contents import Contents
from sastrugi.scoring.matching import Candidate, assign
from sastrugi.scoring.names import NameVerdict
from sastrugi.scoring.results import Result, read_folder
from sastrugi.specimen.blocks import BLOCK, block_hashes
from sastrugi.specimen.truth import Specimen, TruthFile
from tests.conftest import Program

# -- the index of values ----------------------------------------------------------------------------------------------


@given(
    values=st.lists(st.tuples(st.integers(0, 12), st.integers(0, 5)), max_size=60),
    wanted=st.lists(st.integers(0, 14), max_size=20),
    most=st.integers(1, 4),
    near=st.booleans(),
)
def test_an_index_finds_what_a_dictionary_finds(
    values: list[tuple[int, int]], wanted: list[int], most: int, near: bool
) -> None:
    """Values of few owners, wherever they stand; those of more than `most` are not found."""
    # Values that share their high bits are told apart, too; and real hashes are spread over all of 64.
    word = (lambda value: value + (1 << 63)) if near else (lambda value: value * 0x9E3779B97F4A7C15 % (1 << 64))
    values.sort(key=lambda item: item[1])
    index = _Index(
        np.array([word(value) for value, _ in values], np.uint64),
        np.array([owner for _, owner in values], np.int64),
        most,
    )
    found = sorted(
        zip(*(column.tolist() for column in index.find(np.array([*map(word, wanted)], np.uint64))), strict=True)
    )
    expected = []
    for n, value in enumerate(wanted):
        first: dict[int, int] = {}
        counts: Counter[int] = Counter()
        for place, (other, owner) in enumerate(values):
            if other == value:
                first.setdefault(owner, place)
                counts[owner] += 1
        if len(first) <= most or near:
            expected += [(n, place, counts[owner] > 1) for owner, place in first.items()]
    if near:  # what shares its high bits may be crowded out, but nothing is found that is not there
        assert {hit[:2] for hit in found} <= {hit[:2] for hit in expected}
    else:
        assert found == sorted(expected)


# -- witnesses of real references -------------------------------------------------------------------------------------

RECIPE = """recipe = 1
name = "told"
title = "Files that are told by their blocks"
seed = 11
medium.size = "8 MiB"
steps = [
    {do = "format", file_system = "fat16", cluster = "512 B"},
    {do = "store", into = "/Camp", corpus = {files = 24, kinds = ["jpeg", "png", "wav"], size = "600 B..60 KiB"}},
    {do = "copy", what = ["/Camp/*1*.*"], into = "/Copies"},
    {do = "delete", what = ["/Camp/*.*"]},
]
"""


@dataclass(frozen=True)
class References:
    """A specimen, the files that are references, and their bytes."""

    specimen: Specimen
    files: list[TruthFile]
    data: list[bytes]


@pytest.fixture(scope="module")
def references(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> References:
    here = tmp_path_factory.mktemp("told")
    (here / "told.toml").write_text(RECIPE)
    sastrugi("build", "told.toml", "--into", "specimen", cwd=here)
    specimen = Specimen(here / "specimen")
    files = list(specimen.truth.files)
    return References(specimen, files, [specimen.original(file) for file in files])


def naive_witnesses(data: list[bytes], contents: list[int], result: bytes) -> Counter[tuple[int, int]]:
    """Block by block: 1/k for each of the k contents that hold it, by the shift at which they do."""
    blocks = {n: [data[n][at : at + BLOCK] for at in range(0, len(data[n]) // BLOCK * BLOCK, BLOCK)] for n in contents}
    found: Counter[tuple[int, int]] = Counter()
    for at in range(0, len(result) // BLOCK * BLOCK, BLOCK):
        block = result[at : at + BLOCK]
        if block == block[:8] * (BLOCK // 8):
            continue
        holders = [n for n in contents if block in blocks[n]]
        if len(holders) > 8:
            continue
        for n in holders:
            often = blocks[n].count(block) > 1
            found[n, NO_SHIFT if often else at - blocks[n].index(block) * BLOCK] += 1 / len(holders)
    return found


@given(seed=st.integers(0, 1 << 32))
def test_witnesses_stand_where_a_look_finds_them(references: References, seed: int) -> None:
    dice = random.Random(seed)
    contents = Contents(references.specimen, references.files)
    witnesses = Witnesses.of(contents, Progress())
    result = b""
    for _ in range(dice.randint(1, 5)):
        piece = dice.choice(references.data)
        at = dice.randrange(0, len(piece), BLOCK)
        result += dice.choice([piece[at : at + dice.randint(1, 9) * BLOCK], dice.randbytes(BLOCK), bytes(BLOCK)])
        result += bytes(-len(result) % BLOCK)
    expected = naive_witnesses(references.data, list(contents), result)
    found = witnesses.standing_in(result, 0)
    assert found.keys() == expected.keys()
    assert all(abs(found[key] - expected[key]) < 1e-6 for key in expected)


@given(seed=st.integers(0, 1 << 32))
def test_first_blocks_tell_their_content(references: References, seed: int) -> None:
    dice = random.Random(seed)
    contents = Contents(references.specimen, references.files)
    heads = Heads.of(contents, Progress())
    chosen = [n for n in contents if len(references.data[n]) >= BLOCK]
    first = {
        n: [references.data[n][at : at + BLOCK] for at in range(0, len(references.data[n]) - BLOCK + 1, BLOCK)][
            :HEAD_BLOCKS
        ]
        for n in chosen
    }
    n = dice.choice(chosen)
    asked = [*first[n], dice.randbytes(BLOCK), bytes(BLOCK), b"\xff" * BLOCK]
    told = heads.owners(block_hashes(b"".join(asked))).tolist()
    for block, owner in zip(asked, told, strict=True):
        holders = {m for m in chosen if block in first[m]}
        if block == block[:8] * (BLOCK // 8):
            assert owner == Heads.CONSTANT
        elif len(holders) == 1:
            assert owner in holders
        else:
            assert owner == (Heads.SEVERAL if holders else Heads.NOBODY)


# -- candidates -------------------------------------------------------------------------------------------------------


def candidates_of(references: References, folder: Path, results: dict[str, bytes]) -> tuple[CandidateSet, list[Result]]:
    for name, data in results.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    listed = read_folder(folder, Claims({})).results
    return find_candidates(references.specimen, references.files, listed, Progress()), listed


def harmed(data: bytes, how: str, dice: random.Random) -> bytes:
    """A result as engines give it: cut off, with foreign blocks, too long, or with its start missing."""
    if how == "cut":
        return data[: max(len(data) * 2 // 3, 1)]
    if how == "foreign":
        at = dice.randrange(0, max(len(data) - BLOCK, 1))
        return data[:at] + dice.randbytes(min(BLOCK, len(data) - at)) + data[at + BLOCK :]
    if how == "longer":
        return data + dice.randbytes(700)
    if how == "late":
        return dice.randbytes(3 * BLOCK) + data
    return data


@pytest.mark.parametrize("how", ["exact", "cut", "foreign", "longer", "late"])
def test_a_result_is_told_whatever_an_engine_did_to_it(references: References, tmp_path: Path, how: str) -> None:
    """The content that a result came from is among those compared, and its right bytes are counted as a look does."""
    dice = random.Random(how)
    large = [n for n, data in enumerate(references.data) if len(data) >= 8 * BLOCK]
    results = {f"{n:04}.bin": harmed(references.data[n], how, dice) for n in large}
    found, listed = candidates_of(references, tmp_path, results)
    assert len(listed) == len(large) >= 10 and not found.unreadable
    by_result = {(c.result, c.reference): c for c in found.candidates}
    for result in listed:
        n = int(Path(result.path).stem)
        data, mine = references.data[n], results[f"{n:04}.bin"]
        assert n in found.holds[result.number], result.path
        if how == "late":
            shifted = next(s for s in found.shifted if (s.result, s.reference) == (result.number, n))
            assert shifted.shift == 3 * BLOCK and shifted.right == len(data)
            continue
        candidate = by_result[result.number, n]
        assert candidate.exact == (mine == data) and (n in found.exact.get(result.number, [])) == (how == "exact")
        right = sum(
            same if (same := sum(a == b for a, b in zip(data[at : at + BLOCK], mine[at : at + BLOCK], strict=False))) * 2
            >= min(BLOCK, len(data) - at, len(mine) - at) else 0
            for at in range(0, len(data), BLOCK)
        )  # fmt: skip
        assert candidate.in_place == right
        wrong = next((at for at, (a, b) in enumerate(itertools.zip_longest(data, mine)) if a != b), None)
        assert candidate.first_wrong == wrong or (how == "longer" and candidate.first_wrong is None)


@settings(max_examples=8)
@given(seed=st.integers(0, 1 << 32))
def test_noise_is_told_to_be_nothing(
    references: References, tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    dice = random.Random(seed)
    noise = {f"{n}.bin": dice.randbytes(dice.choice([1, 511, 512, 5000, 70_000])) for n in range(4)}
    found, listed = candidates_of(references, tmp_path_factory.mktemp("noise"), noise)
    assert len(listed) == 4 and not any(found.holds.values()) and not found.exact and not found.shifted


# -- the assignment ---------------------------------------------------------------------------------------------------


@given(
    cells=st.dictionaries(
        st.tuples(st.integers(0, 4), st.integers(0, 4)),
        st.tuples(st.integers(1, 50), st.sampled_from(NameVerdict)),
        max_size=12,
    )
)
def test_no_other_assignment_is_better(cells: dict[tuple[int, int], tuple[int, NameVerdict]]) -> None:
    candidates = [Candidate(result, ref, right, name) for (result, ref), (right, name) in cells.items()]
    chosen = assign(candidates)
    assert all(candidate in candidates and candidate.reference == ref for ref, candidate in chosen.items())
    assert len({candidate.result for candidate in chosen.values()}) == len(chosen)
    weights = {(c.result, c.reference): c.weight for c in candidates}
    best = max(
        sum(weights.get((result, ref), 0.0) for ref, result in enumerate(order))
        for order in itertools.permutations(range(5))
    )
    assert abs(sum(candidate.weight for candidate in chosen.values()) - best) < 1e-9
