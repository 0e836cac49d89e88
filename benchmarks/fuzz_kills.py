"""Kill a campaign at random moments, again and again, and see that it ends as one that nobody killed.

    python benchmarks/fuzz_kills.py [--kills 40] [--seed 1]

Each run is killed with all that it started still at work; the next one goes on. In the end every trial must be there
once, with the same scores, the ledger must be whole, and nothing may be left beside it. Leaves with 1 if not.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

CAMPAIGN = """campaign = 1
name = "kills"
specimens = [{recipe = "one-notebook"}, {recipe = "camera-card"}, {recipe = "quick-format"}]
engines = ["fast-look", "plain-reader", "all-passes"]
"""
PROGRAM = str(Path(sys.executable).parent / "sastrugi")


def run(folder: Path, *words: str) -> str:
    done = subprocess.run([PROGRAM, *words], cwd=folder, capture_output=True, text=True)
    if done.returncode not in (0, 1) or "fault of Sastrugi" in done.stderr:
        sys.exit(f"{words}: status {done.returncode}: {done.stderr[-500:]}")
    return done.stdout


def outcome(folder: Path) -> list[tuple[object, ...]]:
    """What the ledger tells of each trial, but for time and number."""
    rows = json.loads(run(folder, "ledger", "list", "--json"))
    return sorted((row["specimen"], row["engine"], row["outcome"], row["intact"], row["files"]) for row in rows)


def processes_of(folder: Path) -> list[str]:
    found = []
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            if str(folder).encode() in path.read_bytes():
                found.append(path.parent.name)
        except OSError:
            continue
    return found


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--kills", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    call = parser.parse_args()
    dice = random.Random(call.seed)
    with tempfile.TemporaryDirectory() as at:
        folders = [Path(at, name) for name in ("undisturbed", "killed")]
        for folder in folders:
            folder.mkdir()
            (folder / "campaign.toml").write_text(CAMPAIGN)
        words = ["campaign", "run", "campaign.toml", "--into", "made"]
        began = time.monotonic()
        run(folders[0], *words)
        whole = time.monotonic() - began
        kills = 0
        while kills < call.kills:
            process = subprocess.Popen(
                [PROGRAM, *words], cwd=folders[1], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
            )
            try:
                said = process.communicate(timeout=dice.uniform(0.3, 0.4 * whole))[1]
            except subprocess.TimeoutExpired:
                os.kill(process.pid, signal.SIGKILL)
                process.communicate()
                kills += 1
                continue
            if process.returncode not in (0, 1):
                sys.exit(f"after {kills} kills: status {process.returncode}: {said[-500:]}")
            if process.returncode == 0:  # it was whole: begin anew with what it left taken away
                subprocess.run(["rm", "-rf", "made", "trials.ledger"], cwd=folders[1], check=True)
        run(folders[1], *words)
        run(folders[1], "ledger", "verify")
        time.sleep(1)
        left = [path.name for path in folders[1].rglob(".*") if path.name != ".gitignore"]
        told = [outcome(folder) for folder in folders]
        if told[0] != told[1] or left or processes_of(folders[1]):
            sys.exit(f"not the same: {told}, left {left}, at work {processes_of(folders[1])}")
        print(f"{kills} kills: {len(told[0])} trials as without them, ledger whole, nothing left")


if __name__ == "__main__":
    main()
