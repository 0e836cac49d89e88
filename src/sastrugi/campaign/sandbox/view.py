"""What an engine sees of the system: everything as it is, nothing to be changed but what it was given.

Built in a mount namespace of its own. All mounts become read-only, without devices and without set-user-ID programs;
the writable folders are mounted on themselves. `/dev` holds null, zero, full, random and urandom alone. `/tmp`,
`/var/tmp` and `/run` are overlays: what stands there can be read, and what the engine writes there goes with it. They
and `/dev/shm` share one tmpfs, whose size is the limit of the disk. Sockets of others cannot be called.

Sources: mount_namespaces(7), tmpfs(5), unix(7), `Documentation/filesystems/overlayfs.rst`, `sharedsubtree.rst` and
`proc.rst` (`/proc/net/unix`) of Linux.
"""

from __future__ import annotations

import fcntl
import os
import socket
import struct
from contextlib import suppress
from pathlib import Path

from sastrugi.campaign.sandbox.kernel import (
    ATTR_NODEV,
    ATTR_NOSUID,
    ATTR_RDONLY,
    MS_BIND,
    MS_NODEV,
    MS_NOEXEC,
    MS_NOSUID,
    MS_RDONLY,
    MS_REC,
    MS_SLAVE,
    mount,
    set_mount,
    unmount,
)

DEVICES = ("/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom")
SHARED_MEMORY = "/dev/shm"
TEMPORARY = ("/tmp", "/var/tmp", "/run")
_LINKS = {"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2"}
_OWN = "/dev/own"
_FILES = 100_000
"""That fit into the tmpfs: each takes memory, also when it is empty."""
_SOCKETS = 4096
"""That are silenced at most."""
_SIOCGIFFLAGS, _SIOCSIFFLAGS, _IFF_UP = 0x8913, 0x8914, 1


def build_view(
    writable: list[str], devices: list[str], needed: list[str], sockets: list[str], space: int, own_pids: bool
) -> list[str]:
    """Change what this process sees, in its own mount namespace; `space` bytes may be put into temporary folders, and
    nobody answers at `sockets`. The answer are the folders and files that are its own, and can be written. Raises
    OSError where the kernel refuses."""
    mount("", "/", "", MS_REC | MS_SLAVE)  # what others unmount goes here, too
    covered = [path for path in TEMPORARY if Path(path).is_dir() and not Path(path).is_symlink()]
    inside = [path for path in [*writable, *_mounts_needed(needed)] if any(map(Path(path).is_relative_to, covered))]
    again = {path: os.open(path, os.O_PATH) for path in dict.fromkeys([*writable, *devices, *DEVICES, *inside])}
    mount("tmpfs", "/dev", "tmpfs", MS_NOSUID | MS_NOEXEC, "size=64k,nr_inodes=64,mode=755")
    for name, target in _LINKS.items():
        Path("/dev", name).symlink_to(target)
    for path in (_OWN, SHARED_MEMORY):
        Path(path).mkdir()
    mount("tmpfs", _OWN, "tmpfs", MS_NOSUID | MS_NODEV, f"size={space},nr_inodes={_FILES},mode=700")
    own = [SHARED_MEMORY, *(path for path in covered if _cover(path, [*writable, *needed]))]
    _bind(str(_folder("shm")), SHARED_MEMORY)
    for path, handle in again.items():
        if path in devices or path in DEVICES:
            Path(path).touch()
        elif not Path(path).is_dir():
            Path(path).mkdir(parents=True)
        _bind(f"/proc/self/fd/{handle}", path)
        os.close(handle)
    for path in sockets:
        with suppress(OSError):  # it is gone, or this process cannot get there
            if Path(path).is_socket():
                _bind("/dev/null", path)
    unmount(_OWN)
    Path(_OWN).rmdir()
    set_mount("/", ATTR_RDONLY | ATTR_NOSUID | ATTR_NODEV, recursive=True)
    for path in (*writable, *own):
        set_mount(path, clear=ATTR_RDONLY)
    for path in (*devices, *DEVICES):
        set_mount(path, clear=ATTR_NODEV)
    if own_pids:
        mount("proc", "/proc", "proc", MS_RDONLY | MS_NOSUID | MS_NODEV | MS_NOEXEC)
    return own


def sockets_of_others() -> list[str]:
    """Where servers of this network namespace can be called by path. Those that were named from the folder that their
    server was in are not among them: nobody can tell where they are."""
    with suppress(OSError):
        rows = Path("/proc/net/unix").read_bytes().splitlines()[1:]
        paths = (os.fsdecode(row.split(maxsplit=7)[-1]) for row in rows if row.count(b"/"))
        return list(dict.fromkeys(path for path in paths if path.startswith("/")))[:_SOCKETS]
    return []


def _bind(source: str, target: str) -> None:
    mount(source, target, "", MS_BIND)


def _folder(name: str) -> Path:
    """A new folder in the tmpfs, for everybody."""
    folder = Path(_OWN, name)
    folder.mkdir()
    folder.chmod(0o1777)
    return folder


def _cover(path: str, needed: list[str]) -> bool:
    """Give the engine a folder of its own in the place of this one. Where the kernel lays no folder over another (over
    one with mounts of others inside, it does not), an empty one does; not where something lies there that is needed."""
    name = path.strip("/").replace("/", "-")
    upper, work = _folder(f"{name}-upper"), _folder(f"{name}-work")
    for more in (",userxattr", ""):
        with suppress(OSError):
            options = f"lowerdir={path},upperdir={upper},workdir={work}{more}"
            mount("overlay", path, "overlay", MS_NOSUID | MS_NODEV, options)
            return True
    if any(Path(one).is_relative_to(path) for one in needed):
        return False
    _bind(str(upper), path)
    return True


def _mounts_needed(needed: list[str]) -> list[str]:
    """Mounts that something needed lies on, the outer ones first: an overlay would hide them."""
    points = {_plain(line.split(" ")[4]) for line in Path("/proc/self/mountinfo").read_text().splitlines()}
    points -= {*TEMPORARY, "/"}
    return sorted(point for point in points if any(Path(path).is_relative_to(point) for path in needed))


def _plain(text: str) -> str:
    """A path of mountinfo: spaces and the like stand there in octal digits."""
    return text.encode("latin-1", "replace").decode("unicode_escape").encode("latin-1").decode("utf-8", "replace")


def loopback_up() -> None:
    """A network namespace begins with nothing; programs may talk to themselves."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as any_socket:
        request = struct.pack("16sh14x", b"lo", 0)
        flags = struct.unpack("16sh14x", fcntl.ioctl(any_socket, _SIOCGIFFLAGS, request))[1]
        fcntl.ioctl(any_socket, _SIOCSIFFLAGS, struct.pack("16sh14x", b"lo", flags | _IFF_UP))
