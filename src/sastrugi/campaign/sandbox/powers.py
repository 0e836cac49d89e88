"""What an engine may ask of the kernel: no capabilities, no new privileges, and neither Landlock nor seccomp lets
through what could hurt others.

Each function acts on the calling process and all that will come of it, and answers what held.

Sources: capabilities(7), landlock(7), seccomp(2), bpf(2); numbers of calls from `asm/unistd_64.h`, `asm/unistd_32.h`
and `asm-generic/unistd.h` of Linux.
"""

from __future__ import annotations

import ctypes
import errno
import os
import platform
import struct
from contextlib import suppress
from pathlib import Path

from sastrugi.campaign.sandbox.kernel import (
    CLONE_NEW,
    PR_CAP_AMBIENT,
    PR_CAPBSET_DROP,
    PR_SET_NO_NEW_PRIVS,
    PR_SET_SECCOMP,
    prctl,
    set_capabilities,
    syscall,
)

# -- capabilities ------------------------------------------------------------------------------

CAP_DAC = 1 << 1 | 1 << 2
"""CAP_DAC_OVERRIDE and CAP_DAC_READ_SEARCH: root's right to open what only others may open."""
_CAPABILITIES = 64
_AMBIENT_CLEAR = 4


def drop_capabilities(keep: int) -> list[str]:
    for number in range(_CAPABILITIES):
        if not keep >> number & 1:
            with suppress(OSError):  # not for everybody, and not as many as there may be one day
                prctl(PR_CAPBSET_DROP, number)
    with suppress(OSError):
        prctl(PR_CAP_AMBIENT, _AMBIENT_CLEAR)
    with suppress(OSError):
        set_capabilities(keep)
    with suppress(OSError):
        prctl(PR_SET_NO_NEW_PRIVS, 1)
    sets = _status()
    left = sets.get("CapBnd" if os.geteuid() == 0 else "CapPrm", "1")  # root gets back what is not bounded
    return [
        *(["no capabilities"] if int(left, 16) == 0 else []),
        *(["no new privileges"] if sets.get("NoNewPrivs") == "1" else []),
    ]


def _status() -> dict[str, str]:
    lines = Path("/proc/self/status").read_text().splitlines()
    return {name: value.strip() for name, _, value in (line.partition(":") for line in lines)}


# -- Landlock ----------------------------------------------------------------------------------

_CREATE_RULESET, _ADD_RULE, _RESTRICT_SELF, _VERSION = 444, 445, 446, 1
_PATH_BENEATH = 1
_WRITING = 0x1FF2
"""LANDLOCK_ACCESS_FS_* of all that changes something: WRITE_FILE, REMOVE_DIR … MAKE_SYM."""
_MAKE_DEVICE = 1 << 6 | 1 << 11
"""MAKE_CHAR and MAKE_BLOCK: nobody who looks for files needs to make devices, and one gives a disk away."""
_IOCTL_DEVICE = 1 << 15
"""IOCTL_DEV, from version 5 on: among them is to type into a terminal."""
_SCOPE_ABSTRACT_SOCKET, _SCOPE_SIGNAL = 1 << 0, 1 << 1
"""LANDLOCK_SCOPE_*, from version 6 on: no signals to those who watch, and no words with strangers."""
_REFER, _TRUNCATE = 1 << 13, 1 << 14
_ON_FILES = 1 << 1 | _TRUNCATE


def landlock_version() -> int:
    """0 or less where the kernel has none."""
    return syscall(_CREATE_RULESET, None, 0, _VERSION)


def confine_writing(writable: list[str], devices: list[str]) -> list[str]:
    """Write nowhere but below `writable`, make no devices anywhere, and ask none for more than to be read but
    `devices`, as far as the kernel can do that."""
    version = landlock_version()
    if version <= 0:
        return []
    rights = _WRITING | (_REFER if version >= 2 else 0) | (_TRUNCATE if version >= 3 else 0)
    handled = rights | (_IOCTL_DEVICE if version >= 5 else 0)
    attributes = handled.to_bytes(8, "little")
    if version >= 6:
        attributes += bytes(8) + (_SCOPE_ABSTRACT_SOCKET | _SCOPE_SIGNAL).to_bytes(8, "little")
    ruleset = syscall(_CREATE_RULESET, attributes, len(attributes), 0)
    if ruleset < 0:
        return []
    granted = [(path, rights & ~_MAKE_DEVICE) for path in writable]
    granted += [(path, _IOCTL_DEVICE) for path in (devices if version >= 5 else ())]
    for path, own in granted:
        if not Path(path).exists():
            continue
        handle = os.open(path, os.O_PATH | os.O_CLOEXEC)
        own = own if Path(path).is_dir() else own & (_ON_FILES | _IOCTL_DEVICE)
        syscall(_ADD_RULE, ruleset, _PATH_BENEATH, own.to_bytes(8, "little") + handle.to_bytes(4, "little"), 0)
        os.close(handle)
    held = syscall(_RESTRICT_SELF, ruleset, 0) == 0
    os.close(ruleset)
    return ["landlock"] if held else []


# -- seccomp -----------------------------------------------------------------------------------

_LOAD, _EQUAL, _ANY, _RETURN = 0x20, 0x15, 0x45, 0x06
"""BPF: load a word, jump if equal, jump if any bit is set, answer."""
_ALLOW, _REFUSE = 0x7FFF0000, 0x00050000
_NUMBER, _ARCH, _ARGUMENTS = 0, 4, 16
"""Where in `struct seccomp_data`; arguments take eight bytes each, the low half first."""
_FILTER = 2
_X32 = 0x40000000
_NEW_NAMESPACES = sum(CLONE_NEW.values()) | 0x2000000 | 0x80
"""With CLONE_NEWCGROUP and CLONE_NEWTIME."""
_TIOCSTI, _TIOCLINUX = 0x5412, 0x541C

