"""Calls to the Linux kernel that Python has no function for. Each raises OSError where the kernel refuses.

Sources: mount(2), mount_setattr(2), unshare(2), prctl(2), capset(2); numbers of calls are those of all processors that
got them since Linux 5.1 (`asm-generic/unistd.h`).
"""

from __future__ import annotations

import ctypes
import os

_libc = ctypes.CDLL(None, use_errno=True)

MS_RDONLY, MS_NOSUID, MS_NODEV, MS_NOEXEC, MS_BIND, MS_REC, MS_SLAVE = 1, 2, 4, 8, 1 << 12, 1 << 14, 1 << 19
MNT_DETACH = 2
ATTR_RDONLY, ATTR_NOSUID, ATTR_NODEV = 1, 2, 4
CLONE_NEW = {
    "mount": 0x20000, "uts": 0x4000000, "ipc": 0x8000000, "user": 0x10000000, "pid": 0x20000000, "network": 0x40000000,
}  # fmt: skip
"""Namespaces by the names that records give them."""
PR_SET_PDEATHSIG, PR_SET_DUMPABLE, PR_SET_SECCOMP, PR_CAPBSET_DROP = 1, 4, 22, 24
PR_SET_CHILD_SUBREAPER, PR_SET_NO_NEW_PRIVS, PR_CAP_AMBIENT = 36, 38, 47
_MOUNT_SETATTR, _AT_FDCWD, _AT_RECURSIVE = 442, -100, 0x8000
_CAPABILITIES_VERSION = 0x20080522


def prctl(option: int, argument: int = 0, more: int = 0) -> None:
    _checked(_libc.prctl(option, ctypes.c_ulong(argument), ctypes.c_ulong(more), 0, 0))


def unshare(flags: int) -> None:
    _checked(_libc.unshare(flags))


def mount(source: str, target: str, kind: str = "", flags: int = 0, options: str = "") -> None:
    words = [text.encode() or None for text in (source, target, kind, options)]
    _checked(_libc.mount(words[0], words[1], words[2], ctypes.c_ulong(flags), words[3]), target)


def unmount(target: str) -> None:
    _checked(_libc.umount2(target.encode(), MNT_DETACH), target)


def set_mount(target: str, add: int = 0, clear: int = 0, recursive: bool = False) -> None:
    """Change what a mount allows (ATTR_*), and on request all below it."""
    attributes = b"".join(number.to_bytes(8, "little") for number in (add, clear, 0, 0))
    flags = _AT_RECURSIVE if recursive else 0
    _checked(syscall(_MOUNT_SETATTR, _AT_FDCWD, target.encode(), flags, attributes, len(attributes)), target)


def set_capabilities(keep: int) -> None:
    """Have no capabilities but those of these bits, neither now nor to be got back."""
    header = _CAPABILITIES_VERSION.to_bytes(4, "little") + bytes(4)
    low, high = (part.to_bytes(4, "little") for part in (keep & 0xFFFFFFFF, keep >> 32))
    nothing = bytes(4)
    _checked(_libc.capset(header, low * 2 + nothing + high * 2 + nothing))


def syscall(number: int, *arguments: object) -> int:
    """A call by its number; -1 where it fails."""
    answer: int = _libc.syscall(number, *arguments)
    return answer


def _checked(answer: int, what: str = "") -> None:
    if answer < 0:
        error = ctypes.get_errno()
        raise OSError(error, os.strerror(error), what or None)
