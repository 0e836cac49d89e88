"""Trials: programs that behave, and programs that do not, run on a copy, measured, ended, scored."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3

from sastrugi.campaign.by_hand import split_name
from sastrugi.campaign.record_digests import document_digest, results_digest
from tests.conftest import Program, program_path

UNRULY = """
[[engine]]
name = "{name}"
version = "{version}"
run = ["sastrugi-unruly-reader", "{{medium}}", "{{results}}", {options}]
{more}
"""


def engine(options: str = "", more: str = "", name: str = "mine", version: str = "1.0") -> str:
    words = ", ".join(f'"{word}"' for word in options.split())
    return UNRULY.format(name=name, version=version, options=words, more=more)


@pytest.fixture
def attempt(sastrugi: Program, demo: Path, tmp_path: Path) -> Callable[..., dict[str, Any]]:
    """Runs one engine on the demo's specimen and answers its record."""

    def run(options: str = "", more: str = "", code: int = 0, call: tuple[str, ...] = ()) -> dict[str, Any]:
        text = tmp_path / "engines.toml"
        text.write_text("engines = 1\n" + engine(options, more))
        words = ("--engine", "mine", "--engines", text, "--into", tmp_path / "trial", "--replace", "--json", *call)
        ran = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path, code=code)
        found: dict[str, Any] = ran.json
        return found

    return run


def card_of(tmp_path: Path) -> dict[str, Any]:
    found: dict[str, Any] = json.loads((tmp_path / "trial" / "scorecard.json").read_text())
    return found


