"""Sizes and counts as people write them: `4 GiB` is binary, `4 GB` decimal, exactly as written."""

from __future__ import annotations

import re
import unicodedata

from sastrugi.errors import SastrugiError

_BINARY = ("B", "KiB", "MiB", "GiB", "TiB", "PiB")
_FACTORS = {unit.lower(): 1024**n for n, unit in enumerate(_BINARY)} | {
    unit.lower(): 1000**n for n, unit in enumerate(("B", "kB", "MB", "GB", "TB", "PB"))
}
_UNPRINTABLE = ("Cc", "Cf", "Cs", "Zl", "Zp")
_FINE_SECONDS, _FINEST_SECONDS = 10, 0.1
_LARGEST, _LARGEST_TOLD, _MOST_DIGITS = (1 << 63) - 1, "8192 PiB", 30
_TIME, _SECONDS = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(s|min|h|d)?\s*"), {"s": 1, "min": 60, "h": 3600, "d": 86400}
_SIZE = re.compile(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]*)\s*")


def parse_size(text: str | int) -> int:
    """Bytes from `4 GiB`, `512`, `1.5 MB`; raises SastrugiError with the ways to write one."""
    if isinstance(text, int):
        text = str(text)
    match = _SIZE.fullmatch(text)
    factor = _FACTORS.get((match[2] or "B").lower()) if match else None
    if match is None or factor is None:
        raise SastrugiError(f"'{text}' is not a size: write a number and a unit, such as '64 MiB' or '2 GB'")
    if len(match[1]) > _MOST_DIGITS:
        raise SastrugiError(f"'{text[:40]}…' is not a size of anything: write one below {_LARGEST_TOLD}")
    value = int(float(match[1]) * factor) if "." in match[1] else int(match[1]) * factor
    if value > _LARGEST:
        raise SastrugiError(f"'{text}' is larger than anything can be: write a size below {_LARGEST_TOLD}")
    return value


def parse_seconds(text: str | float) -> float:
    """Seconds from `90`, `10 min`, `1.5 h`; raises SastrugiError with the ways to write them."""
    match = _TIME.fullmatch(str(text))
    if match is None or len(match[1]) > _MOST_DIGITS:
        raise SastrugiError(f"'{str(text)[:40]}' is no time: write a number and s, min, h or d, such as '10 min'")
    return float(match[1]) * _SECONDS[match[2] or "s"]


def parse_share(text: str | float) -> float:
    """A share from `0.95` or `95%`; raises SastrugiError with the ways to write one."""
    words = str(text).strip()
    try:
        share = float(words.removesuffix("%")) / (100 if words.endswith("%") else 1)
    except ValueError:
        share = -1.0
    if not 0 <= share <= 1:
        raise SastrugiError(f"'{words[:60]}' is no share: write 0.95 or 95%")
    return share


def format_size(count: int | float) -> str:
    """Bytes as a short binary size: `512 B`, `20.0 KiB`, `1.5 GiB`."""
    value = float(count)
    unit = _BINARY[0]
    for unit in _BINARY:
        if abs(value) < 1024 or unit == _BINARY[-1]:
            break
        value /= 1024
    if unit == "B":
        return f"{int(value)} B"
    return f"{value:.0f} {unit}" if value == int(value) else f"{value:.1f} {unit}"


def format_seconds(seconds: float | None) -> str:
    """A time as people say it: `0.4 s`, `12 s`, `3:05 min`, `2:03:05 h`."""
    if seconds is None:
        return "–"
    if seconds < _FINE_SECONDS:
        return f"{seconds:.1f} s" if seconds >= _FINEST_SECONDS else f"{seconds:.2f} s"
    minutes, left = divmod(round(seconds), 60)
    if not minutes:
        return f"{left} s"
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02d}:{left:02d} h" if hours else f"{minutes}:{left:02d} min"


def percent(share: float | None) -> str:
    """`94.1 %`; 100 and 0 only when they are exact."""
    if share is None:
        return "–"
    shown = f"{share * 100:.1f}"
    if shown == "100.0" and share < 1:
        shown = "99.9"
    if shown == "0.0" and share > 0:
        shown = "0.1"
    return f"{shown.removesuffix('.0')} %"


_EXACT = 1e-9
"""Percent."""


def span_of_shares(interval: tuple[float, float] | None) -> str:
    """`66–97`, in percent; with a decimal where whole numbers would say the same twice, and 100 and 0 only where they
    are exact. Empty for none."""
    if interval is None:
        return ""
    low, high = (100 * share for share in interval)
    whole = (
        round(low) != round(high) and (round(low) > 0 or low < _EXACT) and (round(high) < 100 or high > 100 - _EXACT)
    )
    return f"{low:.0f}–{high:.0f}" if whole else "–".join(percent(share).removesuffix(" %") for share in interval)


def points(difference: float) -> str:
    """The size of a difference of two shares: `36.6 percentage points`."""
    return f"{abs(100 * difference):.1f} percentage points"


def printable(text: str) -> str:
    """Text that a terminal or a text file can take: control characters and halves of characters as escapes."""
    if text.isprintable():
        return text
    kept = (char if unicodedata.category(char) not in _UNPRINTABLE else ascii(char)[1:-1] for char in text)
    return "".join(kept)


def plural(count: int, noun: str, many: str | None = None) -> str:
    """`1 file`, `2 files`, `1,234 files`; `many` for nouns that do not just take an s."""
    return f"{count:,} {noun if count == 1 else many or noun + 's'}"
