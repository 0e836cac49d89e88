"""A scan: the passes in order, each finding into the scan file, from where an earlier run stopped."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from sastrugi.errors import Interrupted, MediumError, SastrugiError, ScanFileError
from sastrugi.media import Medium
from sastrugi.progress import Progress
from sastrugi.recovery.context import ScanContext
from sastrugi.recovery.findings import PASSES
from sastrugi.recovery.layout import find_places, missing_bytes
from sastrugi.recovery.limits import Limits
from sastrugi.recovery.passes import PASSES as passes_in_order
from sastrugi.recovery.scan_file import ScanFile, medium_identity, remove_scan_file
from sastrugi.recovery.weighing import state_confidence


@dataclass(frozen=True, slots=True)
class ScanResult:
    """What a scan did, for the one who asked for it."""

    path: Path
    findings: dict[str, int]
    seconds: float
    bytes_swept: int


def scan(
    medium: Medium,
    out: Path,
    progress: Progress,
    passes: Iterable[str] = PASSES,
    go_on: bool = False,
    as_is: bool = False,
    limits: Limits | None = None,
    replace: bool = False,
    weigh: Callable[[ScanFile], None] = state_confidence,
    effort: float = 1.0,
) -> ScanResult:
    """Scan `medium` into the scan file `out`.

    `go_on` continues an unfinished scan file, with the limits it was begun with.
    `replace` makes a new one in the place of one that is there. `as_is` accepts a medium that is shorter than its own
    tables say. `weigh` states confidences once all is found (see `weighing`). `effort` is
    how much of the usual work goes into putting pieces together (see `effort`); it stays with the scan file.
    Raises MediumError for such a medium otherwise, ScanFileError for a scan file that does not fit, and
    Interrupted (with everything saved) when `progress` asks to stop. A scan that fails at once leaves no file.
    """
    began = time.monotonic()
    places = find_places(medium)
    missing = missing_bytes(medium, places)
    if missing > 0 and not as_is:
        raise MediumError(
            f"{medium.path}: cut short: its own tables speak of {missing:,} bytes more than the {medium.size:,} "
            "there are; add --as-is to scan what is there"
        )
    wanted = [name for name in PASSES if name in set(passes) | {"layout"}]
    limits = limits or Limits()
    limits.check(medium)
    if replace and not go_on:
        remove_scan_file(out)
    with _open(out, medium, wanted, go_on, limits, effort) as scan_file:
        try:
            named = scan_file.get("passes").split(",")
            for name in named:
                if name not in PASSES:
                    raise ScanFileError(f"{out}: is damaged: '{name[:40]}' is no pass")
            chosen = [one for one in passes_in_order if one.name in named]
            needs = frozenset().union(*(one.needs for one in chosen))
            run = ScanContext(
                medium, scan_file, places, Limits.read(scan_file.get("limits")), progress, needs, scan_file.effort()
            )
            for step, one in enumerate(chosen, 1):
                progress.stage = f"{step}/{len(chosen)} {one.name}"
                if scan_file.get(f"done_{one.name}") != "yes":
                    one.run(run)
                    scan_file.put(f"done_{one.name}", "yes")
                    scan_file.commit()
            weigh(scan_file)
            scan_file.put("unread", json.dumps(list(medium.unread)))
            scan_file.put("seconds", f"{scan_file.seconds() + time.monotonic() - began:.3f}")
            scan_file.finish()
        except (KeyboardInterrupt, Interrupted):
            scan_file.commit()
            raise Interrupted(f"stopped; what was found so far is in {out}") from None
        except SastrugiError:
            if not go_on and not scan_file.last_number():
                remove_scan_file(out)
            raise
        return ScanResult(out, scan_file.counts(), time.monotonic() - began, run.swept)


def _open(out: Path, medium: Medium, passes: list[str], go_on: bool, limits: Limits, effort: float) -> ScanFile:
    if not go_on:
        return ScanFile.create(out, medium, passes, {"limits": limits.text(), "effort": f"{effort:g}"})
    scan_file = ScanFile.open(out, for_writing=True)
    if scan_file.finished:
        raise ScanFileError(f"{out}: this scan is finished: see it with 'sastrugi list {out}'")
    if scan_file.get("medium_identity") != medium_identity(medium):
        raise ScanFileError(
            f"{out}: was begun on another medium ({scan_file.get('medium')}), or the medium has changed since"
        )
    return scan_file
