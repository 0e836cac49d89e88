"""What a format lays down: the boot sector and the volume's own files."""

from __future__ import annotations

import datetime as dt
import heapq

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.media.extents import within
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import PIECE
from sastrugi.volumes.ntfs.change_journal import LIMITS as JOURNAL_LIMITS
from sastrugi.volumes.ntfs.change_journal import RECORDS as JOURNAL_RECORDS
from sastrugi.volumes.ntfs.change_journal import ChangeJournal, journal_clusters
from sastrugi.volumes.ntfs.file_record import FileState, Named, Stream, pack_name
from sastrugi.volumes.ntfs.index import Item
from sastrugi.volumes.ntfs.layout import (
    BITMAP,
    BOOT,
    BOOT_SIGNATURE,
    EXTEND,
    FIRST_FREE,
    MFT,
    OEM,
    ROOT,
    VOLUME_INFORMATION,
    VOLUME_NAME,
    WIN32_AND_DOS,
    Geometry,
)
from sastrugi.volumes.ntfs.log_write import LogWriter
from sastrugi.volumes.ntfs.plan import BOOT_BYTES, INDEX_BLOCK, log_size
from sastrugi.volumes.ntfs.record_writer import BATCH, NtfsNode, RecordWriter
from sastrugi.volumes.ntfs.spelled_names import SpelledNames
from sastrugi.volumes.ntfs.system_files import attribute_definitions, extended, order_of, security, upper_bytes
from sastrugi.volumes.writer import Habits

_MIRRORED = 4
_MOST_LABEL = 32
_SYSTEM = 6
"""Hidden and system."""


