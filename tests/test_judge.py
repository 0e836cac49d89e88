"""What the engine makes of deleted files in every state: how sure it is, why, and what it leaves to be looked for."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.content import ContentPass
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import Survey, SurveyOptions
from sastrugi.recovery.tables import table_findings
from sastrugi.report.evidence import reasons
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.read import open_fat
from sastrugi.volumes.fat.write import FatWriter
from sastrugi.volumes.writer import Node
from tests.test_kinds import sample

NOON = dt.datetime(2031, 2, 3, 12)
NOISE = random.Random(8).randbytes(60_000)


class Card:
    """A small FAT32 card whose clock goes on with every step."""

    def __init__(self, path: Path) -> None:
        self.image = RawImage(path, 36 << 20)
        self.writer = FatWriter(self.image, plan(0, self.image.size, 32, 512), "CARD", 7, NOON)
        self.now = NOON
        self.writer.make_folder("other", NOON)

    def store(self, name: str, content: bytes, first_gap: bool = False) -> None:
        self.now += dt.timedelta(minutes=1)
        lie = self.writer.reserve(self.writer.space_for(len(content)), "first") if first_gap else None
        self.writer.store(name, len(content), [content], self.now, lie=lie)

    def delete(self, *names: str) -> None:
        for name in names:
            self.writer.delete(self.node(name), self.now)

    def node(self, name: str) -> Node:
        found = self.writer.find(name)
        assert found is not None
        return found

    def overwrite(self, name: str, position: int, content: bytes) -> None:
        """Change bytes of a file behind the volume's back."""
        self.image.write(self.writer.extents(self.node(name))[0].offset + position, content)

    def findings(self) -> dict[str, Finding]:
        self.writer.flush()
        self.image.sync()
        with open_medium(self.image.path) as medium:
            volume = open_fat(medium, Extent(0, medium.size))
            assert volume is not None
            return {finding.name: finding for finding in table_findings(medium, 1, volume)}


@dataclass(frozen=True)
class Case:
    """A file `name` with `content`, what happens to it before and after its deletion, and what is made of it."""

    name: str
    content: bytes
    sure: tuple[float, float]
    reason: str
    before: Callable[[Card, str], object] = lambda card, name: None
    after: Callable[[Card, str], object] = lambda card, name: None
    sound: float = 1.0


PNG, JPG, ZIP, WAV, TXT = (sample(name) for name in ("png", "jpeg", "zip", "wav", "log"))

