"""Evidence is data: it goes into scan files and comes back, words are made of it in one place, and no word steers."""

from __future__ import annotations

import ast
import json
import re
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import sastrugi.recovery
from sastrugi.errors import ScanFileError
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.evidence import Clue, Evidence
from sastrugi.recovery.findings import PASSES
from sastrugi.recovery.passes import PASSES as PASSES_IN_ORDER
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.scan_rows import evidence_of, evidence_text
from sastrugi.report.evidence import reasons, reasons_of
from tests.conftest import Program

ROOT = Path(__file__).parent.parent
_WORDS = st.text(st.characters(exclude_categories=["Cs"]), max_size=40)
_PIECES = st.builds(
    Evidence, st.sampled_from(Clue), st.lists(_WORDS | st.integers(-(2**62), 2**62), max_size=4).map(tuple),
    st.floats(-40, 40).map(lambda bits: round(bits, 2)),
)  # fmt: skip


@given(pieces=st.lists(_PIECES, max_size=6), long=st.booleans())
def test_evidence_goes_into_the_table_and_comes_back(pieces: list[Evidence], long: bool) -> None:
    pieces = [*pieces, Evidence(Clue.NOTE, ("a note " * 400,))] if long else pieces
    text = evidence_text(pieces)
    first = evidence_of(text)
    assert first == pieces
    first.append(Evidence(Clue.EMPTY))
    assert evidence_of(text) == pieces, "what is done to one finding is done to no other"


@pytest.mark.parametrize(
    "told", ['[["live"]]', '[["none such", 0]]', '[["note", 0, [1]]]', '["note"]', '[["note", "x"]]']
)
def test_what_is_no_evidence_is_refused(told: str) -> None:
    with pytest.raises(ValueError, match=r"(is|are) no"):
        evidence_of(told)


@given(piece=_PIECES)
def test_facts_that_do_not_go_with_a_clue_are_told(piece: Evidence) -> None:
    """A scan file may hold anything: each piece is a sentence, or the file is said to be damaged."""
    try:
        assert all(isinstance(one, str) for one in reasons_of(evidence_text([piece])))
    except ScanFileError as error:
        assert "damaged" in str(error)


def test_every_clue_is_said_somewhere() -> None:
    """Each has words of its own, and a place in the engine where it is given."""
    engine = {path: path.read_text() for path in Path(*sastrugi.recovery.__path__).glob("*.py")}
    given_somewhere = " ".join(text for path, text in engine.items() if path.name != "evidence.py")
    by_proof = engine[next(path for path in engine if path.name == "evidence.py")].partition("BY_PROOF")[2]
    unused = [one.name for one in Clue if f"Clue.{one.name}" not in given_somewhere + by_proof and one != Clue.SAID]
    assert not unused


def _steers(tree: ast.AST) -> list[int]:
    """Lines where a sentence, or a part of one, is compared with or looked for."""
    out = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare):
            sides = [node.left, *node.comparators]
            texts = [side.value for side in sides if isinstance(side, ast.Constant) and isinstance(side.value, str)]
            about = {one.attr for side in sides for one in ast.walk(side) if isinstance(one, ast.Attribute)}
            if any(" " in text.strip() for text in texts) or about & {"facts", "reason", "rule", "name_note", "notes"}:
                out.append(node.lineno)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            asked = node.func.attr in ("startswith", "endswith", "find", "split", "partition")
            told = isinstance(node.func.value, ast.Attribute) and node.func.value.attr in ("facts", "reason", "rule")
            if asked and told:
                out.append(node.lineno)
    return out


def test_no_sentence_steers_the_engine() -> None:
    steered = {
        path.name: lines
        for path in Path(*sastrugi.recovery.__path__).rglob("*.py")
        if (lines := _steers(ast.parse(path.read_text())))
    }
    assert not steered
    assert _steers(ast.parse('x = "in one piece" in finding.told'))
    assert _steers(ast.parse("y = NOTE in one.notes"))


def test_a_scan_file_of_the_version_before_is_read(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """Version 2 kept the sentences themselves."""
    scan = tmp_path / "old.scan"
    scan.write_bytes((demo / "card.scan").read_bytes())
    before = sastrugi("list", scan, "--json").json
    with sqlite3.connect(scan) as db:
        db.execute("ALTER TABLE findings RENAME COLUMN evidence TO reasons")
        for number, told in db.execute("SELECT number, reasons FROM findings").fetchall():
            words = json.dumps(reasons(evidence_of(told)))
            db.execute("UPDATE findings SET reasons = ? WHERE number = ?", (words, number))
        db.execute("PRAGMA user_version = 2")
    after = sastrugi("list", scan, "--json").json
    assert [one | {"evidence": 0} for one in before] == [one | {"evidence": 0} for one in after]
    assert {piece[0] for one in after for piece in one["evidence"]} == {"said"}
    sastrugi("list", scan, "--why")
    sastrugi("extract", scan, "--into", tmp_path / "out", "--state", "deleted")
    with sqlite3.connect(scan) as db:
        db.execute("UPDATE scan SET value = 'started' WHERE key = 'state'")
    assert "earlier version" in sastrugi("list", scan, code=2).err


def test_the_example_of_a_pass_in_the_documents_works(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = (ROOT / "docs" / "engine.md").read_text("utf-8")
    scope: dict[str, Any] = {}
    exec(text.split("```python\n")[1].split("```")[0], scope)
    stamps = scope["Stamps"]()
    monkeypatch.setattr("sastrugi.recovery.scan.passes_in_order", (*PASSES_IN_ORDER, stamps))
    monkeypatch.setattr("sastrugi.recovery.scan.PASSES", (*PASSES, "stamps"))
    (tmp_path / "m.img").write_bytes(
        bytes(4096) + b"FIRNLINE" + (9).to_bytes(4, "little") + b"day three" + bytes(4096 - 21)
    )
    with open_medium(tmp_path / "m.img") as medium:
        scan(medium, tmp_path / "m.scan", Progress(), ("stamps",))
        with ScanFile.open(tmp_path / "m.scan") as found:
            (one,) = found.findings()
            assert one.map.read(medium, 12, 20) == b"day three" and one.confidence > 0.3
    assert reasons(one.evidence)[0] == "a stamp, and the length of its note"


def test_there_is_one_word_for_sure() -> None:
    """Whoever asks whether a finding is believed asks the finding."""
    asking = re.compile(r"confidence (?:>=|<) (?:0\.8|_SURE)")
    files = {path.name: path.read_text() for path in Path(*sastrugi.recovery.__path__).rglob("*.py")}
    assert not [name for name, text in files.items() if asking.search(text)]
