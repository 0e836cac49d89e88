"""Whether a block device is in use: mounted, or a part of it."""

from __future__ import annotations

import os
import stat
from pathlib import Path

_MOUNTS = Path("/proc/self/mountinfo")
_BLOCK = Path("/sys/dev/block")


def mounted_at(path: Path) -> str:
    """Where the device at `path`, or one of its partitions, is mounted; empty if it is not, or is no device.

    Where the system does not tell (no `/proc`), it counts as not mounted.
    """
    try:
        status = path.stat()
        if not stat.S_ISBLK(status.st_mode):
            return ""
        lines = _MOUNTS.read_text("utf-8", "replace").splitlines()
    except OSError:
        return ""
    devices = {f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}"}
    folder = _BLOCK / next(iter(devices))
    for part in folder.glob("*/partition"):
        try:
            devices.add((part.parent / "dev").read_text("ascii").strip())
        except OSError:
            continue
    names = {str(path.resolve())}
    for line in lines:  # proc(5): number parent major:minor root mount-point … - type source options
        fields, _, behind = line.partition(" - ")
        words, source = fields.split(), behind.split()
        if len(words) > 4 and (words[2] in devices or (len(source) > 1 and source[1] in names)):
            return words[4].replace("\\040", " ")
    return ""
