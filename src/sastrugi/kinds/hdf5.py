"""HDF5 files: the superblock tells the address of the end. Source: HDF5 File Format Specification 3.0, II.A."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"\x89HDF\r\n\x1a\n"


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 96)
    if head[:8] != _MARK or len(head) < 48 or head[8] > 3:
        return None
    if head[8] < 2:
        width, start = head[13], 24 + (4 if head[8] == 1 else 0)
    else:
        width, start = head[9], 12
    if width not in (2, 4, 8):
        return None
    base, _, end = (int.from_bytes(head[start + n * width : start + (n + 1) * width], "little") for n in range(3))
    if base or end < 48:
        return broken("hdf5", 8, "its superblock names an impossible end")
    if end > source.size:
        return broken("hdf5", source.size, "it reaches beyond the end")
    return Measure("hdf5", end, True, Proof.STRUCTURE, "length by the end address of the superblock")


def make(dice: Dice, size: int) -> bytes:
    import h5py

    out = io.BytesIO()
    with h5py.File(out, "w", track_order=False) as file:
        samples = dice.sound(max((size - 2200) // 2, 16), 1, 1000)[:, 0]
        file.create_dataset("radar", data=samples, track_times=False)
        file.attrs["place"] = dice.caption()
    return out.getvalue()


def check(path: Path) -> None:
    import h5py

    def read(name: str, item: object) -> None:
        if isinstance(item, h5py.Dataset):
            item[()]

    with h5py.File(path, "r") as file:
        file.visititems(read)


KIND = Kind(
    "hdf5", "HDF5 file", "data", ("h5", "hdf5"), "application/x-hdf5", "end address of the superblock", Proof.STRUCTURE,
    measure, (Signature(_MARK),), holds=Holds.ALL, make=make, check=check,
)  # fmt: skip
