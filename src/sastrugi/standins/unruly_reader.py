"""`sastrugi-unruly-reader MEDIUM RESULTS [--FAULT …]`: the plain reader with faults on request.

It stands for programs that do wrong, so that a bench can be seen to notice: files cut or renamed, copies, noise, a slow
run, a medium that is written to or replaced, tables that are none, devices, folders without end, a hang, a crash, a
flood of output, processes left behind and without end, files outside of the folder of results, links out of it, a full
disk, memory without end, and all ways out of the bench that are known.
"""

from __future__ import annotations

import argparse
import itertools
import os
import random
import stat
import subprocess
import sys
import time
from pathlib import Path

from sastrugi.errors import SastrugiError
from sastrugi.media import open_medium
from sastrugi.media.extents import cut
from sastrugi.standins import escapes
from sastrugi.standins.plain_reader import free_path, in_one_piece, lost_entries, write_file

_NOISE_SIZE, _FLOOD_LINE, _LONG = 20_000, "found something, perhaps\n" * 1000, 3600
_BLOCK = 1 << 20
_WHERE = ("results", "beside-the-medium", "nameless", "memory-file", "shared-memory", "temporary")


def _arguments() -> argparse.Namespace:
    parser = argparse.ArgumentParser(
        prog="sastrugi-unruly-reader", description="A stand-in for programs that do wrong."
    )
    parser.add_argument("medium", type=Path)
    parser.add_argument("results", type=Path)
    parser.add_argument("--seed", type=int, default=1, help="of what is made up")
    parser.add_argument("--cut", type=float, default=0.0, metavar="SHARE", help="of the files end early")
    parser.add_argument("--wrong-names", type=float, default=0.0, metavar="SHARE", help="of the files get other names")
    parser.add_argument("--copies", type=int, default=0, metavar="COUNT", help="of each file")
    parser.add_argument("--noise", type=int, default=0, metavar="COUNT", help="files that never were")
    parser.add_argument("--slow", type=float, default=0.0, metavar="SECONDS", help="longer")
    parser.add_argument("--write-medium", type=int, metavar="OFFSET", help="write to the medium there")
    parser.add_argument("--write-elsewhere", type=Path, metavar="FILE", help="write a file of this path")
    parser.add_argument("--link-out", type=Path, metavar="PATH", help="leave a link to it among the results")
    parser.add_argument("--medium-becomes", metavar="WHAT", help="pipe, folder, or a path for a link in its place")
    parser.add_argument("--pipe", metavar="NAME", help="leave a pipe of this name among the results")
    parser.add_argument("--claims", metavar="TEXT", help="leave a table claims.csv of this text")
    parser.add_argument("--nest", type=int, default=0, metavar="COUNT", help="folders in folders among the results")
    parser.add_argument("--device", action="store_true", help="make a device among the results")
    parser.add_argument("--flood", type=int, default=0, metavar="MIB", help="of output")
    parser.add_argument("--fill", choices=_WHERE, nargs="?", const="results", help="write there until it is full")
    parser.add_argument("--eat", action="store_true", help="take memory until there is none")
    parser.add_argument("--leave-child", action="store_true", help="leave a process behind")
    parser.add_argument("--multiply", action="store_true", help="start processes until there can be no more")
    parser.add_argument("--escape", type=Path, metavar="TARGETS", help="try all that standins/escapes.py knows")
    parser.add_argument("--hang", action="store_true", help="never end")
    parser.add_argument("--crash", action="store_true", help="end by a signal when half is done")
    parser.add_argument("--status", type=int, default=0, help="to leave with")
    return parser.parse_args()


def main() -> None:
    wanted = _arguments()
    dice = random.Random(wanted.seed)
    try:
        _bring_back(wanted, dice)
        _misbehave(wanted, dice)
    except (SastrugiError, OSError) as error:
        sys.exit(f"sastrugi-unruly-reader: {error}")
    sys.exit(wanted.status)


