"""What a scan found, and how: its limits, volumes and lives, counts by pass, group and confidence."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.text import Text

from sastrugi.report.findings import tally_table
from sastrugi.report.style import FAINT
from sastrugi.report.tables import volume_json, volume_table
from sastrugi.units import format_size, printable

if TYPE_CHECKING:
    from sastrugi.recovery.scan_file import ScanFile

_BY = ("pass", "group", "confidence")


def scan_view(name: str, scan: ScanFile) -> RenderableType:
    facts = scan_json(scan)
    lines = [
        f"medium {_near(facts['medium'])}, {format_size(facts['medium_size'])}",
        f"{facts['state']} after {facts['seconds']:.2f} s; passes {', '.join(facts['passes'])}",
        f"limits: {_limits(facts)}",
    ]
    if facts["unread"]:
        lines.append(
            f"could not be read: {format_size(sum(length for _, length in facts['unread']))} "
            f"in {len(facts['unread']):,} places, the first at {facts['unread'][0][0]:,}"
        )
    lines += facts["notes"]
    if facts["selections"]:
        lines.append(f"saved selections: {', '.join(facts['selections'])}")
    tables = [tally_table(by, scan.tally(by, "1")) for by in _BY]
    volumes = volume_table("Volumes and earlier lives", facts["medium_size"], scan.volumes())
    return Group(
        Text(printable(name), style="bold"), *(Text(printable(line), FAINT) for line in lines), volumes, *tables
    )


def _near(path: str) -> str:
    """A path from here where it is below."""
    there, here = Path(path), Path.cwd()
    return str(there.relative_to(here)) if there.is_relative_to(here) else path


def _limits(facts: dict[str, Any]) -> str:
    return ", ".join(f"{key.replace('_', ' ')} {value}" for key, value in facts["limits"].items()) or "none"


def scan_json(scan: ScanFile) -> dict[str, Any]:
    return {
        "medium": printable(str(scan.medium_path)),
        "medium_size": scan.number("medium_size"),
        "state": scan.get("state"),
        "seconds": scan.seconds(),
        "passes": scan.get("passes").split(","),
        "limits": scan.facts("limits"),
        "unread": scan.ranges("unread"),
        "notes": scan.notes(),
        "selections": list(scan.selections()),
        "volumes": [volume_json(volume) for volume in scan.volumes()],
        **{f"by_{by}": [asdict(one) for one in scan.tally(by, "1")] for by in _BY},
    }
