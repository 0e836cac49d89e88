"""The up-case table that our volumes carry.

Source: exFAT specification, section 7.2. The table maps every character of the Unicode 3.2 database to its upper case,
where that is one character, so that it is the same under every version of Python; runs that map to themselves are
compressed (7.2.5).
"""

from __future__ import annotations

import unicodedata
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

_COMPRESSED = 0xFFFF
_old = unicodedata.ucd_3_2_0


@lru_cache(maxsize=1)
def upcase() -> NDArray[np.uint16]:
    """The upper case of each of the 65,536 code units."""
    out = np.arange(1 << 16, dtype=np.uint16)
    for code in range(0x61, 0xD800):
        upper = chr(code).upper()
        if len(upper) == 1 and upper != chr(code) and "Cn" not in (_old.category(chr(code)), _old.category(upper)):
            out[code] = ord(upper)
    return out


@lru_cache(maxsize=1)
def table_bytes() -> bytes:
    """The table as it stands on disk, compressed."""
    table = upcase()
    same = table == np.arange(1 << 16)
    edges = np.flatnonzero(np.diff(same)) + 1
    parts: list[NDArray[np.uint16]] = []
    bounds = [0, *edges.tolist(), 1 << 16]
    for lo, hi in pairwise(bounds):
        if same[lo] and hi - lo > 2 and lo >= 128:
            for at in range(lo, hi, 0xFFFE):
                parts.append(np.array([_COMPRESSED, min(hi - at, 0xFFFE)], np.uint16))
        else:
            parts.append(table[lo:hi])
    return np.concatenate(parts).astype("<u2").tobytes()
