"""The engine: what a scan finds, how it goes on after a stop, and files brought back without harm."""

from __future__ import annotations

import csv
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.media import Extent, open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.extract import extract
from sastrugi.recovery.findings import Finding, ScanFile
from sastrugi.recovery.names import MAX_BYTES, safe_name
from sastrugi.recovery.scan import scan
from sastrugi.specimen.truth import Specimen
from sastrugi.volumes.base import Times
from tests.conftest import Program, program_path
from tests.test_kinds import SIGNED, sample


def findings(path: Path, where: str = "") -> list[Finding]:
    with ScanFile.open(path) as file:
        return list(file.findings(where))


def test_findings_say_where_what_and_why(demo: Path) -> None:
    with Specimen(demo / "specimen") as specimen:
        truth = {f.path: f for f in specimen.truth.files}
    found = {f.path: f for f in findings(demo / "card.scan")}
    assert set(found) == set(truth)
    for path, finding in found.items():
        file = truth[path]
        assert finding.state == file.end and finding.size == file.size and finding.kind == file.kind and finding.reasons
        assert finding.times.created == file.created and finding.times.modified is not None
        assert (finding.confidence > 0.8) == (not file.gone), finding.reasons
        if not file.gone:
            assert finding.extents == file.extents
        if finding.state == "deleted":
            camera = "101FIRN" in path or "102FIRN" in path
            assert ("worked out" in finding.reasons[-1]) == camera and (
                finding.name_sure > 0.95 or camera or "Carnets" in path
            )
    taken = next(f for f in found.values() if truth[f.path].gone)
    assert any("now belong to DCIM/103FIRN/" in reason for reason in taken.reasons)


def content_image(path: Path) -> dict[int, bytes]:
    """A medium without any volume: files at sectors, noise and zeros between them. Content by offset."""
    dice = random.Random(3)
    places: dict[int, bytes] = {}
    blocks = [dice.randbytes(1 << 16)]
    at = 1 << 16
    for name in [*SIGNED, *SIGNED, "txt"]:
        content = sample(name, 20_000 + 512 * len(places))
        places[at] = content
        padded = content + bytes(-len(content) % 512) + (dice.randbytes(512 * 5) if len(places) % 2 else bytes(512 * 3))
        blocks.append(padded)
        at += len(padded)
    path.write_bytes(b"".join([*blocks, bytes(1 << 16)]))
    return places


def test_content_finds_files_that_nothing_lists(sastrugi: Program, tmp_path: Path) -> None:
    places = content_image(tmp_path / "raw.img")
    sastrugi("scan", tmp_path / "raw.img", "--out", tmp_path / "raw.scan")
    found = {f.extents[0].offset: f for f in findings(tmp_path / "raw.scan")}
    assert {at: found[at].size for at in places} == {at: len(content) for at, content in places.items()}
    assert set(found) == set(places), "nothing inside another file, and no noise"
    assert all(f.state == "found" and f.confidence >= 0.3 and f.name_sure == 0 for f in found.values())


def test_passes_can_be_chosen(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "fast.scan", "--passes", "tables")
    assert {f.passes for f in findings(tmp_path / "fast.scan")} == {("tables",)}
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "content.scan", "--passes", "content")
    content = findings(tmp_path / "content.scan")
    with Specimen(demo / "specimen") as specimen:
        whole = {f.extents for f in specimen.truth.files if len(f.extents) == 1 and not f.gone and f.kind != "txt"}
    assert {f.passes for f in content} == {("content",)} and whole <= {f.extents for f in content}


class StopAt(Progress):
    """Asks to stop after so many reports."""

    def __init__(self, reports: int) -> None:
        super().__init__()
        self.left = reports

    def at(self, done: int, note: str = "") -> None:
        self.left -= 1
        self.stop_asked = self.left <= 0


def rows(path: Path) -> list[tuple[object, ...]]:
    with sqlite3.connect(path) as db:
        return sorted(
            db.execute("SELECT state, folder, name, kind, size, passes, confidence, reasons, extents FROM findings")
        )


