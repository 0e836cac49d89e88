"""Engines that try to get out of the bench, as root and as somebody else, on kernels that give all or less."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

import sastrugi
from sastrugi.campaign.sandbox import powers
from sastrugi.campaign.sandbox.cgroups import Groups
from sastrugi.campaign.sandbox.disk_use import DiskUse
from sastrugi.campaign.sandbox.view import TEMPORARY
from tests.conftest import Program, program_path

SYSTEM_PYTHON = "/usr/bin/python3"
NOBODY = 65534
OWN_COPY = {
    "write to a file", "cut a file", "change permissions", "change times", "set an attribute", "change the owner",
    "rename a file", "make a file beside",
}  # fmt: skip
"""What an engine may do to files in temporary folders: it does it to copies that go with it."""
ATTRIBUTES = {"change permissions", "change times", "set an attribute", "change the owner"}
SERVERS = {"call a server by port", "call a server by socket"}


@dataclass
class Outside:
    """What an engine must not reach: a file, servers, a terminal, processes; and the state they are in."""

    folder: Path
    open_things: list[Any] = field(default_factory=list)

    def targets(self, own: Path) -> dict[str, Any]:
        (self.folder / "file").write_bytes(b"somebody's file")
        by_port, by_path = socket.create_server(("127.0.0.1", 0)), socket.socket(socket.AF_UNIX)
        by_path.bind(str(self.folder / "server"))
        by_path.listen()
        ends = os.openpty()
        self.open_things = [by_port, by_path, *map(os.fdopen, ends)]
        return {
            "file": str(self.folder / "file"), "socket": str(self.folder / "server"), "folder": str(own),
            "port": by_port.getsockname()[1], "terminal": os.ttyname(ends[1]), "processes": [os.getpid()],
            "left": self.mark,
        }  # fmt: skip

    def left(self) -> list[Path]:
        """What an engine left in folders where everybody may leave something."""
        return [path for folder in ("/dev/shm", *TEMPORARY) for path in Path(folder).glob(self.mark)]

    @property
    def mark(self) -> str:
        return f"left-by-{os.getpid()}-{self.folder.parent.name}"

    def state(self) -> tuple[object, ...]:
        about = (self.folder / "file").stat()
        names = sorted(path.name for path in self.folder.iterdir())
        return names, about.st_mode, about.st_uid, about.st_mtime, about.st_nlink, (self.folder / "file").read_bytes(), (
            os.listxattr(self.folder / "file"))  # fmt: skip


@pytest.fixture
def outside(tmp_path: Path) -> Iterator[Outside]:
    folder = tmp_path / "outside"
    folder.mkdir()
    made = Outside(folder)
    yield made
    for thing in made.open_things:
        thing.close()


def got_through(said: str) -> set[str]:
    """Attempts that succeeded; all were made."""
    lines = [line.partition(": ") for line in said.splitlines() if ": " in line]
    assert len(lines) > 25, said
    return {name for name, _, result in lines if result == "done"}


MOUNTED = "mounted"


def elsewhere(kinds: str, folder: Path, words: list[str]) -> list[str]:
    """A command on a kernel that gives no namespaces of some kinds, or with a mount of somebody else's in a folder."""
    if kinds == MOUNTED:
        (folder / "mounted").mkdir()
        script = 'mount -t tmpfs none "$0" || exit 9; exec "$@"'
        return ["unshare", "--user", "--map-root-user", "--mount", "sh", "-c", script, str(folder / "mounted"), *words]
    script = f'for kind in {kinds}; do echo 0 > /proc/sys/user/max_${{kind}}_namespaces || exit 9; done; exec "$@"'
    return ["unshare", "--user", "--map-root-user", "sh", "-c", script, "sh", *words]


@pytest.mark.parametrize(
    ("kinds", "missing", "through"),
    [
        ("", set(), OWN_COPY),
        ("pid", {"pid namespace"}, OWN_COPY),
        ("user mnt pid net ipc uts", {"mount namespace", "read-only view"}, ATTRIBUTES | SERVERS),
        (MOUNTED, set(), OWN_COPY),
    ],
)
def test_an_engine_that_tries_everything(
    sastrugi: Program, demo: Path, tmp_path: Path, outside: Outside, kinds: str, missing: set[str], through: set[str]
) -> None:
    if not str(tmp_path).startswith(TEMPORARY):
        through = through - OWN_COPY
    (tmp_path / "own").mkdir()
    (tmp_path / "targets.json").write_text(json.dumps(outside.targets(tmp_path / "own")))
    (tmp_path / "engines.toml").write_text(
        'engines = 1\n[[engine]]\nname = "mine"\nrun = ["sastrugi-unruly-reader", "{medium}", "{results}", "--escape", '
        f'"{tmp_path / "targets.json"}"]\n'
    )
    before = outside.state()
    words = ["trial", str(demo / "specimen"), "--engine", "mine", "--engines", "engines.toml", "--into", "trial"]
    command = [program_path(), *words, "--json"]
    ran = subprocess.run(
        elsewhere(kinds, tmp_path, command) if kinds else command, cwd=tmp_path, capture_output=True, text=True
    )
    if ran.returncode == 9 or "unshare" in ran.stderr:
        pytest.skip("this system gives no namespaces at all")
    assert ran.stdout, ran.stderr
    record = json.loads(ran.stdout)
    assert record["outcome"] == "done" and record["score"]["intact"]["value"] == 15
    assert missing <= {word for word in EVERYTHING if word not in record["confined"]}
    if not missing and len(record["confined"]) < len(EVERYTHING):
        pytest.skip("this system does not give everything")
    for word in missing:
        assert word in ran.stderr, "what is missing is said"
    said = (tmp_path / "trial" / "output.log").read_text()
    found = got_through(said)
    if missing:  # disks can be read, not written
        found = {name for name in found if not name.startswith("open /dev/")}
    assert found <= through, said
    if "read-only view" in record["confined"]:
        assert outside.state() == before and not outside.left()
    for path in outside.left():
        path.unlink()


