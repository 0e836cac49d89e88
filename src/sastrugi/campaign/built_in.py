"""The built-in engine as a program: scan a medium, and bring back what was lost. It is called like any other."""

from __future__ import annotations

import sys
from pathlib import Path

from sastrugi.errors import SastrugiError
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.extract import extract
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.select import Selection


def main(medium: str, results: str, scratch: str, passes: str) -> int:
    """0 done, 3 parts of the medium could not be read, 2 not done."""
    scan_path = Path(scratch, "engine.scan")
    try:
        with open_medium(medium) as opened:
            scan(opened, scan_path, Progress(), passes.split(","))
            with ScanFile.open(scan_path) as found:
                lost = Selection("lost")
                if any(True for _ in lost.iterate(found, "number")):
                    extract(opened, lost.pick(found), Path(results), Progress())
            return 3 if opened.unread else 0
    except (SastrugiError, OSError) as error:
        print(f"sastrugi: {error}", file=sys.stderr)
        return 2


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
