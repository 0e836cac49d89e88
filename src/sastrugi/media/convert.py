"""From one medium to an image in any container: only what holds data is read and written."""

from __future__ import annotations

from sastrugi.media.base import Medium
from sastrugi.media.containers.base import ContainerWriter
from sastrugi.progress import Progress

_STEP = 4 << 20
_ZEROS = bytes(_STEP)


def copy_medium(source: Medium, target: ContainerWriter, progress: Progress, start: int = 0) -> None:
    """Write what `source` holds from byte `start` on into `target`, and make that whole."""
    progress.start("copy", source.size)
    for extent in source.data_ranges(start):
        for at in range(extent.offset, extent.end, _STEP):
            data = source.read(at, min(_STEP, extent.end - at))
            if data != _ZEROS[: len(data)]:
                target.write(at, data)
            progress.at(at + len(data))
            progress.check()
    target.finish()
    progress.finish()