def _bring_back(wanted: argparse.Namespace, dice: random.Random) -> None:
    with open_medium(wanted.medium) as medium:
        entries = list(lost_entries(medium))
        for n, entry in enumerate(entries):
            if wanted.crash and n >= len(entries) // 2:
                os.abort()
            extents = in_one_piece(medium, entry)
            if dice.random() < wanted.cut:
                extents = cut(extents, max(entry.size // 2, 1))
            path = free_path(wanted.results, entry)
            if dice.random() < wanted.wrong_names:
                path = path.with_name(f"recovered-{n:05}.bin")
            write_file(medium, extents, path, entry)
            for copy in range(wanted.copies):
                write_file(medium, extents, path.with_name(f"copy {copy + 1} of {path.name}"), entry)
    for n in range(wanted.noise):
        (wanted.results / f"noise-{n:05}.dat").write_bytes(dice.randbytes(_NOISE_SIZE))


def _misbehave(wanted: argparse.Namespace, dice: random.Random) -> None:
    time.sleep(wanted.slow)
    if wanted.write_medium is not None:
        with wanted.medium.open("r+b") as medium:
            medium.seek(wanted.write_medium)
            medium.write(dice.randbytes(1))
    if wanted.write_elsewhere is not None:
        wanted.write_elsewhere.write_text("a recovery program was here\n")
    if wanted.link_out is not None:
        (wanted.results / "link").symlink_to(wanted.link_out)
    if wanted.medium_becomes is not None:
        _replace_medium(wanted.medium, wanted.medium_becomes)
    if wanted.pipe is not None:
        os.mkfifo(wanted.results / wanted.pipe)
    if wanted.claims is not None:
        (wanted.results / "claims.csv").write_text(wanted.claims)
    if wanted.nest:
        _nest(wanted.results, wanted.nest)
    if wanted.device:
        os.mknod(wanted.results / "device", stat.S_IFBLK | 0o600, os.makedev(7, 0))
    for _ in range(wanted.flood * _BLOCK // len(_FLOOD_LINE)):
        print(_FLOOD_LINE, end="")
    if wanted.leave_child:
        subprocess.Popen([sys.executable, "-c", f"import time; time.sleep({_LONG})"], start_new_session=True)
    if wanted.escape is not None:
        escapes.main(wanted.escape)
    if wanted.fill:
        _fill(wanted, dice.randbytes(_BLOCK))
    while wanted.multiply:
        subprocess.Popen(["sleep", str(_LONG)])
    held = []
    while wanted.eat:
        held.append(bytearray(os.urandom(_BLOCK)))
    if wanted.hang:
        time.sleep(_LONG)
    if wanted.crash:
        os.abort()


def _fill(wanted: argparse.Namespace, data: bytes) -> None:
    """Write many files, so that no limit of one file's size comes first."""
    folder = {
        "beside-the-medium": wanted.medium.parent, "shared-memory": Path("/dev/shm"), "temporary": Path("/tmp"),
    }.get(wanted.fill, wanted.results)  # fmt: skip
    held = []
    for n in itertools.count():
        path = folder / f"filler-{n:05}.dat"
        if wanted.fill == "memory-file":
            held.append(os.memfd_create(path.name))
        else:
            held.append(os.open(path, os.O_WRONLY | os.O_CREAT))
        if wanted.fill == "nameless":
            path.unlink()
        for _ in range(4):
            os.write(held[-1], data)
        if wanted.fill in ("results", "beside-the-medium"):
            os.close(held.pop())


def _replace_medium(medium: Path, what: str) -> None:
    medium.unlink()
    if what == "pipe":
        os.mkfifo(medium)
    elif what == "folder":
        medium.mkdir()
    else:
        medium.symlink_to(what)


def _nest(results: Path, count: int) -> None:
    os.chdir(results)
    for _ in range(count):
        Path("deeper").mkdir()
        os.chdir("deeper")
    Path("bottom.txt").write_text("found at the bottom\n")
    Path().chmod(0)
    os.chdir("/")


if __name__ == "__main__":
    main()
