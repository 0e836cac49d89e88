"""What tells of a file of a volume that is written: its records, what the log told of them, where its bytes are."""

from __future__ import annotations

from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ntfs.file_record import Stream
from sastrugi.volumes.ntfs.format_write import FormattedVolume
from sastrugi.volumes.ntfs.layout import DATA, FIRST_FREE, USA_AT, stored_at
from sastrugi.volumes.ntfs.plan import BOOT_BYTES, INDEX_BLOCK
from sastrugi.volumes.ntfs.record_writer import NtfsNode
from sastrugi.volumes.ntfs.spelled_names import SpelledNames
from sastrugi.volumes.ntfs.units import unit_map
from sastrugi.volumes.writer import Evidence, Habits, Trace


class TellingVolume(FormattedVolume):
    """A volume that tells where everything of it stands."""

    def map(self, node: NtfsNode) -> FileMap:
        if node.folder:
            return FileMap.of(self.run_extents(node.file.blocks.runs))
        stream = self._stream_of(node)
        if stream.inside is not None:
            return FileMap.of(self._inside_at(node, len(stream.inside)))
        extents = self.run_extents(stream.stored)
        if stream.unit:
            return unit_map(stream, self.cluster_size, self.run_extents)
        return FileMap.of(extents).head(stream.size)

    def _stream_of(self, node: NtfsNode) -> Stream:
        return node.file.streams[node.stream]

    def _inside_at(self, node: NtfsNode, size: int) -> tuple[Extent, ...]:
        """Where the bytes of a stream inside of its record stand."""
        found = self._inside_record(node)
        if found is None:
            return ()
        record = self._place(node.file.written[found[0]][0])
        parts = stored_at(0, 0, USA_AT, found[1], size)
        return tuple(piece for part in parts for piece in within(record, part.offset, part.length))

    def _inside_record(self, node: NtfsNode) -> tuple[int, int] | None:
        """In which of a file's records a stream stands, and at which byte of it."""
        for n, (_, attributes) in enumerate(node.file.written):
            at = 0
            while attributes[at : at + 4] != b"\xff\xff\xff\xff":
                length = int.from_bytes(attributes[at + 4 : at + 8], "little")
                chars, name_at = attributes[at + 9], int.from_bytes(attributes[at + 10 : at + 12], "little")
                name = attributes[at + name_at : at + name_at + 2 * chars].decode("utf-16-le") if chars else ""
                if attributes[at] == DATA and name == node.stream:
                    return n, self._packer.first + at + int.from_bytes(attributes[at + 20 : at + 22], "little")
                at += length
        return None

    def record(self, node: NtfsNode) -> tuple[Extent, ...]:
        numbers = (node.file.number, *(number for number, _ in node.file.extensions))
        return tuple(part for number in numbers for part in self._place(number))

    def needs(self, node: NtfsNode) -> tuple[Extent, ...]:
        return (*self.record(node), *self.run_extents(node.file.listing.runs))

    def evidence(self, node: NtfsNode) -> Evidence:
        where, told = self.record(node), self._told_by_log(node)
        own = (Trace("place", "whole", where), Trace("name", "full", where))
        return Evidence(where, (*own, *told.traces), told.copies)

    def _told_by_log(self, node: NtfsNode) -> Evidence:
        """What the log tells of a file as it is now, if all of that stands."""
        state = node.file
        where = tuple(part for one in state.logged for part in one)
        if len(state.logged) != len(state.written) or not state.logged or state.number < FIRST_FREE:
            return Evidence((), ())
        for (_, attributes), content in zip(state.written, state.logged_content, strict=True):
            if not self.image.read_extents(content).endswith(attributes):
                return Evidence((), ())  # newer records of the log stand there
        copies: tuple[FileMap, ...] = ()
        stream = None if node.folder else state.streams.get(node.stream)
        if stream is not None and stream.inside:
            inside = self._inside_record(node)
            if inside is not None:
                index, start = inside
                copies = (FileMap.of(within(state.logged_content[index], start, len(stream.inside))),)
        traces = (Trace("place", "whole", where, "log"), Trace("name", "full", where, "log"))
        return Evidence(where, traces, copies)

    def evidence_after(self, node: NtfsNode, habits: Habits) -> Evidence:
        if self.names_of(node) > 1:
            return Evidence((), ())
        return self.evidence(node)

    def spelled(self, node: NtfsNode, name: str, folder: NtfsNode) -> tuple[Trace, ...]:
        if self._spelled is None:
            self._spelled = SpelledNames(self.image, self._folders)
            for state in self._folders.values():
                laid, size = state.blocks.laid(self.run_extents), INDEX_BLOCK
                blocks = [laid.within(at, size) for at in range(0, state.blocks.size, size)]
                self._spelled.look_at_blocks([*blocks, *(self._place(number) for number, _ in state.written)])
            if self._journal is not None:
                self._spelled.look_at_changes(self.run_extents(self._journal.records.stored))
        places = self._spelled.of(folder.file.reference, name)
        return tuple(Trace("name", "full", where, "index or journal") for where in places)

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g = self.geometry
        names = {"logfile": "$LogFile", "attrdef": "$AttrDef", "bitmap": "$Bitmap", "upcase": "$UpCase"}
        found = {
            "boot": (Extent(g.offset, min(BOOT_BYTES, self.data.length)),),
            "backup-boot": (Extent(g.offset + g.sectors * g.sector, g.sector),),
            "mft": self._place(0),
            "mft-mirror": self.run_extents(self._system["$MFTMirr"].streams[""].runs),
            **{key: self.run_extents(self._system[name].streams[""].runs) for key, name in names.items()},
            "secure": self.run_extents(self._system["$Secure"].streams["$SDS"].runs),
        }
        root = self.run_extents(self.root.file.blocks.runs)
        return found | ({"root": root} if root else {})
