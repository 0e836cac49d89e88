"""Photographs are decoded where markers prove little; files by turns of any length come apart by their clusters."""

from __future__ import annotations

import random
import struct
from functools import cache
from pathlib import Path

import numpy as np
import pytest

from sastrugi.kinds import Proof, recognise
from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.jpeg import inside
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import Group, _by_clusters
from sastrugi.recovery.scan import scan
from sastrugi.scenario.dice import Dice
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe
from sastrugi.specimen.truth import Specimen
from tests.test_kinds import sample
from tests.test_pieces import finding_of
from tests.test_variants import encoded

CLUSTER = 2048
HARMS = ("another photograph's", "noise", "exchanged", "left out")


@cache
def photograph(number: int, progressive: bool = False) -> bytes:
    made = Dice(f"photograph {number}").picture(520 + 10 * number, 400)
    return encoded(made, "JPEG", quality=85, progressive=progressive)


def harmed(data: bytes, how: str, dice: random.Random) -> tuple[bytes, int]:
    """A photograph of which clusters are not its own, as long as before, and the first byte of these."""
    at = dice.randrange(4, len(data) // CLUSTER - 6) * CLUSTER
    other = photograph(dice.randrange(6, 9))
    foreign = {
        "another photograph's": other[8 * CLUSTER : 11 * CLUSTER],
        "noise": dice.randbytes(3 * CLUSTER),
        "exchanged": data[at + 2 * CLUSTER : at + 3 * CLUSTER] + data[at : at + 2 * CLUSTER],
        "left out": data[at + CLUSTER : at + 3 * CLUSTER] + other[4 * CLUSTER : 5 * CLUSTER],
    }[how]
    return data[:at] + foreign + data[at + len(foreign) :], at


@pytest.mark.parametrize(
    ("progressive", "how", "noticed"),
    [(True, how, 6) for how in HARMS]
    + [(False, "noise", 6), (False, "another photograph's", 2), (False, "left out", 3)],
)
def test_a_photograph_with_clusters_of_others_does_not_decode(progressive: bool, how: str, noticed: int) -> None:
    """Markers and statistics take most of these for whole. Codes of another photograph may be right for a while; in a
    sequential one, with the usual codes, even to the end."""
    seen = 0
    for number in range(6):
        whole = photograph(number, progressive)
        sound = recognise(BytesSource(whole), deep=True)
        assert sound is not None and sound.whole and sound.proof == Proof.DECODES
        wrong, at = harmed(whole, how, random.Random(number))
        found = recognise(BytesSource(wrong), deep=True)
        assert found is not None
        seen += not found.whole
        assert found.whole or found.breaks_at is None or found.breaks_at > at - 2 * CLUSTER, "never before it is wrong"
    assert seen >= noticed


def test_what_a_decoder_would_stumble_over_is_left_out() -> None:
    """Segments that tell of the picture are none of its data, and may be damaged."""
    data = photograph(1)
    odd = b"\xff\xe1" + struct.pack(">H", 40) + b"Exif\0\0II*\0\xff\xff\xff\x7f" + bytes(24)
    found = recognise(BytesSource(data[:2] + odd + data[2:]), deep=True)
    assert found is not None and found.whole and found.proof == Proof.DECODES


def test_a_picture_too_large_to_decode_is_judged_by_its_markers() -> None:
    data = bytearray(photograph(1))
    frame = data.index(b"\xff\xc0")
    data[frame + 5 : frame + 9] = b"\xff\xff\xff\xff"
    found = recognise(BytesSource(bytes(data)), deep=True)
    assert found is not None and found.whole and found.proof == Proof.STATISTICS


def test_clusters_of_photographs_are_told_from_others() -> None:
    def rows(data: bytes) -> np.ndarray:  # type: ignore[type-arg]
        return np.frombuffer(data, np.uint8, len(data) // CLUSTER * CLUSTER).reshape(-1, CLUSTER)

    for progressive in (False, True):
        assert inside(rows(photograph(2, progressive)))[1:].all()
    for foreign in (
        sample("wav", 200_000),
        sample("mp4", 200_000),
        sample("csv"),
        bytes(8192),
        Dice("n").noise(200_000),
    ):
        assert inside(rows(foreign)).mean() < 0.01


def took_turns(files: list[bytes], dice: random.Random, longest: int) -> tuple[list[int], np.ndarray]:  # type: ignore[type-arg]
    """Whose each cluster is, of files that are written in turns of up to so many clusters each, and the clusters."""
    left = [-(-len(data) // CLUSTER) for data in files]
    order, whose = [], 0
    while any(left):
        count = min(left[whose], dice.randint(1, longest))
        order += [whose] * count
        left[whose] -= count
        whose = (whose + 1) % len(files)
    at, rows = [0] * len(files), np.zeros((len(order), CLUSTER), np.uint8)
    for n, one in enumerate(order):
        part = files[one][at[one] * CLUSTER : (at[one] + 1) * CLUSTER]
        rows[n, : len(part)] = np.frombuffer(part, np.uint8)
        at[one] += 1
    return order, rows


def group_of(kinds: tuple[str, ...], files: list[bytes], order: list[int]) -> Group:
    findings = tuple(
        finding_of(f"{n}", kind, len(data), order.index(n) * CLUSTER)
        for n, (kind, data) in enumerate(zip(kinds, files, strict=True))
    )
    return Group(findings, tuple(range(0, len(order) * CLUSTER, CLUSTER)), CLUSTER, True)


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("kinds", [("jpeg", "wav"), ("mp4", "jpeg"), ("csv", "jpeg"), ("jpeg", "csv", "zip")])
def test_files_are_told_apart_by_their_clusters(kinds: tuple[str, ...], seed: int) -> None:
    """However long their turns are; also where the first clusters of a photograph hold nothing but headers."""
    shot = photograph(seed)
    headed = shot[:2] + b"\xff\xe1" + struct.pack(">H", 3000) + bytes(2998) + shot[2:]
    files = [headed if kind == "jpeg" else sample(kind, 90_000) for kind in kinds]
    order, rows = took_turns(files, random.Random(seed), 9)
    ways = [way.labels.tolist() for way in _by_clusters(group_of(kinds, files, order), rows)]
    first = order.index(kinds.index("jpeg"))
    if order[first : first + 3] != [kinds.index("jpeg")] * 3:
        return  # the headers themselves lie in pieces
    assert ways == [order]


@pytest.mark.parametrize("kinds", [("jpeg", "jpeg"), ("wav", "mp4"), ("csv", "txt"), ("jpeg", "wav", "zip")])
def test_clusters_of_one_sort_tell_nothing(kinds: tuple[str, ...]) -> None:
    files = [photograph(n) if kind == "jpeg" else sample(kind, 60_000) for n, kind in enumerate(kinds)]
    order, rows = took_turns(files, random.Random(1), 5)
    assert not list(_by_clusters(group_of(kinds, files, order), rows))


@pytest.mark.parametrize(
    ("kinds", "file_system"), [("jpeg", "fat16"), ("csv", "exfat"), ("wav", "exfat"), ("iso mov zip bmp", "fat16")]
)
def test_a_card_of_few_kinds_by_turns_comes_back(tmp_path: Path, kinds: str, file_system: str) -> None:
    """Of many pairs the ways that prove nothing, or all of them, must not use up what may be measured; a folder of
    texts tells where its volume began as one of pictures does; and a way in which all are whole is theirs where in each
    other one it shows that some are not, or where those nearby took turns in it."""
    store = {"do": "store", "into": "/DCIM", "corpus": {"files": 40, "kinds": kinds.split(), "size": "40 KiB..160 KiB"}}
    form = {"do": "format", "file_system": file_system, "cluster": "2 KiB"}
    steps = [form, store | {"pieces": 3, "gaps": "interleaved"}, form]
    document = {"recipe": 1, "name": "turns", "title": "t", "seed": 5, "medium": {"size": "16 MiB"}, "steps": steps}
    build(Recipe.model_validate(document), tmp_path / "s", Progress())
    with Specimen(tmp_path / "s") as specimen:
        scan(specimen.medium, tmp_path / "scan", Progress())
        card = judge(specimen, tmp_path / "scan", Progress()).scorecard()
    assert card.intact.value >= 37, card.intact