EVERYTHING = {
    "mount namespace", "uts namespace", "ipc namespace", "user namespace", "pid namespace", "network namespace",
    "read-only view", "no capabilities", "no new privileges", "landlock", "seccomp",
}  # fmt: skip


@pytest.mark.skipif(os.geteuid() != 0 or not Path(SYSTEM_PYTHON).exists(), reason="only root can be somebody else")
def test_an_engine_of_somebody_who_is_not_root(tmp_path_factory: pytest.TempPathFactory, outside: Outside) -> None:
    """The supervisor alone, with a Python that everybody can start, in a folder that everybody can enter."""
    home = tmp_path_factory.mktemp("open")
    for folder in (home, *(above for above in home.parents if above.owner() == "root" and len(above.parts) > 2)):
        folder.chmod(0o755)
    package = Path(sastrugi.__file__).parent
    shutil.copytree(package, home / "sastrugi", ignore=lambda folder, names: [
        name for name in names if Path(folder, name).is_dir() and name not in ("campaign", "sandbox", "standins")])  # fmt: skip
    for name in ("results", "scratch", "own"):
        (home / name).mkdir()
        os.chown(home / name, NOBODY, NOBODY)
    os.chown(outside.folder, NOBODY, NOBODY)
    (home / "targets.json").write_text(json.dumps(outside.targets(home / "own")))
    os.chown(outside.folder / "file", NOBODY, NOBODY)
    order = {
        "command": [SYSTEM_PYTHON, str(home / "sastrugi/standins/escapes.py"), str(home / "targets.json")],
        "bench": os.getpid(), "environment": {}, "folder": str(home / "scratch"), "log": str(home / "scratch" / "log"),
        "writable": [str(home / "results"), str(home / "scratch")], "devices": [], "needed": [SYSTEM_PYTHON],
        "handed": 0, "seconds": 60, "memory": 0, "disk": 1 << 30, "processes": 100, "cores": 0, "confined": True,
        "network": False,
    }  # fmt: skip
    (home / "order.json").write_text(json.dumps(order))
    before = outside.state()
    program = "import sys; sys.path.append(sys.argv[1]); from sastrugi.campaign.sandbox.supervisor import main; main(sys.argv[2])"
    ran = subprocess.run(
        [SYSTEM_PYTHON, "-I", "-S", "-c", program, home, home / "order.json"],
        user=NOBODY, group=NOBODY, extra_groups=[], capture_output=True, text=True, check=True,
    )  # fmt: skip
    held, report = map(json.loads, ran.stdout.splitlines())
    assert report["status"] == 0
    if held["missing"]:
        pytest.skip(f"this system gives somebody who is not root no {held['missing']}")
    said = (home / "scratch" / "log").read_text()
    assert got_through(said) <= OWN_COPY, said
    assert outside.state() == before and not outside.left()


@pytest.mark.skipif(os.geteuid() != 0, reason="root alone has a right that this is about")
def test_a_folder_that_only_somebody_else_may_enter(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """Root finds what it needs there, and the record does not say that it had no capabilities."""
    home = tmp_path / "home"
    home.mkdir(0o700)
    os.chown(home, NOBODY, NOBODY)
    words = ("--engine", "plain-reader", "--into", home / "trial", "--json")
    ran = sastrugi("trial", demo / "specimen", *words, cwd=tmp_path)
    assert ran.json["outcome"] == "done" and ran.json["score"]["intact"]["value"] == 15
    assert "no capabilities" not in ran.json["confined"] and "no capabilities" in ran.err


def test_calls_have_the_numbers_that_this_system_gives_them() -> None:
    """By the headers of the system, where they are installed."""
    headers = {
        0xC000003E: "/usr/include/x86_64-linux-gnu/asm/unistd_64.h",
        0x40000003: "/usr/include/x86_64-linux-gnu/asm/unistd_32.h",
        0xC00000B7: "/usr/include/asm-generic/unistd.h",
    }
    looked = 0
    for machine, header in headers.items():
        if Path(header).exists():
            lines = [line.split() for line in Path(header).read_text().splitlines() if "define __NR_" in line]
            known = {words[1].removeprefix("__NR_"): words[2] for words in lines if len(words) == 3}
            for name, number in powers.CALLS[machine].items():
                assert known.get(name, str(number)) == str(number), (name, machine)
                looked += name in known
    if not looked:
        pytest.skip("no headers of the kernel here")


def test_the_disk_is_watched_also_where_an_engine_took_its_folder_away(tmp_path: Path) -> None:
    """Before it was first looked at, too: with nothing in its place, with a link that leads nowhere, and all of it."""
    (tmp_path / "link").symlink_to("nowhere")
    for folder in (tmp_path / "gone", tmp_path / "link", tmp_path / "no" / "folder" / "above"):
        assert DiskUse(1 << 20, [str(folder)], 0, None).problem([]) == ""


def test_groups_that_a_kill_left_are_taken_away() -> None:
    """A group whose maker is gone goes with the next one; that of somebody who lives stays."""
    with subprocess.Popen([sys.executable, "-c", "pass"]) as gone:
        gone.wait()
    groups = Groups(0, 100, 0)
    if not groups.held:
        pytest.skip("no control groups can be made here")
    (made,) = groups._made.values()
    left = made.with_name(f"sastrugi-{gone.pid}")
    left.mkdir()
    other = Groups(0, 100, 0)
    assert not left.exists() and made.exists()
    other.close()
    groups.close()
    assert not made.exists()