CASES = {
    "whole, checksums": Case("a.png", PNG, (0.98, 1), "checksums of all"),
    "whole, structure": Case("a.wav", WAV, (0.9, 0.97), "meet the length"),
    "whole, decodable": Case("a.jpg", JPG, (0.9, 0.97), "plausible"),
    "text": Case("a.log", TXT, (0.8, 0.9), "text from end to end"),
    "text of an unknown sort": Case("a.html", b"<p>" + TXT[3:], (0.8, 0.9), "text from end to end"),
    "no known kind": Case("a.xyz", NOISE, (0.85, 0.95), "zeros begin right where"),
    "no known kind, and an end that shows nothing": Case("a.xyz", NOISE[:4096], (0.7, 0.8), "no kind is known"),
    "goes on behind its end": Case("a.xyz", NOISE, (0, 0.3), "goes on behind the end", before=lambda c, n: c.overwrite(n, len(NOISE), b"snow"), sound=0),
    "a name of another kind": Case("a.jpg", PNG, (0.9, 1), "checksums of all"),
    "first bytes wrong": Case("a.png", NOISE, (0.1, 0.2), "not those of a png", sound=0),
    "zeros": Case("a.png", bytes(9000), (0, 0.1), "only zeros", sound=0),
    "empty": Case("a.txt", b"", (0.85, 0.95), "an empty file", sound=0),
    "damaged, checksums": Case("a.png", PNG, (0, 0.15), "breaks at byte", before=lambda c, n: c.overwrite(n, 20_000, b"x"), sound=-1),
    "damaged, structure": Case("a.jpg", JPG, (0.2, 0.4), "breaks at byte", before=lambda c, n: c.overwrite(n, 1024, TXT[:4096]), sound=-1),
    "a little behind its end": Case("a.png", PNG + b"tail", (0.9, 0.97), "4 bytes follow"),
    "much behind its end": Case("a.jpg", JPG + NOISE, (0.7, 0.9), "60,000 bytes follow"),
    "another file in its place": Case("a.wav", WAV, (0, 0.2), "a png stands where a wav should",
                                      before=lambda c, n: c.overwrite(n, 0, sample("png", 9000)), sound=0),
    "overwritten by a live file": Case("a.png", PNG, (0, 0.05), "clusters now belong to other/b.bin",
                                       after=lambda c, n: c.store("other/b.bin", NOISE[:5000], first_gap=True), sound=0),
    "overwritten by a deleted file": Case("a.jpg", JPG, (0, 0.05), "deleted as well and written later",
                                          after=lambda c, n: (c.store("other/b.bin", NOISE[:5000], first_gap=True), c.delete("other/b.bin")), sound=0),
    "overlapped, but proved": Case("a.zip", ZIP, (0.98, 1), "checksums",
                                   after=lambda c, n: (c.store("other/b.bin", ZIP[:2048], first_gap=True), c.delete("other/b.bin"))),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_deleted_file_is_judged_by_what_is_there(tmp_path: Path, name: str) -> None:
    case = CASES[name]
    card = Card(tmp_path / "c.img")
    card.store("first.bin", NOISE[:3000])
    card.store(case.name, case.content)
    card.store("last.bin", NOISE[:3000])
    case.before(card, case.name)
    card.delete(case.name)
    case.after(card, case.name)
    found = next(
        f
        for f in card.findings().values()
        if f.size == len(case.content) and f.state == "deleted" and f.name[1:] == case.name[1:]
    )
    low, high = case.sure
    assert low <= found.confidence <= high, found.evidence
    assert any(case.reason in reason for reason in reasons(found.evidence)), found.evidence
    if case.sound >= 0:
        assert found.sound == case.sound * len(case.content)
    else:
        assert 0 < found.sound < len(case.content)


def test_a_renamed_file_is_not_reported_as_lost(tmp_path: Path) -> None:
    """A rename leaves a deleted entry for the same clusters: the file is live under its new name."""
    card = Card(tmp_path / "c.img")
    card.store("OLD.PNG", PNG)
    node = card.writer.find("OLD.PNG")
    assert node is not None
    start, *_ = card.writer.record(node)
    entry = card.image.read(start.offset, 32)
    card.image.write(start.offset + 32, b"NEW     " + entry[8:])
    card.image.write(start.offset, b"\xe5")
    assert {(f.name, f.state) for f in card.findings().values()} == {("NEW.PNG", "live")}


def test_a_file_around_others_is_put_together(tmp_path: Path) -> None:
    """Written into gaps between live files: its pieces are the free clusters, and its checksums prove it."""
    card = Card(tmp_path / "c.img")
    for n in range(8):
        card.store(f"gap{n}.bin", NOISE[: 512 * 11])
    card.delete(*(f"gap{n}.bin" for n in range(0, 8, 2)))
    card.store("pieces.png", sample("png", 18_000), first_gap=True)
    node = card.writer.find("pieces.png")
    assert node is not None and len(node.runs) > 2
    extents = card.writer.extents(node)
    card.delete("pieces.png")
    found = card.findings()["pieces.png"]
    assert found.extents == extents and found.confidence >= 0.9
    assert any("around clusters in use" in reason for reason in reasons(found.evidence))


names = st.sampled_from(["png", "jpeg", "gif", "zip", "wav", "mp4", "flac", "pdf", "7z", "iso", "tar", "ttf", "sqlite"])


@settings(max_examples=20)
@given(st.lists(st.tuples(names, st.integers(1, 40)), min_size=1, max_size=10), st.booleans(), st.integers(0, 2**32))
def test_files_at_any_sector_are_found_and_nothing_else(
    tmp_path_factory: pytest.TempPathFactory, layout: list[tuple[str, int]], zeros: bool, seed: int
) -> None:
    """Going on from any position that was reported gives the rest of the findings, and no more."""
    path = tmp_path_factory.mktemp("sweep") / "m.img"
    dice = random.Random(seed)
    expected: dict[int, int] = {}
    data = b""
    for kind, gap in layout:
        data += bytes(gap * 512) if zeros else dice.randbytes(gap * 512)
        expected[len(data)] = len(sample(kind, 9000))
        data += sample(kind, 9000) + bytes(-len(sample(kind, 9000)) % 512)
    path.write_bytes(data + bytes(4096))
    with open_medium(path) as medium, ScanFile.create(path.with_suffix(".scan"), medium, []) as store:
        survey = Survey(medium, store, SurveyOptions())
        survey.over([Extent(0, medium.size)], Progress(), str, lambda: None)
        steps = list(ContentPass(medium, survey, RangeSet(), []).findings(0, medium.size))
        found = {f.extents[0].offset: f.size for _, f in steps if f is not None}
        assert found == expected
        stop = dice.randrange(len(steps))
        sofar = [f for _, f in steps[: stop + 1] if f is not None]
        claims = RangeSet(Extent(e.offset, -(-e.length // 512) * 512) for f in sofar for e in f.extents)
        rest = ContentPass(medium, survey, claims, []).findings(steps[stop][0], medium.size)
        both = {f.extents[0].offset for f in sofar} | {f.extents[0].offset for _, f in rest if f is not None}
        assert both == set(expected)