_EVERYWHERE = {
    "io_uring_setup": 425, "io_uring_enter": 426, "io_uring_register": 427, "open_tree": 428, "move_mount": 429,
    "fsopen": 430, "fsconfig": 431, "fsmount": 432, "fspick": 433, "clone3": 435, "mount_setattr": 442,
    "memfd_secret": 447, "open_tree_attr": 467,
}  # fmt: skip
CALLS = {
    0xC000003E: {
        "ioctl": 16, "shmget": 29, "clone": 56, "pivot_root": 155, "mount": 165, "umount2": 166, "add_key": 248,
        "request_key": 249, "keyctl": 250, "unshare": 272, "perf_event_open": 298, "prlimit64": 302, "setns": 308,
        "memfd_create": 319, "bpf": 321, "userfaultfd": 323,
    } | _EVERYWHERE,
    0x40000003: {
        "mount": 21, "umount": 22, "umount2": 52, "ioctl": 54, "clone": 120, "pivot_root": 217, "add_key": 286,
        "request_key": 287, "keyctl": 288, "unshare": 310, "perf_event_open": 336, "prlimit64": 340, "setns": 346,
        "memfd_create": 356, "bpf": 357, "userfaultfd": 374, "shmget": 395, "ipc": 117,
    } | _EVERYWHERE,
    0xC00000B7: {
        "ioctl": 29, "umount2": 39, "mount": 40, "pivot_root": 41, "unshare": 97, "shmget": 194, "add_key": 217,
        "request_key": 218, "keyctl": 219, "clone": 220, "perf_event_open": 241, "prlimit64": 261, "setns": 268,
        "memfd_create": 279, "bpf": 280, "userfaultfd": 282,
    } | _EVERYWHERE,
}  # fmt: skip
"""Numbers of calls by AUDIT_ARCH_*: x86-64, i386 (whose programs run on the former), AArch64."""
_MACHINES = {"x86_64": (0xC000003E, 0x40000003), "i686": (0x40000003,), "aarch64": (0xC00000B7,)}
_MEMORY_NOBODY_COUNTS = {"memfd_create", "memfd_secret", "shmget", "ipc"}
_NOT_THERE = {"clone3", "io_uring_setup", "io_uring_enter", "io_uring_register", "memfd_create", "memfd_secret"}
"""Told as unknown to this kernel: programs then go other ways. clone3 hides what it asks for behind a pointer."""
_SHMGET_OF_IPC = 23


def filter_calls(memory_is_counted: bool) -> list[str]:
    """Refuse calls that make namespaces and mounts, reach keys, other processes' limits and terminals, or parts of the
    kernel that other checks do not see; and kinds of memory that belong to no process, unless a group counts them."""
    machines = _MACHINES.get(platform.machine(), ())
    program = b"".join(_rules_for(machine, memory_is_counted) for machine in machines) + _answer(errno.EPERM)
    if not machines:
        return []
    code = ctypes.create_string_buffer(program, len(program))
    header = struct.pack("@HP", len(program) // 8, ctypes.addressof(code))
    pointer = ctypes.create_string_buffer(header, len(header))
    try:
        prctl(PR_SET_SECCOMP, _FILTER, ctypes.addressof(pointer))
    except OSError:
        return []
    return ["seccomp"]


def _rules_for(machine: int, memory_is_counted: bool) -> bytes:
    """The filter's part for one machine, which answers each of its calls."""
    calls = CALLS[machine]
    rules = b""
    for name, number in calls.items():
        if memory_is_counted and name in _MEMORY_NOBODY_COUNTS:
            continue
        refused = _answer(errno.ENOSYS if name in _NOT_THERE else errno.EPERM)
        if name == "clone":
            refused = _load(_ARGUMENTS) + _jump(_ANY, _NEW_NAMESPACES, 0, 1) + refused
        elif name == "prlimit64":  # of oneself it is no harm
            refused = _load(_ARGUMENTS) + _jump(_EQUAL, 0, 1, 0) + refused
        elif name == "ioctl":
            refused = _load(_ARGUMENTS + 8) + _jump(_EQUAL, _TIOCSTI, 1, 0) + _jump(_EQUAL, _TIOCLINUX, 0, 1) + refused
        elif name == "ipc":
            refused = _load(_ARGUMENTS) + _jump(_EQUAL, _SHMGET_OF_IPC, 0, 1) + refused
        if len(refused) > 8:
            refused += _answer(0)
        rules += _load(_NUMBER) + _jump(_EQUAL, number, 0, len(refused) // 8) + refused
    if machine == 0xC000003E:
        rules = _load(_NUMBER) + _jump(_ANY, _X32, 0, 1) + _answer(errno.ENOSYS) + rules
    rules += _answer(0)
    return _load(_ARCH) + _jump(_EQUAL, machine, 0, len(rules) // 8) + rules


def _load(offset: int) -> bytes:
    return struct.pack("<HBBI", _LOAD, 0, 0, offset)


def _jump(code: int, value: int, true: int, false: int) -> bytes:
    return struct.pack("<HBBI", code, true, false, value)


def _answer(error: int) -> bytes:
    return struct.pack("<HBBI", _RETURN, 0, 0, _REFUSE | error if error else _ALLOW)
