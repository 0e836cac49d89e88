"""Steps by which people lose files: delete, send to the bin, empty it."""

from __future__ import annotations

import datetime as dt
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Literal
from urllib.parse import quote

from sastrugi.errors import SpecimenError
from sastrugi.specimen.builder import Content
from sastrugi.specimen.harm import discarding
from sastrugi.specimen.recipe_types import ActsAs, Patterns, Share, StepTable

if TYPE_CHECKING:
    from sastrugi.specimen.builder import SpecimenBuilder
    from sastrugi.specimen.laid_files import LaidFile, Slot

_BINS = {
    "windows": "/$Recycle.Bin/S-1-5-21-2031020317-1107150823-3301270041-1001",
    "macos": "/.Trashes/501",
    "linux": "/.Trash-1000",
}
_LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
_EPOCH_1601 = dt.datetime(1601, 1, 1)


class DeleteStep(StepTable):
    """Delete what the patterns name, a folder with all that is in it. With `discard`, the medium forgets what that sets
    free: it reads as zeros, as on solid-state media."""

    do: Literal["delete"]
    what: Patterns
    share: Share = 1.0
    acts_as: ActsAs = "linux"
    discard: bool = False

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, writer = builder.mounted(self.volume)
        with discarding(builder, place, self.discard):
            for laid in builder.choose(place, self.what, self.share):
                if laid.standing:  # a stream went with its file
                    builder.delete_tree(laid, self.acts_as)
            writer.flush()


class BinStep(StepTable):
    """Send files or folders to the bin. Windows gives them another name and keeps the right one in an index file (of
    version 1 or 2), Linux keeps the name and writes a text file, macOS only moves them."""

    do: Literal["bin"]
    what: Patterns
    share: Share = 1.0
    acts_as: ActsAs = "windows"
    index_version: Literal[1, 2] = 2

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, _ = builder.mounted(self.volume)
        root = _bin_of(self.acts_as)
        for laid in builder.choose(place, self.what, self.share):
            if laid.node.of is not None:
                continue  # a stream goes with its file
            if laid.end == "binned":
                raise SpecimenError(f"{laid.node.path} is in the bin already")
            below = [one for one in builder.standing(place) if one.node.path.startswith(laid.node.path + "/")]
            for one in (laid, *below):
                one.end = "binned"
            old = laid.path
            path, index = self._names(builder, place, laid, root)
            builder.rename(laid, path)
            if index is not None:
                kept = builder.store(place, index.name, index, role="index")
                for one in (laid, *below):
                    one.index, one.index_tells = kept, old

    def _names(self, builder: SpecimenBuilder, place: Slot, laid: LaidFile, root: str) -> tuple[str, Content | None]:
        """Where it goes in the bin, and the index file that goes with it."""
        old = PurePosixPath(laid.node.path)
        if self.acts_as == "windows":
            dice = builder.dice(f"bin {old} {builder.step}")
            tag = "".join(dice.pick(_LETTERS) for _ in range(6))
            suffix = "" if laid.folder else old.suffix
            data = windows_index(str(old), laid.size, builder.now, self.index_version)
            return f"{root}/$R{tag}{suffix}", _whole(f"{root}/$I{tag}{suffix}", data)
        folder = f"{root}/files" if self.acts_as == "linux" else root
        name = _free_name(builder, place, folder, old)
        if self.acts_as == "macos":
            return f"{folder}/{name}", None
        text = f"[Trash Info]\nPath={quote(str(old).lstrip('/'))}\nDeletionDate={builder.now:%Y-%m-%dT%H:%M:%S}\n"
        return f"{folder}/{name}", _whole(f"{root}/info/{name}.trashinfo", text.encode("ascii"))


class EmptyBinStep(StepTable):
    """Empty the bin: all that is in it, and its index files, are deleted. With `discard` as in a delete step."""

    do: Literal["empty-bin"]
    acts_as: ActsAs = "windows"
    discard: bool = False

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, writer = builder.mounted(self.volume)
        root = _bin_of(self.acts_as)
        folder = writer.find(root)
        inside = [builder.by_node[id(node)] for node in writer.walk(folder)] if folder else []
        if not any(one.end == "binned" for one in inside):
            raise SpecimenError(
                f"the bin {root} is empty: a 'bin' step with acts_as = '{self.acts_as}' must come first"
            )
        keep = {root, f"{root}/files", f"{root}/info"}
        with discarding(builder, place, self.discard):
            for one in reversed(inside):
                if one.node.path not in keep and one.node.of is None:
                    builder.delete(one, self.acts_as, "deleted" if one.role == "index" else "emptied")
            writer.flush()


def _bin_of(habits: str) -> str:
    if habits not in _BINS:
        raise SpecimenError(f"a {habits} has no bin: acts_as is one of {', '.join(_BINS)}")
    return _BINS[habits]


def _whole(name: str, data: bytes) -> Content:
    return Content(name, "other", len(data), lambda: iter((data,)))


def _free_name(builder: SpecimenBuilder, place: Slot, folder: str, old: PurePosixPath) -> str:
    assert place.writer is not None
    name, n = old.name, 2
    while place.writer.find(f"{folder}/{name}") is not None:
        name, n = f"{old.stem} {n}{old.suffix}", n + 1
    return name


def windows_index(path: str, size: int, when: dt.datetime, version: int) -> bytes:
    """An index file of the Windows bin: version, size, time of deletion (100 ns since 1601), original path.

    Version 1 keeps the path in 520 bytes, version 2 behind its length in characters (the final NUL counted).
    """
    ticks = int((when - _EPOCH_1601).total_seconds()) * 10_000_000
    head = b"".join(number.to_bytes(8, "little") for number in (version, size, ticks))
    text = ("E:" + path.replace("/", "\\") + "\0").encode("utf-16-le")
    if version == 1:
        return head + text[:518].ljust(520, b"\0")
    return head + (len(text) // 2).to_bytes(4, "little") + text
