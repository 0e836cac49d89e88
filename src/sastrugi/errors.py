"""The one error tree of Sastrugi.

Every message says what is wrong, where (path, offset, line) and what to do about it. The command line prints it
as one line and leaves with `exit_code`; nothing else may reach the user as a traceback.
"""

from __future__ import annotations

import errno

_SYSTEM_WORDS = {
    errno.EACCES: "no permission",
    errno.EPERM: "the system does not allow it",
    errno.ENOENT: "there is no such file or folder",
    errno.ENOTDIR: "a part of its path is a file, and no folder",
    errno.EISDIR: "it is a folder",
    errno.EEXIST: "it is there already",
    errno.ENOTEMPTY: "the folder is not empty",
    errno.ENOSPC: "no room is left there",
    errno.EDQUOT: "the quota there is used up",
    errno.EFBIG: "the file system there holds no file that large",
    errno.EROFS: "nothing can be written there: it is read-only",
    errno.EIO: "the device reports a fault",
    errno.ENXIO: "the device is gone",
    errno.ENODEV: "the device is gone",
    errno.EBUSY: "something else uses it",
    errno.ETXTBSY: "something else uses it",
    errno.EMFILE: "too many files are open at once",
    errno.ENFILE: "too many files are open at once",
    errno.ENAMETOOLONG: "the name is too long",
    errno.ELOOP: "its links lead in a circle",
    errno.EXDEV: "it lies on another device",
    errno.ENOMEM: "there is not enough memory",
    errno.EINVAL: "the system cannot do that with it",
    errno.EILSEQ: "the file system there cannot hold such a name",
    errno.EOPNOTSUPP: "the file system there cannot do that",
}


def system_words(error: OSError) -> str:
    """What the system says no to, in words of ours."""
    number = error.errno or 0
    return _SYSTEM_WORDS.get(number) or (error.strerror or "the system refuses").lower()


class SastrugiError(Exception):
    """The input or the call is wrong; `exit_code` is the command's exit status."""

    exit_code = 2


class MediumError(SastrugiError):
    """A medium cannot be opened or is not one."""


class VolumeError(SastrugiError):
    """A file system cannot be written or read as asked."""


class KindError(SastrugiError):
    """A kind of file is unknown or cannot be made."""


class RecipeError(SastrugiError):
    """A recipe is not valid; the message names the line."""


class SpecimenError(SastrugiError):
    """A specimen folder, or its truth, is not what it should be."""


class ScanFileError(SastrugiError):
    """A scan file cannot be used."""


class EngineError(SastrugiError):
    """An engine, a trial or a campaign cannot be used as it is said."""


class LedgerError(SastrugiError):
    """A ledger cannot be opened or written."""


class DestinationError(SastrugiError):
    """A place to write to is not acceptable."""


class Unfinished(SastrugiError):
    """Work that can be continued; `go_on` is the line that does."""

    def __init__(self, message: str, go_on: str = "") -> None:
        super().__init__(message)
        self.go_on = go_on


class DestinationFull(Unfinished):
    """There is no room for more; what was written is whole and listed."""


class Interrupted(Unfinished):
    """The user stopped a long command."""

    exit_code = 130
