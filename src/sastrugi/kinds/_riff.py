"""RIFF: chunks with lengths; also RIFX (big-endian) and RF64 (64-bit lengths).

Source: Microsoft/IBM, Multimedia Programming Interface 1.0; EBU Tech 3306.
"""

from __future__ import annotations

from collections.abc import Iterator
from struct import Struct

from sastrugi.kinds.base import Measure, Proof, Source, broken

CHUNK = Struct("<4sI")
_CHUNKS = {b"RIFF": CHUNK, b"RF64": CHUNK, b"RIFX": Struct(">4sI")}
_UNKNOWN_LENGTHS = (0, 0xFFFFFFFF)
_LARGE_SIZES = b"ds64"
_MAX_CHUNKS = 1_000_000


def chunks_in(source: Source, start: int, end: int, nested: bytes = b"") -> Iterator[tuple[bytes, int, int]]:
    """Name, start of the content and end of each chunk between two bytes, up to the first that is none; lists that are
    `nested` are gone into."""
    at = start
    for _ in range(_MAX_CHUNKS):
        head = source.unpack(CHUNK, at) if at + CHUNK.size <= end else None
        if head is None or not _is_name(head[0]) or at + CHUNK.size + head[1] > end:
            return
        inside = nested and head[0] == b"LIST" and source.read(at + CHUNK.size, 4) == nested
        yield head[0], at + CHUNK.size, at + CHUNK.size + head[1]
        at += CHUNK.size + (4 if inside else head[1] + (head[1] & 1))


def _is_name(name: bytes) -> bool:
    return all(32 <= byte < 127 for byte in name)


def measure_riff(source: Source, form: bytes, kind: str, needed: frozenset[bytes]) -> Measure | None:
    """Walk the chunks of a RIFF file of type `form`; `needed` chunks must be among them."""
    head = source.read(0, 12)
    if len(head) < 12 or head[:4] not in _CHUNKS or head[8:] != form:
        return None
    layout = _CHUNKS[head[:4]]
    declared: int = layout.unpack(head[:8])[1]
    large = b""
    if head[:4] == b"RF64" and source.read(12, 4) == _LARGE_SIZES:
        large = source.read(20, 16)
        declared = int.from_bytes(large[:8], "little")
    streamed = declared in _UNKNOWN_LENGTHS
    end = source.size if streamed else 8 + declared
    at = 12
    names: set[bytes] = set()
    for _ in range(_MAX_CHUNKS):
        if at + CHUNK.size > end:
            break
        chunk = source.unpack(layout, at)
        if chunk is not None and large and chunk == (b"data", 0xFFFFFFFF):
            chunk = (b"data", int.from_bytes(large[8:], "little"))
        if chunk is None or not _is_name(chunk[0]) or at + 8 + chunk[1] > end:
            if streamed and needed <= names:
                return Measure(kind, at, True, Proof.GUESS, "its length was never written; its chunks end here")
            return broken(kind, min(at, source.size), f"after {len(names)} sorts of chunks no valid one follows")
        names.add(chunk[0])
        at += 8 + chunk[1] + (chunk[1] & 1)
    if not needed <= names:
        return broken(kind, min(at, source.size), "a chunk that must be there is missing")
    if end > source.size:
        return broken(kind, source.size, "reaches beyond the end")
    return Measure(kind, end, True, Proof.STRUCTURE, f"{len(names)} sorts of chunks meet the length in the header")
