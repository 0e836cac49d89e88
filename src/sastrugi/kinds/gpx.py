"""GPX tracks. Source: GPX 1.1 schema."""

from __future__ import annotations

from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.xml import check
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    """A sledge's way over the ice."""
    parts = [
        '<?xml version="1.0" encoding="UTF-8"?>\n<gpx version="1.1" creator="Firnline" xmlns="http://www.topografix.com/GPX/1/1">'
        f"\n<trk><name>{dice.word()} {dice.word()}</name><trkseg>\n"
    ]
    have, latitude, longitude, moment = len(parts[0]), -752_000_000, 118_000_000, dice.moment()
    while have < size - 24:
        latitude, longitude = latitude + dice.number(-900, 1000), longitude + dice.number(-900, 1500)
        place = f'lat="{latitude / 1e7:.7f}" lon="{longitude / 1e7:.7f}"'
        parts.append(f"<trkpt {place}><ele>{dice.number(1800, 2400)}</ele><time>{moment.isoformat()}Z</time></trkpt>\n")
        have += len(parts[-1])
    return ("".join(parts) + "</trkseg></trk>\n</gpx>\n").encode()


KIND = Kind(
    "gpx",
    "GPX track",
    "data",
    ("gpx",),
    "application/gpx+xml",
    "as xml",
    Proof.STRUCTURE,
    refines="xml",
    make=make,
    check=check,
)