def test_a_trial_is_measured_scored_and_kept(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    before = (demo / "specimen" / "medium.img").read_bytes()
    ran = sastrugi("trial", demo / "specimen", "--engine", "fast-look", "--json", cwd=tmp_path).json
    folder = tmp_path / "specimen.fast-look.trial"
    assert ran["outcome"] == "done" and ran["status"] == 0 and ran["trial"] == "specimen.fast-look.trial"
    measures = ran["measures"]
    assert measures["seconds"] > 0.1 and measures["cpu"] > 0.1 and measures["memory"] > 10 << 20
    assert measures["read"] > 1 << 20 and measures["written"] > 1 << 20
    assert sorted(path.name for path in folder.iterdir()) == ["output.log", "results", "scorecard.json", "trial.json"]
    assert (demo / "specimen" / "medium.img").read_bytes() == before
    # What the trial says is what a score of its results says.
    scored = sastrugi("score", demo / "specimen", folder / "results", "--json", cwd=tmp_path).json
    assert ran["score"] == {key: value for key, value in scored.items() if key not in ("files", "results")}
    listed = sastrugi("ledger", "list", "--json", cwd=tmp_path).json
    assert [(row["id"], row["intact"], row["specimen"]) for row in listed] == [(ran["id"], 15, "camera-card")]
    shown = sastrugi("ledger", "show", ran["id"][:6], cwd=tmp_path)
    assert "fast-look on camera-card: done" in shown.out
    again = sastrugi("trial", demo / "specimen", "--engine", "fast-look", cwd=tmp_path, code=2)
    assert "--replace" in again.err


@pytest.mark.parametrize(
    ("options", "what", "holds"),
    [
        ("", "all", lambda card: card["intact"]["value"] == 15 and card["classes"]["noise"] == 0),
        ("--cut 1", "content", lambda card: card["intact"]["value"] == 0 and card["named"]["value"] == 16),
        ("--wrong-names 1", "names", lambda card: card["intact"]["value"] == 15 and card["named"]["value"] == 0),
        ("--copies 2", "copies", lambda card: card["classes"]["copy"] >= 30 and card["intact"]["value"] == 15),
        ("--noise 7", "noise", lambda card: card["classes"]["noise"] == 7 and card["intact"]["value"] == 15),
        ("--link-out /etc", "links", lambda card: len(card["results"]) == 17 and card["intact"]["value"] == 15),
    ],
)  # fmt: skip
def test_what_results_hold_moves_the_figure_it_should(
    attempt: Callable[..., dict[str, Any]], tmp_path: Path, options: str, what: str, holds: Callable[[Any], bool]
) -> None:
    ran = attempt(options)
    assert ran["outcome"] == "done" and holds(card_of(tmp_path)), what


def test_a_write_to_the_medium_is_a_failed_trial(attempt: Callable[..., dict[str, Any]], demo: Path) -> None:
    digest = (demo / "specimen" / "medium.img").read_bytes()
    ran = attempt("--write-medium 5000000", code=1)
    assert ran["outcome"] == "changed the medium"
    [[offset, length]] = ran["changed"]
    assert offset <= 5_000_000 < offset + length and length == 512
    assert ran["score"]["intact"]["value"] == 15, "what came back is scored all the same"
    assert len(ran["identity_after"]) == 64 and ran["identity_after"] != ran["specimen"]["identity"]
    assert (demo / "specimen" / "medium.img").read_bytes() == digest, "it was a copy that was written"


def test_crashes_and_exit_statuses(attempt: Callable[..., dict[str, Any]], tmp_path: Path) -> None:
    ran = attempt("--crash")
    assert (ran["outcome"], ran["signal"], ran["status"]) == ("crashed", signal.SIGABRT, None)
    assert 0 < ran["score"]["intact"]["value"] < 15
    assert attempt("--status 3")["outcome"] == "failed"
    assert attempt("--status 3", "exit = { done = [0], partly = [3], nothing = [4] }")["outcome"] == "partly"
    assert attempt("--status 4", "exit = { done = [0], nothing = [4] }")["outcome"] == "nothing"


@pytest.mark.parametrize(
    ("options", "limit", "outcome"),
    [
        ("--hang", 'time-limit = "8 s"', "time limit"),
        ("--eat", 'memory-limit = "150 MiB"', "memory limit"),
        ("--fill", 'disk-limit = "30 MiB"', "disk limit"),
        ("--fill beside-the-medium", 'disk-limit = "30 MiB"', "disk limit"),
        ("--fill nameless", 'disk-limit = "30 MiB"', "disk limit"),
        ("--fill shared-memory", 'disk-limit = "30 MiB"', "failed"),
        ("--fill temporary", 'disk-limit = "30 MiB"', "failed"),
        ("--fill shared-memory", 'memory-limit = "150 MiB"', "memory limit"),
        ("--fill memory-file", 'memory-limit = "150 MiB"', "memory limit"),
        ("--multiply", "process-limit = 40", "process limit"),
    ],
)
def test_limits_are_outcomes(attempt: Callable[..., dict[str, Any]], options: str, limit: str, outcome: str) -> None:
    ran = attempt(options, limit)
    # What is full may end the program before the bench looks, and so may the kernel.
    assert ran["outcome"] == outcome or (options[:6] == "--fill" and ran["outcome"] in ("failed", "disk limit"))
    assert ran["score"]["intact"]["value"] == 15
    assert ran["measures"]["seconds"] < 30
    assert ran["measures"]["memory"] < 300 << 20


def test_how_many_processors_and_whether_there_is_a_network(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """What is asked for is what the engine sees."""
    for more, processors, links in (("", os.cpu_count(), 1), ("cores = 1", 1, 1), ("network = true", None, None)):
        (tmp_path / "engines.toml").write_text(
            'engines = 1\n[[engine]]\nname = "mine"\nrun = ["sh", "-c", "nproc; grep -c : /proc/net/dev", "{medium}"]\n'
            + more
        )
        words = ("--engine", "mine", "--engines", "engines.toml", "--into", "trial", "--replace", "--json")
        confined = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path).json["confined"]
        if "mount namespace" not in confined:
            pytest.skip("this system gives no namespaces")
        said = (tmp_path / "trial" / "output.log").read_text().split()
        here = len(os.sched_getaffinity(0)), Path("/proc/net/dev").read_text().count(":")
        assert said == [str(min(processors or here[0], here[0])), str(links or here[1])], more
        assert ("network namespace" in confined) == ("network" not in more)


def test_a_flood_of_output_is_kept_in_part(attempt: Callable[..., dict[str, Any]], tmp_path: Path) -> None:
    ran = attempt("--flood 40")
    log = (tmp_path / "trial" / "output.log").read_bytes()
    assert ran["said"] > 39 << 20 and len(log) < 1 << 20 and b"bytes left out" in log


def processes_with(words: str) -> list[str]:
    found = []
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            if words.encode() in path.read_bytes():
                found.append(path.parent.name)
        except OSError:
            continue
    return found


def test_processes_left_behind_are_ended(attempt: Callable[..., dict[str, Any]]) -> None:
    ran = attempt("--leave-child")
    assert ran["left_behind"] == 1 and ran["outcome"] == "done"
    assert not processes_with("time.sleep(3600)")


def test_nothing_that_an_engine_leaves_loses_its_trial(
    attempt: Callable[..., dict[str, Any]], demo: Path, tmp_path: Path
) -> None:
    secret = tmp_path / "secret.csv"
    secret.write_text("file,confidence\nDCIM/secret,0.5\n")
    original = demo / "specimen" / "medium.img"
    claims = "--claims file,confidence\\nDCIM/100FIRNL/FRN00001.JPG,nan"
    for options, table, told in (
        ("--medium-becomes pipe --pipe claims.csv", "claims.csv", "claims.csv: is no table"),
        (f"--medium-becomes folder --link-out {secret}", "link", "link: is no table"),
        (f"--medium-becomes {original} {claims}", "claims.csv", "'nan' is no confidence"),
        ("--nest 3000 --pipe manifest.csv", "", ""),
        ("", "", ""),  # what is 3,000 folders deep is replaced
    ):
        changed = "--medium" in options
        ran = attempt(options, f'claims = "{table}"' if table else "", code=int(changed))
        assert ran["outcome"] == ("changed the medium" if changed else "done")
        if changed:
            assert (ran["changed"], ran["identity_after"]) == ([[0, original.stat().st_size]], "")
        assert ran["score"]["intact"]["value"] == 15, options
        assert len(ran["trouble"]) == bool(told) and told in "".join(ran["trouble"])
        assert "secret" not in json.dumps(ran["score"]) + "".join(ran["trouble"])
    assert not [path.name for path in tmp_path.iterdir() if path.name.startswith(".")], "nothing is left of any"


def test_a_table_of_claims_and_logs_are_no_results(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    reader = Path(program_path()).with_name("sastrugi-plain-reader")
    script = tmp_path / "program.sh"
    script.write_text(
        f'#!/bin/sh\n{reader} "$1" "$2" > "$2/run.log"\ncd "$2"\nfind DCIM Loggers -type f > "$3/list"\n'
        'sed "1i file,confidence" "$3/list" | sed "2,\\$s/$/,0.5/" > claims.csv\n'
    )
    script.chmod(0o755)
    (tmp_path / "engines.toml").write_text(
        f'engines = 1\n[[engine]]\nname = "mine"\nrun = ["{script}", "{{medium}}", "{{results}}", "{{scratch}}"]\n'
        'claims = "claims.csv"\nleave-out = ["*.log"]\n'
    )
    words = ("--engine", "mine", "--engines", "engines.toml", "--into", "trial", "--json")
    score = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path).json["score"]
    assert score["left_out"] == 2 and score["classes"]["noise"] == 0, "the log and the table"
    assert score["table_rows"] == score["table_matched"] > 5
    assert score["calibration"]["count"] == score["table_rows"]


def test_kill_at_any_moment_leaves_nothing_behind(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    (tmp_path / "engines.toml").write_text("engines = 1\n" + engine("--hang"))
    words = ["trial", demo / "specimen", "--engine", "mine", "--engines", "engines.toml", "--into", "trial"]
    for number, wanted in ((signal.SIGKILL, -signal.SIGKILL), (signal.SIGINT, 130)):
        with subprocess.Popen([program_path(), *words], cwd=tmp_path, stderr=subprocess.PIPE) as process:
            until = time.monotonic() + 60
            while not (running := processes_with(str(tmp_path))) and time.monotonic() < until:
                time.sleep(0.05)
            assert running
            process.send_signal(number)
            assert process.wait(30) == wanted
        until = time.monotonic() + 20
        while processes_with(str(tmp_path)) and time.monotonic() < until:
            time.sleep(0.05)
        assert not processes_with(str(tmp_path))
        assert not (tmp_path / "trial").exists()
    (tmp_path / "engines.toml").write_text("engines = 1\n" + engine())
    time.sleep(0.2)
    sastrugi(*words, cwd=tmp_path)
    assert not list(tmp_path.glob(".trial*")), "what the killed one left is cleared away"


def test_an_engine_that_takes_its_results_folder_away(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """And lives on without one: the trial ends with a record."""
    script = tmp_path / "program.sh"
    script.write_text('#!/bin/sh\nrmdir "$2" && sleep 1\n')
    script.chmod(0o755)
    run = f'run = ["{script}", "{{medium}}", "{{results}}"]\nconfined = false\n'
    (tmp_path / "engines.toml").write_text(f'engines = 1\n[[engine]]\nname = "mine"\n{run}')
    words = ("--engine", "mine", "--engines", "engines.toml", "--into", "trial", "--json")
    ran = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path, code=None)
    assert ran.json["outcome"] in ("done", "failed"), ran.json


def test_an_engine_that_puts_a_link_in_the_place_of_its_results(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    script = tmp_path / "program.sh"
    script.write_text(f'#!/bin/sh\nrmdir "$2" && ln -s {demo / "results"} "$2"\nkill -9 $PPID\nchmod 000 "$3"\n')
    script.chmod(0o755)
    for confined in ("true", "false"):
        (tmp_path / "engines.toml").write_text(
            f'engines = 1\n[[engine]]\nname = "mine"\nrun = ["{script}", "{{medium}}", "{{results}}", "{{scratch}}"]\n'
            f"confined = {confined}\n"
        )
        words = ("--engine", "mine", "--engines", "engines.toml", "--into", "trial", "--replace", "--json")
        ran = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path, code=None)
        if ran.code == 2:
            assert "was ended from outside" in ran.err, "nothing keeps it from ending the one who watches"
        else:
            assert ran.json["score"]["intact"]["value"] == 0 and not (tmp_path / "trial" / "results").is_symlink()


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('engines = 1\n[[engine]]\nname = "mine"\nrun = ["no-such-program", "{medium}"]', "there is no program"),
        ('engines = 1\n[[engine]]\nname = "mine"\nrun = ["true"]', "names no {medium}"),
        ('engines = 1\n[[engine]]\nname = "mine"\nrun = ["true", "{medum}"]', "'{medum}' is nothing"),
        ('engines = 1\n[[engine]]\nname = "mine"\nrun = ["true", "{medium}"]\ntime-limt = "5 s"', "did you mean 'time-limit'"),
        ('engines = 1\n[[engine]]\nname = "mine"\nrun = ["true", "{medium}"]\ntime-limit = "soon"', "no time"),
        ('engines = 1\n[[engine]]\nname = "mine"', "either a command line"),
        ('engines = 1\n[[engine]]\nname = "mine"\nbuilt-in = true\npasses = ["all"]', "no pass 'all'"),
        ('engines = 2\n[[engine]]\nname = "mine"\nbuilt-in = true', "engines"),
        ('engines = 1\n[[engine]]\nname = "other"\nbuilt-in = true', "no engine 'mine'"),
        ("engines = [[[[", "is no TOML"),
        ("engines = " + "[" * 5000, "engines.toml"),
    ],
)  # fmt: skip
def test_engines_that_cannot_be_used_are_refused_in_one_line(
    sastrugi: Program, demo: Path, tmp_path: Path, text: str, told: str
) -> None:
    (tmp_path / "engines.toml").write_text(text)
    ran = sastrugi("trial", demo / "specimen", "--engine", "mine", "--engines", "engines.toml", cwd=tmp_path, code=2)
    assert told in ran.err and len(ran.err.strip().splitlines()) == 1
    assert [path.name for path in tmp_path.iterdir()] == ["engines.toml"]


