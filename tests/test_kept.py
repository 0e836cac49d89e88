"""Made files that are kept: the same bytes as if they were made, whatever becomes of what is kept."""

from __future__ import annotations

import os
import subprocess
import sys
from contextlib import suppress
from multiprocessing import active_children
from pathlib import Path

import pytest

from sastrugi.corpus import ahead, kept
from sastrugi.corpus.make import CorpusSpec, made_files, plan_files
from sastrugi.errors import SastrugiError
from tests.conftest import Program


def tree(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def test_files_come_from_what_is_kept_and_are_what_they_were(
    sastrugi: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where somebody damaged it, cut it, or put something else in its place."""
    monkeypatch.setenv(kept.VARIABLE, "")
    words = ("--files", 6, "--kind", "jpeg", "--kind", "pdf", "--size", "20 KiB..90 KiB")
    sastrugi("corpus", "make", tmp_path / "made", *words)
    monkeypatch.setenv(kept.VARIABLE, str(tmp_path / "kept"))
    right = tree(tmp_path / "made")
    sastrugi("corpus", "make", tmp_path / "first", *words)
    there = [path for path in (tmp_path / "kept").rglob("*") if path.is_file()]
    assert tree(tmp_path / "first") == right and len(there) == 6
    assert {path.read_bytes()[32:] for path in there} == set(right.values())
    there[0].write_bytes(there[0].read_bytes()[:-1] + b"x")
    there[1].write_bytes(b"short")
    there[2].unlink()
    there[2].mkdir()
    before = there[3].stat().st_ino
    sastrugi("corpus", "make", tmp_path / "again", *words)
    assert tree(tmp_path / "again") == right
    assert there[3].stat().st_ino == before, "what is right is not written again"


def test_what_is_kept_can_be_seen_and_cleared(
    sastrugi: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """And nothing else goes with it, whatever folder was named."""
    monkeypatch.setenv(kept.VARIABLE, str(tmp_path / "home"))
    others = [tmp_path / "home" / name for name in ("notes.txt", "ab/notes.txt", "Pictures/FRN00001.JPG")]
    for other in others:
        other.parent.mkdir(parents=True, exist_ok=True)
        other.write_bytes(b"x" * 2000)
    sastrugi("corpus", "make", tmp_path / "made", "--files", 3, "--kind", "jpeg")
    there = sum(path.stat().st_size for path in (tmp_path / "home").rglob("*") if path.is_file()) - 6000
    seen = sastrugi("corpus", "cache", "--json").json
    assert seen == {"folder": str(tmp_path / "home"), "files": 3, "bytes": there, "most": 1 << 30, "cleared": False}
    assert "3 made files" in sastrugi("corpus", "cache").err
    assert "3 made files" in sastrugi("corpus", "cache", "--clear").err
    assert {path for path in (tmp_path / "home").rglob("*") if path.is_file()} == set(others)
    assert sastrugi("corpus", "cache", "--json").json["files"] == 0
    monkeypatch.setattr(kept, "_MOST", 1)
    kept._make_room(tmp_path / "home")
    assert all(other.is_file() for other in others)
    monkeypatch.setenv(kept.VARIABLE, "")
    assert "nothing is kept" in sastrugi("corpus", "cache").err


def runs(process: int | None) -> bool:
    with suppress(ProcessLookupError):
        os.kill(process or 0, 0)
        return True
    return False


def test_files_are_the_same_whoever_makes_them(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """One process or several, kept or not; who stops taking them leaves no process behind, and one that is ended is told."""
    monkeypatch.setenv(kept.VARIABLE, str(tmp_path))
    plans = plan_files(CorpusSpec(150, "ahead", kinds=("txt", "jpeg", "zip"), smallest=500, largest=60_000))
    alone = list(made_files(plans, 1))
    monkeypatch.setattr(ahead, "_WORTH", 0.0)
    monkeypatch.setattr(ahead, "_AHEAD", 1 << 19)
    assert list(made_files(plans, 2)) == alone == [plan.content() for plan in plans]
    for path in tmp_path.rglob("*"):
        if path.is_file():
            path.unlink()
    begun = made_files(plans, 2)
    assert next(begun) == alone[0] and active_children()
    begun.close()
    broken = made_files(plans, 2)
    next(broken)
    for child in active_children():
        child.kill()
    with pytest.raises(SastrugiError, match="enough memory"):
        list(broken)
    for child in active_children():
        child.join(10)
    assert not [child for child in active_children() if runs(child.pid)]


def test_a_folder_that_cannot_be_made_keeps_nothing(
    sastrugi: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "file").write_bytes(b"")
    monkeypatch.setenv(kept.VARIABLE, str(tmp_path / "file" / "kept"))
    sastrugi("corpus", "make", tmp_path / "made", "--files", 2, "--kind", "jpeg")
    assert len(tree(tmp_path / "made")) == 2


def test_what_was_asked_for_longest_ago_goes_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(kept.VARIABLE, str(tmp_path))
    monkeypatch.setattr(kept, "_WORTH", -1.0)
    monkeypatch.setattr(kept, "_MOST", 10_000)
    monkeypatch.setattr(kept, "_LEFT", 8_000)
    made = []

    def make(seed: str) -> bytes:
        made.append(seed)
        return seed.encode().ljust(3000)

    def files() -> dict[str, int]:
        return {
            path.read_bytes()[32:].strip().decode(): path.stat().st_ino
            for path in tmp_path.rglob("*")
            if path.is_file()
        }

    for n, seed in enumerate("abc"):
        assert kept.kept_or_made("txt", 3000, seed, lambda seed=seed: make(seed)) == seed.encode().ljust(3000)
        for path in tmp_path.rglob("*"):
            if path.is_file() and path.read_bytes()[32:33] == seed.encode():
                os.utime(path, (n, n))
    assert set(files()) == set("abc")
    kept.kept_or_made("txt", 3000, "a", lambda: make("a"))  # which makes it the latest
    kept.kept_or_made("txt", 3000, "d", lambda: make("d"))
    assert set(files()) == set("ad") and made == [*"abcd"]
    kept.kept_or_made("txt", 3001, "a", lambda: make("other"))
    assert made[-1] == "other", "another size is another file"


HALF_A_RESULT = """
import sys, time
from sastrugi.corpus.ahead import making

def large():
    return bytes(400 << 20)

if __name__ == "__main__":
    try:
        with making(1) as pool:
            pool.submit(large)
            while not any(frame.f_code.co_name == "_recv" for frame in sys._current_frames().values()):
                time.sleep(0.001)
            raise KeyboardInterrupt
    except KeyboardInterrupt:
        print("stopped")
"""


def test_making_stops_while_a_result_is_on_its_way(tmp_path: Path) -> None:
    """A process that is killed has sent half of what it made: nobody waits for the other half."""
    (tmp_path / "half.py").write_text(HALF_A_RESULT)
    ran = subprocess.run([sys.executable, tmp_path / "half.py"], capture_output=True, text=True, timeout=60)
    assert (ran.stdout, ran.returncode) == ("stopped\n", 0), ran.stderr
