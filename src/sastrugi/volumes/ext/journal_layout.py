"""Blocks of a journal, after the kernel's documentation of its format (jbd2). All numbers are big-endian.

A transaction is a descriptor block, which names the blocks of the volume whose copies follow, perhaps more of both,
and a commit block. Blocks that became free are listed in revoke blocks: older copies of them count no more.
"""

from __future__ import annotations

import struct

import numpy as np

from sastrugi.volumes.ext.layout import raw_crc32c

JOURNAL_MAGIC = 0xC03B3998
MAGIC_BYTES = JOURNAL_MAGIC.to_bytes(4, "big")
DESCRIPTOR_BLOCK, COMMIT_BLOCK, SUPERBLOCK_1, SUPERBLOCK_2, REVOKE_BLOCK = 1, 2, 3, 4, 5
HAS_REVOKES, WIDE_NUMBERS, SUMS_2, SUMS_3 = 0x1, 0x2, 0x8, 0x10
"""Features that a reader must know."""
ESCAPED, SAME_UUID, FORGOTTEN, LAST = 1, 2, 4, 8
"""Flags of a tag: the copy's first four bytes are the magic's; no uuid follows; the block became free; no tag
follows."""
HEAD = struct.Struct(">III")
"""Magic, type of the block, number of its transaction."""
COMMIT = struct.Struct(">IIIBB2x32sQI")
"""The head, kind and size of checksums, the checksums, seconds and nanoseconds."""
UUID_SIZE, TAIL_SIZE, CRC32C_KIND = 16, 4, 4
JOURNAL_SUPERBLOCK = np.dtype(
    {
        "names": ["magic", "type", "transaction", "block", "length", "first", "sequence", "start", "error",
                  "compatible",
                  "incompatible", "read_only", "uuid", "users", "checksum_kind", "checksum", "user"],
        "formats": [">u4"] * 12 + ["V16", ">u4", "u1", ">u4", "V16"],
        "offsets": [0, 4, 8, 12, 16, 20, 24, 28, 32, 36, 40, 44, 48, 64, 80, 252, 256],
        "itemsize": 1024,
    }
)  # fmt: skip


def tag_size(features: int) -> int:
    """Bytes of a tag in a descriptor block."""
    if features & SUMS_3:
        return 16
    return 12 if features & WIDE_NUMBERS else 8


def copy_sum(seed: int, transaction: int, data: bytes) -> int:
    """The checksum of a block's copy."""
    return raw_crc32c(raw_crc32c(seed, transaction.to_bytes(4, "big")), data)
