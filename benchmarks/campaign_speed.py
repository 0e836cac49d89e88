"""What trials, campaigns and ledgers cost besides the engines themselves.

    python benchmarks/campaign_speed.py [--trials 10000] [--folder DIR]

Overhead is what a trial takes besides its engine, in the median of ten on a small specimen. Two workers against one run
a campaign whose engine works for seconds. A ledger of so many trials of 300 files each is listed and plotted, each as a
whole process, against `cat` of the same ledger.
"""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from sastrugi.campaign.engines import shipped_engines
from sastrugi.campaign.ledger import open_ledger
from sastrugi.campaign.ledger.store import _row
from sastrugi.campaign.ledger.tables import scorecards, trials
from sastrugi.campaign.record import Trial
from sastrugi.campaign.trial import run_trial
from sastrugi.progress import Progress
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import load_recipe

CAMPAIGN = """campaign = 1
name = "busy"
engines = ["busy"]
keep-specimens = true
[[engine]]
name = "busy"
run = ["{python}", "-c", "import time; t = time.process_time()\\nwhile time.process_time() - t < 3: pass", "{{medium}}"]
[[specimens]]
recipe = "one-notebook"
vary = {{ seed = [1, 2, 3, 4, 5, 6, 7, 8] }}
"""


def seconds(*words: str | Path, cwd: Path) -> float:
    began = time.perf_counter()
    subprocess.run(list(map(str, words)), cwd=cwd, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def overhead(folder: Path) -> tuple[Trial, Scorecard]:
    build(load_recipe("camera-card"), folder / "s", Progress())
    engine = shipped_engines()["plain-reader"]
    found = [run_trial(folder / "s", engine, folder / f"t{n}", Progress()) for n in range(10)]
    told = statistics.median(trial.overhead for trial, _ in found)
    print(f"overhead of a trial on a card of 64 MiB: {told:.2f} s")
    return found[0]


def two_workers(folder: Path) -> None:
    (folder / "busy.toml").write_text(CAMPAIGN.format(python=sys.executable))
    took = []
    for jobs in (1, 2):
        into = folder / f"busy{jobs}"
        sastrugi = Path(sys.executable).with_name("sastrugi")
        words = ("campaign", "run", "busy.toml", "--into", into, "--jobs", str(jobs), "--ledger", "none")
        took.append(seconds(sastrugi, *words, cwd=folder))
    print(f"two workers against one, engines of 3 s: {took[0]:.1f} s, {took[1]:.1f} s, {took[0] / took[1]:.2f} times")


def large_ledger(folder: Path, count: int, trial: Trial, card: Scorecard) -> None:
    import zstandard

    files = tuple(
        card.files[n % len(card.files)].model_copy(update={"id": n, "path": f"/DCIM/FRN{n:05}.JPG"}) for n in range(300)
    )
    large = card.model_copy(update={"files": files})
    packed = zstandard.ZstdCompressor(level=3).compress(large.model_dump_json(by_alias=True).encode())
    path = folder / "large.ledger"
    with open_ledger(str(path)) as ledger, ledger._engine.begin() as connection:
        began = time.perf_counter()
        for n in range(count):
            one = trial.model_copy(
                update={
                    "id": f"{n:032x}",
                    "began": f"2031-{n // 900 + 1:02}-{n // 33 % 27 + 1:02}T08:00:00+00:00",
                    "engine": trial.engine.model_copy(update={"version": f"1.{n // 500}"}),
                }
            )
            connection.execute(trials.insert().values(**_row(one, large)))
            connection.execute(scorecards.insert().values(trial=one.id, scorecard=packed))
        made = time.perf_counter() - began
    sastrugi = Path(sys.executable).with_name("sastrugi")
    cat = seconds("cat", path, cwd=folder)
    size = path.stat().st_size / 1e6
    print(f"a ledger of {count:,} trials of 300 files: {size:.0f} MB, made in {made:.0f} s; cat {cat:.2f} s")
    for words in (("list",), ("list", "--limit", "0"), ("trend",), ("trend", "--out", "trend.png", "--replace")):
        took = statistics.median(seconds(sastrugi, "ledger", *words, "--ledger", path, cwd=folder) for _ in range(3))
        print(f"  ledger {' '.join(words)}: {took:.2f} s")
    print(json.dumps({"sastrugi --help": round(seconds(sastrugi, "--help", cwd=folder), 2)}))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--trials", type=int, default=10_000)
    parser.add_argument("--folder", type=Path, default=None)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=given.folder) as name:
        folder = Path(name)
        trial, card = overhead(folder)
        two_workers(folder)
        large_ledger(folder, given.trials, trial, card)


if __name__ == "__main__":
    main()
