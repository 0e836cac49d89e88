"""Boot sectors as most systems write them: a jump, boot code, and a signature at the end."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium

_SIGNATURE = 0xAA55


def boots_in(sectors: NDArray[np.uint8], _heads: NDArray[np.uint8] | None = None) -> NDArray[np.bool_]:
    """Which sectors, shape (sectors, 512), end as a boot sector does and begin with a jump."""
    out: NDArray[np.bool_] = sectors[:, 510:512].view("<u2")[:, 0] == _SIGNATURE
    ends = np.flatnonzero(out)
    out[ends] = (sectors[ends, 0] == 0xEB) | (sectors[ends, 0] == 0xE9)
    return out


def copies_at(*sectors: int) -> Callable[[Medium, int], Iterable[tuple[int, bool]]]:
    """Where a volume begins of which copies of the boot sector stand so many sectors behind its first."""
    return lambda medium, at: [(at - back * medium.sector, back > 0) for back in sectors]