@pytest.mark.parametrize("reports", [1, 2, 5, 9])
def test_a_stopped_scan_goes_on_to_the_same_findings(tmp_path: Path, reports: int) -> None:
    content_image(tmp_path / "raw.img")
    with open_medium(tmp_path / "raw.img") as medium:
        scan(medium, tmp_path / "whole.scan", Progress())
        with pytest.raises(SastrugiError, match="stopped"):
            scan(medium, tmp_path / "part.scan", StopAt(reports))
        assert len(rows(tmp_path / "part.scan")) < len(rows(tmp_path / "whole.scan"))
        scan(medium, tmp_path / "part.scan", Progress(), go_on=True)
    assert rows(tmp_path / "part.scan") == rows(tmp_path / "whole.scan")


def big_image(path: Path) -> None:
    """Many small files over 96 MiB, so that a scan takes long enough to be killed."""
    noise = random.Random(4).randbytes(1 << 16)
    with path.open("wb") as file:
        for n in range(1500):
            content = sample(SIGNED[n % len(SIGNED)], 8000)
            file.write(content + bytes(-len(content) % 512) + noise)


def test_a_killed_scan_and_an_interrupted_one_go_on(sastrugi: Program, tmp_path: Path) -> None:
    big_image(tmp_path / "big.img")
    sastrugi("scan", tmp_path / "big.img", "--out", tmp_path / "whole.scan")
    words = [program_path(), "scan", str(tmp_path / "big.img"), "--out", str(tmp_path / "part.scan")]
    dice = random.Random(9)
    for n in range(40):
        resume = ["--go-on"] if (tmp_path / "part.scan").exists() else []
        process = subprocess.Popen([*words, *resume], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        time.sleep(dice.uniform(0.4, 1.6))
        process.send_signal(signal.SIGKILL if n % 2 else signal.SIGINT)
        said = process.communicate()[1]
        if "what was found so far" in said:
            assert process.returncode == 130 and "go on with: sastrugi scan" in said and "--go-on" in said
        if process.returncode == 0 or "is finished" in said:
            break
        part = tmp_path / "part.scan"
        if part.exists() and (part.stat().st_size == 0 or "no scan file" in said):
            part.unlink()  # killed before there was anything
    sastrugi("scan", tmp_path / "big.img", "--out", tmp_path / "part.scan", "--go-on", code=None)
    assert rows(tmp_path / "part.scan") == rows(tmp_path / "whole.scan")
    ran = sastrugi("scan", tmp_path / "big.img", "--out", tmp_path / "part.scan", "--go-on", code=2)
    assert "finished" in ran.err


@given(st.data())
def test_a_hostile_medium_is_scanned_without_harm(
    demo: Path, tmp_path_factory: pytest.TempPathFactory, draw: st.DataObject
) -> None:
    """Any bytes of a real volume changed, in its structures above all: the scan ends, and says no more than before."""
    folder = tmp_path_factory.mktemp("hostile")
    path = folder / "m.img"
    shutil.copyfile(demo / "specimen" / "medium.img", path)
    with path.open("r+b") as file:
        for _ in range(draw.draw(st.integers(1, 30))):
            base = draw.draw(
                st.sampled_from([0, 1 << 20, (1 << 20) + 32 * 512, (1 << 20) + 2080 * 512, (1 << 20) + 2080 * 512])
            )
            file.seek(base + draw.draw(st.integers(0, 3000)))
            file.write(draw.draw(st.binary(min_size=1, max_size=16)))
    with open_medium(path) as medium:
        result = scan(medium, folder / "m.scan", Progress(), as_is=True)
        found = findings(result.path)
        assert all(0 <= f.confidence <= 1 and f.size >= 0 for f in found)
        extract(medium, found, folder / "out", Progress())
    assert sum(len(f.extents) for f in found) < 100_000


# -- bringing files back --------------------------------------------------------------------------------------------


def finding(number: int, folder: str, name: str, extents: tuple[Extent, ...] = (Extent(0, 600),)) -> Finding:
    return Finding(
        "deleted", folder, name, "other", "data", 600, extents, Times(), ("tables",), 0.5, 1.0, [], number=number
    )


any_text = st.text(st.characters(codec=None), min_size=0, max_size=300)
evil = st.sampled_from(["..", ".", "", "/etc/passwd", "../../x", "CON", "nul.txt", "a\0b", "x" * 300, "\udcff.jpg", "b\\c", "~", "manifest.csv", "é" * 200 + ".jpeg"])  # fmt: skip


@given(st.lists(st.tuples(any_text | evil, any_text | evil), min_size=1, max_size=12))
def test_no_name_leaves_the_destination_or_overwrites(
    tmp_path_factory: pytest.TempPathFactory, names: list[tuple[str, str]]
) -> None:
    root = tmp_path_factory.mktemp("names")
    (root / "m.img").write_bytes(os.urandom(2048))
    (root / "outside").mkdir()
    (root / "out").mkdir()
    for link in ("x" * 250, "_", "CON", "unnamed"):
        (root / "out" / link).symlink_to(root / "outside")
    with open_medium(root / "m.img") as medium:
        items = [finding(n, folder, name, (Extent(n * 50, 600),)) for n, (folder, name) in enumerate(names)]
        done = extract(medium, items, root / "out", Progress())
        content = {n: medium.read(n * 50, 600) for n in range(len(names))}
    assert done.files == len(names) and not any((root / "outside").iterdir())
    with (root / "out" / "manifest.csv").open(encoding="utf-8", newline="") as file:
        listed = {int(row["finding"]): row["file"] for row in csv.DictReader(file)}
    assert len(set(listed.values())) == len(names)
    for number, path in listed.items():
        assert (root / "out" / path).read_bytes() == content[number]
        assert (root / "out" / path).resolve().is_relative_to(root / "out")


@given(any_text | evil)
def test_safe_names_are_safe_and_stay_so(name: str) -> None:
    safe = safe_name(name)
    assert safe and safe not in (".", "..") and len(safe.encode()) <= MAX_BYTES
    assert not set(safe) & set('/\\\0:*?"<>|') and safe_name(safe) == safe


@pytest.mark.parametrize(
    "name", ["FRN00001.JPG", "Ålbreen — dzień żółty 2.gif", ".hidden", "two.dots.tar.gz", "雪原の記録 5.png"]
)
def test_harmless_names_stay_as_they_are(name: str) -> None:
    assert safe_name(name) == name


def test_extract_writes_times_manifest_and_goes_on(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    sastrugi("extract", demo / "card.scan", "--to", out)
    before = {p.relative_to(out): p.read_bytes() for p in out.rglob("*") if p.is_file()}
    lost = findings(demo / "card.scan", "state != 'live'")
    for item in lost:
        assert item.times.modified is not None
        assert (out / item.path.lstrip("/")).stat().st_mtime == item.times.modified.timestamp()
    manifest = (out / "manifest.csv").read_text("utf-8").splitlines(keepends=True)
    assert len(manifest) == len(lost) + 1
    for line in manifest[5:]:  # as after a kill: four files written and listed, one written in part
        (out / next(csv.reader([line]))[1]).unlink()
    (out / "manifest.csv").write_text("".join(manifest[:5]) + manifest[5][:20], "utf-8")
    ran = sastrugi("extract", demo / "card.scan", "--to", out, "--go-on", "--json")
    assert ran.json["skipped"] == 4
    assert {p.relative_to(out): p.read_bytes() for p in out.rglob("*") if p.is_file()} == before


def test_places_that_must_not_be_written_to(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "x").touch()
    (tmp_path / "link").symlink_to(demo / "specimen")
    image = demo / "specimen" / "medium.img"
    before = sorted(demo.rglob("*"))
    for place, message in (
        (tmp_path / "full", "not empty"), (demo / "specimen" / "out", "inside"), (image, "is the medium"),
        (demo / "specimen", "the folder"), (tmp_path / "link" / "out", "inside"), (image / "out", "inside"),
    ):  # fmt: skip
        assert message in sastrugi("extract", demo / "card.scan", "--to", place, code=2).err
    assert sorted(demo.rglob("*")) == before
    copy = tmp_path / "copy.img"
    shutil.copyfile(image, copy)
    with copy.open("r+b") as file:
        file.write(b"changed")
    ran = sastrugi("extract", demo / "card.scan", "--to", tmp_path / "new", "--medium", copy, code=2)
    assert "changed since" in ran.err and not (tmp_path / "new").exists()
    ran = sastrugi(
        "extract", demo / "card.scan", "--to", tmp_path / "new", "--kind", "xlsx", "--min-confidence", "1", code=2
    )
    assert "nothing is selected; the scan holds" in ran.err
