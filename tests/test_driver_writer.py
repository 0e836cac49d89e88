"""The operating system's driver as writer: the same recipes give the same files, ends and ceilings as our writer."""

from __future__ import annotations

import os
import shlex
import subprocess
import threading
import time
from pathlib import Path

import pytest

from sastrugi.errors import SpecimenError
from sastrugi.progress import Progress
from sastrugi.specimen import os_writer as driver
from sastrugi.specimen.audit import audit
from sastrugi.specimen.truth import Specimen, Truth, TruthFile
from tests import judges
from tests.conftest import Program, program_path

_RECIPE = """
recipe = 1
name = "season-{system}"
title = "A season on {system}"
seed = 17
[medium]
size = "{size}"
[[steps]]
do = "format"
file_system = "{system}"
label = "FIRN"
[[steps]]
do = "store"
into = "/DCIM/100FIRN"
corpus = {{ files = 12, kinds = ["jpeg", "pdf", "csv", "png"], size = "2 KiB..90 KiB", names = "mixed" }}
[[steps]]
do = "store"
into = "/Log"
pieces = 3
gaps = "interleaved"
corpus = {{ files = 4, kinds = ["wav"], size = "100 KiB..200 KiB" }}
[[steps]]
do = "grow"
what = ["/DCIM/100FIRN/*"]
share = 0.3
by = "20 KiB"
[[steps]]
do = "edit"
what = ["/DCIM/100FIRN/*"]
share = 0.2
how = "replace"
[[steps]]
do = "rename"
what = ["/Log/*"]
share = 0.5
into = "/Old"
[[steps]]
do = "delete"
what = ["/DCIM/100FIRN/*"]
share = 0.6
[[steps]]
do = "delete"
what = ["/Log"]
[[steps]]
do = "churn"
write = "200 KiB"
size = "10 KiB..60 KiB"
"""


_WOVEN = """
recipe = 1
name = "woven"
title = "Four loggers at once"
seed = 23
medium.size = "72 MiB"
[[steps]]
do = "format"
file_system = "{system}"
[[steps]]
do = "store"
into = "/Used"
corpus = {{ files = 40, size = "4 KiB..300 KiB" }}
[[steps]]
do = "delete"
what = ["/Used/*"]
share = 0.5
[[steps]]
do = "store"
into = "/Day"
writers = 4
chunk = "4 KiB..512 KiB"
corpus = {{ files = 60, size = "4 KiB..700 KiB" }}
[[steps]]
do = "delete"
what = ["/Day/*"]
share = 0.5
discard = {discard}
"""


def _build_in_linux(recipe: Path, into: Path, work: Path) -> None:
    """FAT is built in a user-mode kernel, which has the driver; the program runs there from the same files."""
    image = judges.make_volume(work / "any.img", 16 << 20, "fat16", 2048)
    modules = "$(dirname $(find /usr/lib/uml/modules -name loop.ko))"
    script = f"insmod {modules}/loop.ko\ncd {shlex.quote(str(work))}\n"
    words = [program_path(), "build", str(recipe), "--writer", "os", "--into", str(into)]
    judges.linux(image, f"{script}{shlex.join(words)}\n", work)


def _told(file: TruthFile) -> tuple[object, ...]:
    return (file.life, file.role, file.path, file.former, file.size, file.blake3, file.end, file.lost, file.modified)


def _by_content(truth: Truth) -> dict[tuple[object, ...], TruthFile]:
    return {_told(file): file for file in truth.files if file.role == "reference"}


