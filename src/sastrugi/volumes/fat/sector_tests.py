"""Pieces of FAT folders, found anywhere by their shape.

Source: FAT specification 1.03, "FAT Directory Structure" and "FAT Long Directory Entries".
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.fat.layout import (
    ANYWHERE_IN_NAME,
    ATTR_DIRECTORY,
    ATTR_LONG_NAME,
    ATTR_LONG_NAME_MASK,
    ATTR_VOLUME_ID,
    DELETED,
    DIR_ENTRY,
    ENTRY_SIZE,
    FIRST_IN_NAME,
    LAST_LONG_ENTRY,
    LOWER_BASE,
    LOWER_EXTENSION,
    times_valid,
)

_MOST_LONG = 20
_MOST_TENTHS = 199
_FIRST_ANY = FIRST_IN_NAME.copy()
_FIRST_ANY[[ord("."), *range(1, 21), *range(0x41, 0x55)]] = True
_CASE = np.zeros(256, bool)
_CASE[[0, LOWER_BASE, LOWER_EXTENSION, LOWER_BASE | LOWER_EXTENSION]] = True
_DOTS = (b".".ljust(11), b"..".ljust(11))


def table_sectors(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """For each sector, shape (sectors, 512): whether all of it can be part of a folder's table, with a record in it.
    `heads` are their first 32 bytes once more."""
    out = np.zeros(len(sectors), bool)
    likely = np.flatnonzero(_CASE[heads[:, 12]])  # of random bytes one in 64 passes
    likely = likely[_likely(heads[likely])]
    if len(likely):
        likely = likely[_possible(heads[likely].reshape(-1).view(DIR_ENTRY))]
        entries = sectors[likely].reshape(-1).view(DIR_ENTRY).reshape(-1, sectors.shape[1] // ENTRY_SIZE)
        out[likely] = _whole_sectors(entries)
    return out


def _likely(heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """The same question about first entries of sectors, shape (sectors, 32), by few bytes of each, so that most are
    answered soon: a part of a long name by what is constant in it, a short entry by its month and day."""
    attr, low, high = heads[:, 11], heads[:, 24], heads[:, 25]
    month = low >> 5 | (high & 1) << 3
    out: NDArray[np.bool_] = (month >= 1) & (month <= 12) & (low & 31 != 0) & (attr & 0xC0 == 0)
    out |= (attr & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME) & (heads[:, 12] == 0) & (heads[:, 26] == 0)
    return out & _FIRST_ANY[heads[:, 0]]


def _possible(entries: NDArray[np.void]) -> NDArray[np.bool_]:
    """Which entries can be real: a short one, or a part of a long name. Any shape."""
    out: NDArray[np.bool_] = entries["attr"] & 0xC0 == 0
    out &= entries["name"][..., 0] != 0
    survivors = np.nonzero(out)
    left = entries[survivors]
    out[survivors] = _long(left) | _short(left)
    return out


def _long(entries: NDArray[np.void]) -> NDArray[np.bool_]:
    order = entries["name"][..., 0]
    number = order & ~np.uint8(LAST_LONG_ENTRY)
    fits: NDArray[np.bool_] = entries["attr"] & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME
    fits &= (entries["case"] == 0) & (entries["cluster_low"] == 0)
    fits &= (order == DELETED) | ((number >= 1) & (number <= _MOST_LONG))
    return fits


def _short(entries: NDArray[np.void]) -> NDArray[np.bool_]:
    name = entries["name"]
    good = FIRST_IN_NAME[name[..., 0]] & ANYWHERE_IN_NAME[name[..., 1:]].all(axis=-1)
    dots = np.zeros(good.shape, bool)
    for dot in _DOTS:
        dots |= (name == np.frombuffer(dot, "u1")).all(axis=-1)
    fits: NDArray[np.bool_] = (good | dots) & (entries["attr"] & ATTR_LONG_NAME_MASK != ATTR_LONG_NAME)
    fits &= _CASE[entries["case"]]
    fits &= entries["created_tenth"] <= _MOST_TENTHS
    fits &= times_valid(entries["modified_date"], entries["modified_time"])
    fits &= (entries["created_date"] == 0) | times_valid(entries["created_date"], entries["created_time"])
    fits &= (entries["attr"] & ATTR_DIRECTORY == 0) | (entries["size"] == 0)
    fits &= (entries["attr"] & ATTR_VOLUME_ID == 0) | (entries["size"] == 0)
    return fits


def _whole_sectors(entries: NDArray[np.void]) -> NDArray[np.bool_]:
    """Shape (sectors, 16): all entries possible up to an end mark, behind it nothing, and a short one among them."""
    used = entries["name"][..., 0] != 0
    behind_end = np.logical_or.accumulate(~used, axis=1)
    whole = (_possible(entries) | behind_end).all(axis=1) & ~(used & behind_end).any(axis=1)
    short = used & (entries["attr"] & ATTR_LONG_NAME_MASK != ATTR_LONG_NAME)
    out: NDArray[np.bool_] = whole & short.any(axis=1)
    return out
