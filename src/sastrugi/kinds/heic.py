"""HEIC photographs. Source: ISO/IEC 23008-12 (HEIF)."""

from __future__ import annotations

from sastrugi.kinds._still_boxes import check_heif, make_heif
from sastrugi.kinds.base import Kind, Proof

KIND = Kind(
    "heic", "HEIC photograph", "picture", ("heic", "heif"), "image/heic", "as mp4", Proof.STRUCTURE, refines="mp4",
    make=make_heif, check=check_heif,
)  # fmt: skip