class FormattedVolume(RecordWriter):
    """A new volume. `_system` holds its own files by name."""

    def __init__(
        self, image: RawImage, geometry: Geometry, label: str, serial: int, when: dt.datetime, habits: Habits
    ) -> None:
        """Format the range of `geometry` (quick: only what the volume needs itself is written)."""
        super().__init__(image, geometry)
        self._habits = habits
        self._folders: dict[int, FileState] = {}
        self._journal: ChangeJournal | None = None
        self._spelled: SpelledNames | None = None
        """Where names stand, since the last flush."""
        self._format(label, serial, when)

    def _format(self, label: str, serial: int, when: dt.datetime) -> None:
        g, image = self.geometry, self.image
        if len(label.encode("utf-16-le")) > 2 * _MOST_LABEL:
            raise VolumeError(f"'{label}': an NTFS label has at most {_MOST_LABEL} characters")
        self.image.zero(g.offset, max(BOOT_BYTES, g.cluster))
        self._system: dict[str, FileState] = {}
        boot = self._fixed(0, BOOT_BYTES)
        bitmap_bytes = -(-g.clusters // 64) * 8
        self._mirrored = max(_MIRRORED, g.cluster // g.record)  # a whole cluster, as the drivers want it
        first_records = max(BATCH, self._mirrored)
        mirror = self._fixed(g.mirror, self._mirrored * g.record)
        table = self._fixed(g.mft, first_records * g.record)
        zone = g.mft + self.clusters_for(self.data.length // 8)
        self.clusters.last = min(zone, g.clusters // 4) + table.runs[0][1]
        log = self._claimed(log_size(self.where.length))
        self._log_extents = self.run_extents(log.runs)
        if self._habits == "windows":
            self._log = LogWriter(log.size, self._put_log)
        else:  # as the system's mkntfs leaves it: to be made by the first driver that writes one
            for extent in self._log_extents:
                for at in range(extent.offset, extent.end, 1 << 20):
                    image.write(at, b"\xff" * min(1 << 20, extent.end - at))
        self._bits = self._claimed(bitmap_bytes)
        self._record_bits = self._claimed(max(g.cluster, 8))
        self._record_bits.size = self._record_bits.valid = 8
        definitions = self._written(attribute_definitions())
        cases = self._written(upper_bytes())
        descriptors, views = security(INDEX_BLOCK, self._index_room)
        secured = self._written(descriptors)
        bad = Stream(g.clusters * g.cluster, 0, runs=[(-1, g.clusters)])
        nothing = Stream(inside=b"")
        self._table = table
        table.size = table.valid = 0
        self._make_records(first_records)
        version = bytes(8) + bytes([3, 1, 0, 0])
        files: tuple[tuple[str, dict[str, Stream]], ...] = (
            ("$MFT", {"": table}), ("$MFTMirr", {"": mirror}), ("$LogFile", {"": log}), ("$Volume", {"": nothing}),
            ("$AttrDef", {"": definitions}), (".", {}), ("$Bitmap", {"": self._bits}), ("$Boot", {"": boot}),
            ("$BadClus", {"": Stream(inside=b""), "$Bad": bad}), ("$Secure", {"$SDS": secured}),
            ("$UpCase", {"": cases}), ("$Extend", {}),
        )  # fmt: skip
        self._states = [
            FileState(n, max(n, 1), not streams, when, when, when, when, _SYSTEM, [], streams, cluster=g.cluster)
            for n, (_, streams) in enumerate(files)
        ]
        for n in range(len(files), 24):
            spare = FileState(n, n, False, when, when, when, when, _SYSTEM, streams={"": Stream(inside=b"")})
            self._states.append(spare)
        root = self._states[ROOT]
        self._states[MFT].outside.append((BITMAP, "", self._record_bits))
        self._states[3].more = [(VOLUME_NAME, "", label.encode("utf-16-le")), (VOLUME_INFORMATION, "", version)]
        self._states[9].views = views
        for state in (root, self._states[EXTEND]):
            state.index = self._new_index()
        self.root = NtfsNode("", None, True, 0, file=root)
        self._folders[root.reference] = root
        for state, (name, _) in zip(self._states, files, strict=False):
            named = Named(root.reference, name, WIN32_AND_DOS)
            state.names.append(named)
            assert root.index is not None
            root.index.insert(Item(order_of(name), pack_name(state, named), state.reference))
            self._system[name] = state
        self._extend(when)
        for number in range(self._first_given, first_records):
            heapq.heappush(self._free_records, number)
        for state in (root, self._states[EXTEND]):
            self._put_index(state)
        for state in self._states:
            self._put(state)
        self._write_boot(serial)
        self.flush()

    def _extend(self, when: dt.datetime) -> None:
        """The files in $Extend; Windows keeps a journal of changes there."""
        files: dict[str, FileState] = {}
        above = self._states[EXTEND]
        for name, views in extended(INDEX_BLOCK, self._index_room).items():
            files[name] = FileState(0, 1, False, when, when, when, when, _SYSTEM, views=views)
        if self._habits == "windows":
            count, step = journal_clusters(self.where.length, self.cluster_size)
            claimed = self._claimed(count * self.cluster_size)
            self._journal = ChangeJournal(claimed.runs, step, self.cluster_size, when, self._put_journal)
            streams = {JOURNAL_LIMITS: Stream(), JOURNAL_RECORDS: self._journal.records}
            files["$UsnJrnl"] = FileState(0, 1, False, when, when, when, when, _SYSTEM, [], streams)
        for state, (name, made) in zip(range(FIRST_FREE, FIRST_FREE + len(files)), files.items(), strict=True):
            made.number, made.cluster = state, self.cluster_size
            named = Named(above.reference, name, WIN32_AND_DOS)
            made.names.append(named)
            assert above.index is not None
            above.index.insert(Item(order_of(name), pack_name(made, named), made.reference))
            self._states.append(made)
            self._system[name] = made
        self._first_unused = FIRST_FREE + len(files)
        self._first_given = self._first_unused if self._habits == "windows" else 64
        self._close_journal()

    def _put_journal(self, stream: Stream, place: int, data: bytes) -> None:
        self.write_over(within(self.run_extents(stream.stored), place, len(data)), data)

    def _close_journal(self) -> None:
        """What the journal's own record tells of it."""
        if self._journal is not None and self._journal.changed:
            self._journal.changed = False
            state, limits = self._system["$UsnJrnl"], self._journal.limits
            state.streams[JOURNAL_LIMITS] = Stream(len(limits), len(limits), inside=limits)
            self._put(state)

    def _write_boot(self, serial: int) -> None:
        g = self.geometry
        boot = np.zeros((), BOOT)
        boot["jump"], boot["oem"], boot["sector"] = (0xEB, 0x52, 0x90), np.void(OEM), g.sector
        per_cluster = g.cluster // g.sector
        boot["cluster_sectors"] = per_cluster if per_cluster <= 0x80 else 256 - (per_cluster.bit_length() - 1)
        boot["media"], boot["track_sectors"], boot["heads"] = 0xF8, 63, 255
        boot["hidden"], boot["drive"], boot["extended"] = g.offset // g.sector & 0xFFFFFFFF, 0x80, 0x80
        boot["sectors"], boot["mft"], boot["mirror"] = g.sectors, g.mft, g.mirror
        for name, size in (("record_clusters", g.record), ("index_clusters", g.index)):
            boot[name] = size // g.cluster if size >= g.cluster else -(size.bit_length() - 1)
        boot["serial"] = serial | (serial ^ 0x5A5A5A5A) << 32
        data = boot.tobytes().ljust(510, b"\xf4") + BOOT_SIGNATURE.to_bytes(2, "little")
        self.image.write(g.offset, data.ljust(g.sector, b"\0"))
        self.image.write(g.offset + g.sectors * g.sector, data.ljust(g.sector, b"\0"))

    def flush(self) -> None:
        self._spelled = None
        for state in list(self._touched.values()):
            self._put(state)
        self._touched.clear()
        self._close_journal()
        if self._log is not None:
            self._log.close()
        length = -(-self.geometry.clusters // 64) * 8
        extents = self.run_extents(self._bits.runs)
        for index in sorted(self.clusters.changed):
            bits = np.packbits(self.clusters.piece(index), bitorder="little").tobytes()
            at = index * PIECE // 8
            bits = bits[: max(min(len(bits), length - at), 0)]
            if 8 * (at + len(bits)) > self.geometry.clusters:  # what is behind the last cluster counts as used
                ones = bytearray(bits)
                for n in range(self.geometry.clusters - 8 * at, 8 * len(bits)):
                    ones[n // 8] |= 1 << n % 8
                bits = bytes(ones)
            self.write_over(within(extents, at, len(bits)), bits)
        self.clusters.changed.clear()
        if self._record_bits_changed:
            self._record_bits_changed = False
            used = np.zeros(8 * self._record_bits.size, bool)
            used[: self._table.size // self.geometry.record] = True
            used[self._free_records] = False
            used[self._first_unused : self._first_given] = False
            self.write_over(self.run_extents(self._record_bits.runs), np.packbits(used, bitorder="little").tobytes())
