"""The operating system's own tools as judges: fsck.fat, mtools, and the vfat driver in a user-mode Linux kernel."""

from __future__ import annotations

import datetime as dt
import json
import lzma
import os
import shlex
import shutil
import subprocess
import tempfile
from functools import cache
from pathlib import Path

import pytest

from sastrugi.media import Extent
from sastrugi.media.raw import RawImage, RawMedium
from sastrugi.specimen.formats import format_volume
from sastrugi.volumes.writer import Habits
from tests.hfs_checker import Checker

_MODULES = ("nls/nls_cp437", "nls/nls_iso8859-1", "nls/nls_utf8", "fat/fat", "fat/vfat", "fuse/fuse")
_MODULES_OF = {"hfs+": ("../drivers/cdrom/cdrom", "nls/nls_utf8", "hfsplus/hfsplus")}
_TOOLS = (
    "fsck.fat", "mkfs.vfat", "mtype", "linux.uml", "insmod", "fsck.exfat", "mkfs.exfat", "mount.exfat-fuse", "sfdisk",
    "qemu-img", "mkntfs", "mount.ntfs-3g", "ntfsfix", "ntfscat", "mke2fs", "e2fsck", "debugfs", "7zz",
)  # fmt: skip
EXT = ("ext2", "ext3", "ext4")
HFS = ("hfs+", "hfsx")
_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


def require_drivers() -> None:
    """Skip where the tools are not installed; fail where they must be (on the CI machine)."""
    missing = [tool for tool in _TOOLS if shutil.which(tool, path=_PATH) is None]
    if missing and os.environ.get("CI"):
        pytest.fail(f"not installed: {', '.join(missing)}")
    if missing:
        pytest.skip(f"not installed: {', '.join(missing)}")


def _run(*words: str, check: bool = True) -> subprocess.CompletedProcess[bytes]:
    env = os.environ | {"PATH": _PATH, "MTOOLS_SKIP_CHECK": "1", "LC_ALL": "C.UTF-8"}
    done = subprocess.run(words, capture_output=True, env=env, timeout=120)
    assert not check or done.returncode == 0, f"{words}: {done.stdout.decode()}{done.stderr.decode()}"
    return done


def volume_copy(image: Path, offset: int, to: Path) -> Path:
    """The volume that begins at `offset`, as an image of its own (fsck.fat takes no offset)."""
    if not offset:
        return image
    with image.open("rb") as source, to.open("wb") as target:
        source.seek(offset)
        shutil.copyfileobj(source, target, 1 << 20)
    return to


def assert_clean(volume: Path, file_system: str = "fat32") -> None:
    """The checker of the file system finds nothing to mend."""
    if file_system in HFS:
        assert Checker(volume).check() == []
        return
    tools = {"exfat": ("fsck.exfat", "-n"), "ntfs": ("ntfsfix", "-n")}
    tools |= dict.fromkeys(EXT, ("e2fsck", "-fn"))
    done = _run(*tools.get(file_system, ("fsck.fat", "-n")), str(volume), check=False)
    said = done.stdout + done.stderr
    wrong = any(word in said for word in (b"ERROR", b"Correcting", b"FAILED", b"orrupt"))
    assert done.returncode == 0 and not wrong, said.decode()


def qemu_img(*words: str | Path) -> str:
    return _run("qemu-img", *map(str, words)).stdout.decode()


def partitions_by_sfdisk(image: Path) -> list[Extent]:
    """Where the system's own tool sees partitions; containers of logical ones left out."""
    assert b"No errors detected" in _run("sfdisk", "--verify", str(image)).stdout
    rows = json.loads(_run("sfdisk", "--json", str(image)).stdout)["partitiontable"]["partitions"]
    return [Extent(512 * row["start"], 512 * row["size"]) for row in rows if row["type"] not in ("5", "f")]


def mtools_attributes(image: Path, path: str) -> str:
    return _run("mattrib", "-i", str(image), f"::{path}").stdout.decode()


def mtools_read(image: Path, offset: int, path: str) -> bytes:
    return _run("mtype", "-i", f"{image}@@{offset}", f"::{path}").stdout


def driver_reads(image: Path, file_system: str, path: str) -> bytes:
    """A file of a bare volume, by tools that share code with a driver; of exFAT there are none."""
    if file_system == "ntfs":
        return _run("ntfscat", str(image), path).stdout
    if file_system in EXT:
        return _run("debugfs", "-R", 'cat "/{}"'.format(path.lstrip("/")), str(image)).stdout
    if file_system in HFS:
        (label,) = {line.split("/")[0] for line in seven_zip("l", "-ba", "-slt", image).split("Path = ")[1:2]}
        words = ("7zz", "x", "-so", "-sns-", str(image), f"{label.splitlines()[0]}/{path.lstrip('/')}")
        return _run(*words).stdout
    return mtools_read(image, 0, path)


def seven_zip(what: str, *words: str | Path) -> str:
    """What 7-Zip says of an image: `l` lists, `x` extracts."""
    return _run("7zz", what, *(str(word) for word in words)).stdout.decode()


def debugfs(image: Path, request: str, *options: str) -> str:
    """What the system's tool for looking into ext volumes answers; with "-w" it may change one."""
    return _run("debugfs", *options, "-R", request, str(image)).stdout.decode()


def make_volume(path: Path, size: int, file_system: str, cluster: int) -> Path:
    """A bare volume as the system's own tools format it."""
    with path.open("wb") as file:
        file.truncate(size)
    format_over(path, file_system, cluster)
    return path