@pytest.mark.drivers
@pytest.mark.parametrize(
    ("system", "size"),
    [("exfat", "24 MiB"), ("fat16", "16 MiB"), ("fat32", "64 MiB"), ("ntfs", "24 MiB"), ("ext4", "24 MiB")],
)
def test_the_systems_driver_lays_the_same_recipe_down(
    sastrugi: Program, tmp_path: Path, system: str, size: str
) -> None:
    judges.require_drivers()
    if os.geteuid():
        pytest.skip("a loop mount needs root")
    recipe = tmp_path / "season.toml"
    recipe.write_text(_RECIPE.format(system=system, size=size))
    ours, theirs = tmp_path / "ours", tmp_path / "theirs"
    sastrugi("build", recipe, "--into", ours)
    if system in ("exfat", "ntfs"):
        sastrugi("build", recipe, "--into", theirs, "--writer", "os")
    else:
        _build_in_linux(recipe, theirs, tmp_path)
    with Specimen(ours) as own, Specimen(theirs) as other:
        assert not [fault for check in audit(other, Progress()) for fault in check.faults]
        planned, laid = _by_content(own.truth), _by_content(other.truth)
        assert planned.keys() == laid.keys()
        assert all(sum(e.length for e in file.extents) == file.size for file in laid.values())
        own_records = ("ntfs", "ext4")  # where only the driver knows which record or copy is written over
        for key, file in laid.items():
            if file.end == "deleted" and file.untouched and planned[key].untouched:
                assert file.ceiling.bytes == 1.0
                names = {file.ceiling.name, planned[key].ceiling.name}
                assert names <= {"full", "name"} or system in own_records, file.path
                one_piece = len(file.extents) == len(planned[key].extents) == 1
                same = file.ceiling.placed == planned[key].ceiling.placed
                assert not one_piece or same or system in own_records, file.path
        pieces = [len(file.extents) for file in laid.values() if file.kind == "wav"]
        assert max(pieces) > 1, "written by turns, yet all in one piece"
    judges.assert_clean(theirs / "medium.img", system)
    scan = tmp_path / "theirs.scan"
    sastrugi("scan", theirs, "--out", scan)
    card = sastrugi("score", theirs, scan, "--json").json
    whole = [file for file in laid.values() if file.lost and file.ceiling.intact and len(file.extents) == 1]
    assert card["intact"]["value"] >= len(whole) > 0


def test_where_nothing_can_be_mounted_one_line_says_why(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    with pytest.raises(SpecimenError, match="needs root"):
        driver.require_driver()
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    monkeypatch.setattr(driver, "_PATH", "/nowhere")
    with pytest.raises(SpecimenError, match="install the package"):
        driver.require_driver()
    monkeypatch.setattr(driver.sys, "platform", "win32")
    with pytest.raises(SpecimenError, match="no Linux"):
        driver.require_driver()


def test_steps_past_the_driver_are_refused_by_name(sastrugi: Program, tmp_path: Path) -> None:
    if os.geteuid():
        pytest.skip("needs root")
    ran = sastrugi("build", "wiped-card", "--writer", "os", "--into", tmp_path / "no", code=2)
    assert "(wipe)" in ran.err and "nothing that a driver does" in ran.err
    assert not list(tmp_path.iterdir())


@pytest.mark.drivers
@pytest.mark.parametrize("system", ["exfat", "fat32", "ntfs", "ext4"])
def test_files_woven_by_us_lie_as_the_driver_weaves_them(sastrugi: Program, tmp_path: Path, system: str) -> None:
    """Four programs write at once to a used volume: as many runs for each file, but for a factor of two."""
    judges.require_drivers()
    if os.geteuid():
        pytest.skip("a loop mount needs root")
    recipe = tmp_path / "woven.toml"
    recipe.write_text(_WOVEN.format(system=system, discard="true" if system == "ext4" else "false"))
    sastrugi("build", recipe, "--into", tmp_path / "ours")
    if system == "fat32":
        _build_in_linux(recipe, tmp_path / "theirs", tmp_path)
    else:
        sastrugi("build", recipe, "--into", tmp_path / "theirs", "--writer", "os")
    runs = []
    for name in ("ours", "theirs"):
        with Specimen(tmp_path / name) as specimen:
            assert not [fault for check in audit(specimen, Progress()) for fault in check.faults]
            files = [file for file in specimen.truth.files if file.path.startswith("/Day/")]
            assert len(files) == 60
            runs.append(sum(len(file.extents) for file in files) / len(files))
    assert 0.5 < runs[0] / runs[1] < 2, runs


@pytest.mark.drivers
def test_a_mount_that_others_hold_on_to_is_waited_for(sastrugi: Program, tmp_path: Path) -> None:
    """A mount namespace that is made meanwhile has a copy of each mount, and what the driver still has to write is
    written when the last of them goes."""
    judges.require_drivers()
    if os.geteuid():
        pytest.skip("a loop mount needs root")
    recipe, into = tmp_path / "season.toml", tmp_path / "theirs"
    recipe.write_text(_RECIPE.format(system="exfat", size="24 MiB"))
    holders = []

    def hold() -> None:
        while str(tmp_path) not in Path("/proc/self/mountinfo").read_text():
            time.sleep(0.001)
        holders.append(subprocess.Popen(["unshare", "--mount", "--propagation", "private", "sleep", "4"]))

    holding = threading.Thread(target=hold)
    holding.start()
    sastrugi("build", recipe, "--into", into, "--writer", "os")
    holding.join()
    holders[0].wait()
    with Specimen(into) as specimen:
        assert not [fault for check in audit(specimen, Progress()) for fault in check.faults]