def test_a_device_that_cannot_be_written(attempt: Callable[..., dict[str, Any]], tmp_path: Path) -> None:
    if os.geteuid() != 0 or shutil.which("losetup") is None:
        pytest.skip("loop devices are made by root only")
    probe = subprocess.run(["losetup", "--find"], capture_output=True, check=False)
    if probe.returncode:
        pytest.skip("no loop devices here")
    ran = attempt("--write-medium 4096", 'medium = "device"')
    assert ran["outcome"] == "failed" and not ran["changed"], "the device took no write"
    assert ran["score"]["intact"]["value"] == 15
    loops = subprocess.run(["losetup", "--list"], capture_output=True, text=True, check=True).stdout
    assert "medium.img" not in loops, "the device is gone with the trial"


# -- by hand -----------------------------------------------------------------------------------


def handed_out(sastrugi: Program, demo: Path, tmp_path: Path) -> tuple[Path, Path]:
    """A by-hand trial that waits, and the folder of results that somebody made of the copy."""
    ran = sastrugi("trial", demo / "specimen", "--by-hand", "Finder Pro 3.1", "--into", "hand", cwd=tmp_path)
    assert "WHAT-TO-DO.txt" in [path.name for path in (tmp_path / "hand").iterdir()] and "--go-on" in ran.err
    results = tmp_path / "results"
    results.mkdir()
    reader = Path(program_path()).with_name("sastrugi-plain-reader")
    subprocess.run([reader, tmp_path / "hand" / "handed-out.img", results], check=True, capture_output=True)
    return tmp_path / "hand", results


