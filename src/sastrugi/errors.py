"""The one error tree of Sastrugi.

Every message says what is wrong, where (path, offset, line) and what to do about it. The command line prints it
as one line and leaves with `exit_code`; nothing else may reach the user as a traceback.
"""

from __future__ import annotations


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
