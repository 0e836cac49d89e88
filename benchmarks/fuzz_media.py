"""Damage media of every file system at random, and run the program on them: scan, extract, and now and then the rest.

    python benchmarks/fuzz_media.py [--rounds 20000] [--seed 1] [--jobs 2] [--keep FOLDER]

Each round takes a medium of a random recipe, damages it, and asks: does every command end in one line or in less found,
soon, in little memory, with nothing outside of its folder? What does not is kept with its medium. Prints a table of
counts, and leaves with 1 if there was a fault.
"""

from __future__ import annotations

import argparse
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.harm import damage, structures
from tests.recipes import FILE_SYSTEMS, random_recipe
from tests.warm import WarmProgram

from sastrugi.errors import SastrugiError
from sastrugi.progress import Progress
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe

ROUNDS_OF_A_MEDIUM, EVERY = 80, 20
MOST_SECONDS, MOST_BYTES, TIMES_THE_MEDIUM = 40.0, 500 << 20, 4
TABLES = ("mbr", "gpt", "apm")
WORDS = ("fault of Sastrugi", "Traceback", "Errno")


def medium_of(seed: int, name: str) -> Recipe:
    """A random recipe of a file system; of a scheme of partitions, two volumes in it."""
    if name not in TABLES:
        return random_recipe(seed, name, 8, "200 B..9 KiB")
    dice = random.Random(seed)
    first, second = dice.sample([one for one in FILE_SYSTEMS if one != "fat32"], 2)
    volumes = [{"name": "one", "size": "12 MiB"}, {"name": "two"}]
    steps: list[dict[str, object]] = [{"do": "partition", "table": name, "volumes": volumes}]
    for volume, file_system in (("one", first), ("two", second)):
        steps += [
            {"do": "format", "volume": volume, "file_system": file_system},
            {"do": "store", "volume": volume, "into": "/A", "corpus": {"files": 5, "size": "1 KiB..20 KiB"}},
            {"do": "delete", "volume": volume, "what": ["/A/*.*"], "share": 0.6},
        ]
    text = {"recipe": 1, "name": "parts", "title": "Parts", "seed": seed, "medium": {"size": "26 MiB"}, "steps": steps}
    return Recipe.model_validate(text)


def commands(number: int, whole: bool) -> list[list[str]]:
    """The commands of a round; some only now and then."""
    calls = [["scan", "m.img", "--out", "m.scan", "--as-is"]]
    if whole:
        calls += [["look", "m.img"], ["list", "m.scan", "--json"], ["list", "m.scan", "--why"]]
        calls += [["map", "m.scan", "--out", "out.png"]] if number % 80 == 0 else []
    return [*calls, *([["extract", "m.scan", "--into", "out", "--state", "any"]] if number % 2 == 0 else [])]


@cache
def the_program() -> WarmProgram:
    """One for each process of this benchmark."""
    return WarmProgram(str(Path(sys.executable).parent / "sastrugi"))


def some_rounds(task: tuple[str, int, int, str]) -> tuple[str, Counter[str], float, int, list[str]]:
    """Rounds on one medium: its name, counts, the slowest command, the most memory, and faults."""
    name, seed, rounds, keep = task
    counts: Counter[str] = Counter()
    slowest, most, faults = 0.0, 0, []
    program = the_program()
    with tempfile.TemporaryDirectory() as at:
        work = Path(at)
        try:
            build(medium_of(seed, name), work / "s", Progress())
        except SastrugiError:  # two volumes that do not fit, steps that find nothing
            return name, Counter({"refused": 1}), 0.0, 0, []
        sectors = structures(work / "s")
        (work / "told").mkdir()
        for number in range(rounds):
            dice = random.Random(f"{seed} {name} {number}")
            here = work / "here"
            here.mkdir()
            subprocess.run(["cp", "--sparse=always", work / "s" / "medium.img", here / "m.img"], check=True)
            damage(here / "m.img", sectors, dice)
            counts["media"] += 1
            problem = ""
            for words in commands(number, number % EVERY == 0):
                if words[0] not in ("look", "scan") and not (here / "m.scan").exists():
                    continue
                began = time.monotonic()
                try:
                    code, _, err = program.run(words, here, work / "told")
                except (OSError, ValueError):
                    problem = "no end"
                    break
                took = time.monotonic() - began
                slowest, most = max(slowest, took), max(most, program.memory)
                counts[f"{words[0]} left with {code}"] += 1
                fault = any(word in err for word in WORDS) or code not in (0, 1, 2, 3)
                if fault or took > MOST_SECONDS or program.memory > MOST_BYTES:
                    problem = f"{words[0]}: status {code}, {took:.1f} s, {program.memory >> 20} MiB: {err[-300:]}"
                    break
            problem = problem or strange(here)
            if problem:
                faults.append(f"{name} {seed} round {number}: {problem}")
                Path(keep).mkdir(exist_ok=True)
                shutil.copyfile(here / "m.img", Path(keep, f"{name}-{seed}-{number}.img"))
            shutil.rmtree(here)
    return name, counts, slowest, most, faults


def strange(folder: Path) -> str:
    """What a round left that should not be there."""
    others = sorted(path.name for path in folder.iterdir() if path.name not in ("m.img", "m.scan", "out", "out.png"))
    if others:
        return f"left {others}"
    taken = sum(path.lstat().st_blocks * 512 for path in (folder / "out").rglob("*"))
    most = TIMES_THE_MEDIUM * (folder / "m.img").stat().st_size + (8 << 20)
    return f"results of {taken:,} bytes" if taken > most else ""


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=20_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--keep", default="faults")
    call = parser.parse_args()
    names = [*FILE_SYSTEMS, *TABLES]
    tasks = [
        (names[number % len(names)], call.seed * 1_000_000 + number, ROUNDS_OF_A_MEDIUM, call.keep)
        for number in range(-(-call.rounds // ROUNDS_OF_A_MEDIUM))
    ]
    totals: dict[str, Counter[str]] = {name: Counter() for name in names}
    slowest, most, faults = dict.fromkeys(names, 0.0), dict.fromkeys(names, 0), []
    with ProcessPoolExecutor(call.jobs) as pool:
        for name, counts, took, memory, found in pool.map(some_rounds, tasks):
            totals[name] += counts
            slowest[name], most[name] = max(slowest[name], took), max(most[name], memory)
            for one in found:
                print(one, flush=True)
            faults += found
            if sum(total["media"] for total in totals.values()) % 2000 < ROUNDS_OF_A_MEDIUM:
                print(f"{sum(total['media'] for total in totals.values()):,} media, {len(faults)} faults", flush=True)
    print(f"{'':7}{'media':>8}{'commands':>10}{'slowest':>10}{'memory':>10}")
    for name in names:
        commands_run = sum(count for word, count in totals[name].items() if "left with" in word)
        print(f"{name:7}{totals[name]['media']:8,}{commands_run:10,}{slowest[name]:8.1f} s{most[name] >> 20:6} MiB")
    print(f"{len(faults)} faults")
    sys.exit(bool(faults))


if __name__ == "__main__":
    main()
