"""What partition types are called (`types.toml`)."""

from __future__ import annotations

from functools import cache
from uuid import UUID


@cache
def _names() -> dict[str, dict[str, str]]:
    import tomllib
    from importlib import resources

    return tomllib.loads((resources.files("sastrugi.media.partitions") / "types.toml").read_text("utf-8"))


@cache
def _mbr() -> dict[int, str]:
    return {int(number, 16): name for number, name in _names()["mbr"].items()}


def mbr_type_name(type_: int) -> str:
    return _mbr().get(type_, f"type {type_:#04x}")


def gpt_type_name(type_: UUID) -> str:
    return _names()["gpt"].get(str(type_), f"type {type_}")