def go_on(sastrugi: Program, demo: Path, tmp_path: Path, results: Path, *more: str, code: int = 0) -> dict[str, Any]:
    words = ("--go-on", "hand", "--results", results, "--json", *more)
    found: dict[str, Any] = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path, code=code).json
    return found


def test_by_hand_from_one_day_to_another(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    hand, results = handed_out(sastrugi, demo, tmp_path)
    report = sastrugi("report", "hand", cwd=tmp_path, code=2)
    assert "no score yet" in report.err
    ran = go_on(sastrugi, demo, tmp_path, results, "--time", "12 min", "--options", "deep", "--notes", "in a hut")
    assert (ran["by_hand"], ran["outcome"], ran["measures"]["seconds"]) == (True, "done", 720)
    assert ran["engine"] == {
        "name": "Finder Pro",
        "version": "3.1",
        "command": [],
        "medium": "image",
        "options": "deep",
    }
    assert ran["score"]["intact"]["value"] == 15 and ran["notes"] == "in a hut"
    listed = sastrugi("ledger", "list", "--json", cwd=tmp_path).json
    assert [row["engine"] for row in listed] == ["Finder Pro"]
    # The copy was written to meanwhile, and comes back so.
    with (hand / "handed-out.img").open("r+b") as image:
        image.seek(70_000)
        image.write(b"?")
    record = (hand / "trial.json").read_bytes()
    again = go_on(sastrugi, demo, tmp_path, results, code=1)
    assert again["outcome"] == "changed the medium" and again["changed"] == [[69_632, 512]]
    # What has ended stays: the correction is a record of its own that names it, and counts in its place.
    assert (hand / "trial.json").read_bytes() == record and again["replaces"] == ran["id"] != again["id"]
    assert again["trial"] == "hand.2.trial" and (tmp_path / "hand.2.trial" / "scorecard.json").is_file()
    listed = sastrugi("ledger", "list", "--json", cwd=tmp_path).json
    assert {(row["id"], row["replaced"]) for row in listed} == {(ran["id"], True), (again["id"], False)}
    assert "done (replaced)" in sastrugi("ledger", "list", cwd=tmp_path).out
    (line,) = sastrugi("ledger", "trend", "--json", cwd=tmp_path).json
    assert line["points"][0]["trials"] == 1
    sastrugi("ledger", "verify", cwd=tmp_path)


def test_a_record_says_what_it_is_about(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    ran = sastrugi("trial", demo / "specimen", "--engine", "plain-reader", "--json", cwd=tmp_path).json
    folder = tmp_path / "specimen.plain-reader.trial"
    digests, host = ran["digests"], ran["host"]
    assert ran["method"] == "Method 1" == ran["score"]["method"] and ran["version"] == 3
    assert digests["truth"] == blake3((demo / "specimen" / "truth.json").read_bytes()).hexdigest()
    whole = json.loads((folder / "scorecard.json").read_text())
    assert digests["scorecard"] == document_digest(whole) and digests["results"] == results_digest(folder / "results")
    reader = Path(program_path()).with_name("sastrugi-plain-reader")
    assert digests["program"] == blake3(reader.read_bytes()).hexdigest()
    assert host["cores"] >= 1 and host["memory"] > 1 << 28 and set(host["versions"]) >= {"sastrugi", "numpy"}
    assert socket.gethostname() not in json.dumps(host), "which machine it was is nobody's business"
    # The digest of results tells names and contents, not times and permissions.
    first = next(path for path in (folder / "results").rglob("*") if path.is_file() and path.stat().st_size)
    os.utime(first, (1, 1))
    assert results_digest(folder / "results") == digests["results"]
    first.rename(first.with_name("x"))
    assert results_digest(folder / "results") != digests["results"]


@pytest.mark.parametrize("mend", ["again", "add"])
def test_a_trial_that_the_ledger_missed(sastrugi: Program, demo: Path, tmp_path: Path, mend: str) -> None:
    """A kill or a full disk came between the trial and the ledger: the same call, or `ledger add`, puts it in."""
    (tmp_path / "trials.ledger").write_text("not a ledger")
    words = ("trial", demo / "specimen", "--engine", "fast-look")
    failed = sastrugi(*words, cwd=tmp_path, code=2)
    assert "sastrugi ledger add specimen.fast-look.trial" in failed.err
    (tmp_path / "trials.ledger").unlink()
    if mend == "again":
        assert "was not in the ledger: added" in sastrugi(*words, cwd=tmp_path).err
    else:
        assert "added" in sastrugi("ledger", "add", "specimen.fast-look.trial", cwd=tmp_path).err
    assert "already" in sastrugi("ledger", "add", "specimen.fast-look.trial", cwd=tmp_path).err
    record = json.loads((tmp_path / "specimen.fast-look.trial" / "trial.json").read_text())
    assert [row["id"] for row in sastrugi("ledger", "list", "--json", cwd=tmp_path).json] == [record["id"]]
    assert "--replace" in sastrugi(*words, cwd=tmp_path, code=2).err


def test_names_that_a_copy_from_elsewhere_lost(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    _, results = handed_out(sastrugi, demo, tmp_path)
    whole = go_on(sastrugi, demo, tmp_path, results)["score"]
    other = tmp_path / "usb" / "Recovered" / "Part 1"
    for path in [path for path in results.rglob("*") if path.is_file()]:
        target = other / str(path.relative_to(results)).upper().replace("/", "\\")
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(path, target)
    copied = go_on(sastrugi, demo, tmp_path, tmp_path / "usb")["score"]
    told = " ".join(copied["assumed"])
    assert "lost their case" in told and "backslashes" in told and "Recovered/Part 1" in told and "times" in told
    assert copied["named"] == whole["named"] and copied["intact"] == whole["intact"]
    # A score of the same folder assumes nothing of names unless it is told where they come from.
    plain = sastrugi("score", demo / "specimen", "usb", "--json", cwd=tmp_path)
    assert plain.json["named"]["value"] < whole["named"]["value"]
    said = sastrugi("score", demo / "specimen", "usb", "--copied", "--replace", cwd=tmp_path)
    assert "assumed: names lost their case" in said.err


def test_the_root_of_results(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    shutil.copytree(demo / "results", tmp_path / "results" / "Deep" / "DCIM")
    ran = sastrugi("score", demo / "specimen", "results", "--results-root", "Deep/DCIM", "--json", cwd=tmp_path)
    assert ran.json["named"]["value"] == 16 and "paths count from Deep/DCIM/" in " ".join(ran.json["assumed"])


def test_by_hand_refuses_what_does_not_belong(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    _, results = handed_out(sastrugi, demo, tmp_path)
    other = tmp_path / "other"
    sastrugi("build", "one-notebook", "--into", other)
    wrong = sastrugi("trial", other, "--go-on", "hand", "--results", results, cwd=tmp_path, code=2)
    assert "is not the specimen that was handed out" in wrong.err
    missing = sastrugi("trial", demo / "specimen", "--go-on", "hand", cwd=tmp_path, code=2)
    assert "--results" in missing.err
    device = sastrugi("trial", demo / "specimen", "--by-hand", "X 1", "--device", "/dev/null", cwd=tmp_path, code=2)
    assert "--write-device" in device.err
    both = sastrugi("trial", demo / "specimen", "--by-hand", "X 1", "--engine", "fast-look", cwd=tmp_path, code=2)
    assert "one of them" in both.err


def test_a_stopwatch_between_two_keystrokes(demo: Path, tmp_path: Path) -> None:
    words = [program_path(), "trial", demo / "specimen", "--by-hand", "X 1", "--into", "hand", "--stopwatch"]
    ran = subprocess.run(words, input="\n\n", text=True, capture_output=True, cwd=tmp_path, check=True, timeout=60)
    assert "it took" in ran.stderr
    assert float((tmp_path / "hand" / "stopwatch.txt").read_text()) < 10


@pytest.mark.parametrize(
    ("spoken", "name", "version"),
    [("Finder 3", "Finder", "3"), ("My Finder v2.1b", "My Finder", "v2.1b"), ("Finder", "Finder", ""), ("7", "7", "")],
)
def test_names_and_versions(spoken: str, name: str, version: str) -> None:
    assert split_name(spoken) == (name, version)