def format_over(image: Path, file_system: str, cluster: int) -> None:
    """A quick format of all of an image, over what is there, by the system's own tools."""
    if file_system == "exfat":
        _run("mkfs.exfat", "-c", str(cluster), str(image))
    elif file_system == "ntfs":
        _run("mkntfs", "-F", "-Q", "-c", str(cluster), str(image))
    elif file_system in HFS:
        format_hfs(image, file_system, cluster)
    elif file_system in EXT:
        _run("mke2fs", "-q", "-F", "-t", file_system, "-b", str(cluster), "-E", "nodiscard", str(image))
    else:
        bits, sectors = file_system.removeprefix("fat"), str(cluster // 512)
        _run("mkfs.vfat", "-F", bits, "-i", "20310203", "-s", sectors, str(image))


def format_hfs(path: Path, file_system: str, cluster: int, habits: Habits = "linux") -> None:
    """A quick format of an image, by our own writer: no tool of the system formats it here, and the driver that fills it
    judges the format."""
    image = object.__new__(RawImage)  # which else makes new images only
    RawMedium.__init__(image, path)
    image.observers = []
    with image:
        when = dt.datetime(2031, 2, 3) if not image.read(1024, 2).strip(b"\0") else dt.datetime(2031, 4, 1)
        format_volume(image, Extent(0, image.size), file_system, cluster, "CARD", 7, when, habits)


@cache
def _judge_kernel() -> Path | None:
    """A kernel that was built with more drivers (docs/howto/real-drivers.md): named by the environment, or beside the project."""
    named = os.environ.get("SASTRUGI_JUDGE_KERNEL")
    packed = Path(__file__).parents[2] / "shared" / "judges" / "linux-judge.xz"
    if named:
        return Path(named)
    if not packed.is_file():
        return None
    kernel = Path(tempfile.mkdtemp(prefix="judge-")) / "linux-judge"
    kernel.write_bytes(lzma.decompress(packed.read_bytes()))
    kernel.chmod(0o755)
    return kernel


def _boot(kernel: str | Path, disk: str, init: Path, work: Path) -> None:
    """Boot a user-mode kernel on the host's files, with an image as a disk; `init` is all that runs."""
    options = ("root=/dev/root", "rootfstype=hostfs", "rootflags=/", "rw", "mem=512M", "con=null", "con0=null,fd:1")
    subprocess.run(
        [kernel, disk, f"init={init}", *options, "quiet"], stdin=subprocess.DEVNULL, capture_output=True, timeout=300,
        env=os.environ | {"PATH": _PATH, "TMPDIR": str(work)},
    )  # fmt: skip


def ntfs3_reads(image: Path, work: Path) -> dict[str, str] | None:
    """Digests of all files of a bare NTFS volume by the kernel's own driver; None where there is no kernel with it."""
    kernel = _judge_kernel()
    if kernel is None:
        return None
    sums, script = work / "ntfs3.txt", work / "ntfs3.sh"
    script.write_text(
        f"#!/bin/sh\nexport PATH={_PATH} LC_ALL=C.UTF-8\nmount -t proc proc /proc\nmount -t tmpfs tmpfs /mnt\nmkdir /mnt/v\n"
        f"mount -t ntfs3 -o ro,iocharset=utf8 /dev/ubdb /mnt/v && cd /mnt/v && find . -type f -exec sha256sum {{}} + > {sums}\n"
        "cd /; umount /mnt/v; sync; halt -f -p\n"
    )
    script.chmod(0o755)
    _boot(kernel, f"ubd1={image}", script, work)
    lines = (line.split("  ./", 1) for line in sums.read_text("utf-8").splitlines())
    return {path: digest for digest, path in lines}


def linux(
    image: Path,
    script: str,
    work: Path,
    partition: int = 0,
    clock: str = "2031-03-01 12:00:00",
    file_system: str = "vfat",
) -> None:
    """Run a shell script in the root of the image's volume, mounted by Linux, with the clock set.

    exFAT and NTFS are mounted through their drivers in user space, on the kernel's block device. A user-mode kernel
    boots, mounts, runs, unmounts and stops; the host's files are there under their own paths.
    """
    modules = next(Path("/usr/lib/uml/modules").iterdir()) / "kernel" / "fs"
    wanted = _MODULES_OF["hfs+"] if file_system in HFS else _MODULES
    loads = "\n".join(f"insmod {modules}/{name}.ko" for name in wanted)
    device = f"/dev/ubda{partition or ''}"
    mount = {
        "exfat": f"mount.exfat-fuse {device} /mnt/v",
        "ntfs": f"mount.ntfs-3g -o streams_interface=windows {device} /mnt/v",
        **dict.fromkeys(EXT, f"mount -t ext4 {device} /mnt/v"),
        **dict.fromkeys(HFS, f"mount -t hfsplus -o nls=utf8 {device} /mnt/v"),
    }.get(file_system, f"mount -t vfat -o utf8=1,tz=UTC {device} /mnt/v")
    log, inner, outer = work / "linux.log", work / "inner.sh", work / "outer.sh"
    inner.write_text(f"set -e\n{script}\n", encoding="utf-8")
    outer.write_text(
        f"""#!/bin/sh
export PATH={_PATH} LC_ALL=C.UTF-8 TZ=UTC
exec >{log} 2>&1
mount -t proc proc /proc
mount -t tmpfs tmpfs /mnt
mkdir /mnt/v
{loads}
date -u -s {shlex.quote(clock)} >/dev/null
if {mount} && cd /mnt/v && sh {inner}; then echo WELL; fi
cd /
umount /mnt/v && echo UNMOUNTED
sync
halt -f -p
""",
        encoding="utf-8",
    )
    outer.chmod(0o755)
    _boot("linux.uml", f"ubd0={image}", outer, work)
    said = log.read_text(encoding="utf-8", errors="replace") if log.exists() else "the kernel did not start"
    assert "WELL" in said and "UNMOUNTED" in said, said
