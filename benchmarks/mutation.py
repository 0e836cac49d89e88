"""Whether the tests of the measure notice when the measure is wrong: a sample of mutants, each run against the tests.

    python benchmarks/mutation.py --sample 400 --seed 1 --into mutants-of-today

mutmut (pip install mutmut) changes one operator, constant, name or call of the measure at a time, and runs the tests
that reach that line. What to change and which tests to run stands in pyproject.toml ([tool.mutmut]). A mutant is
caught if a test fails or hangs. docs/mutants.md lists those that stayed, with the reason; --least makes it a gate.
The folder may be used again: mutants that were tried are not tried again. `--quick` tries those of the arithmetic
alone, in seconds each.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections import Counter, defaultdict
from pathlib import Path

ROOT = Path(__file__).parent.parent
CAUGHT = {1, 3, -24, 24, 36, 152, 255, -9}
"""Exit statuses of a run of tests that a mutant did not pass: failed, or took far too long."""
ENVIRONMENT = {**os.environ, "SASTRUGI_TESTS_IN_PROCESS": "1"}
"""What is changed is loaded in the process of the tests: commands that they call run there, too."""
NEEDED = ("src", "tests", "docs", "pyproject.toml", "README.md", "LICENSE")
KNOWN = ROOT / "docs" / "mutants.md"
QUICK = ("significance", "damage", "groups", "floors", "calibration", "matching", "times", "names", "paired")
QUICK_TESTS = ("tests/test_figures.py", "tests/test_significance.py")


def prepared(into: Path, quick: bool) -> None:
    """The files of this repository in a folder of their own, where mutmut may write."""
    if not into.is_dir() or not any(into.iterdir()):
        into.mkdir(parents=True, exist_ok=True)
        for name in NEEDED:
            source = ROOT / name
            (shutil.copytree if source.is_dir() else shutil.copy)(source, into / name)
    if quick:
        text = (into / "pyproject.toml").read_text()
        files = ", ".join(f'"src/sastrugi/scoring/{name}.py"' for name in QUICK)
        tests = ", ".join(f'"{name}"' for name in QUICK_TESTS)
        text = re.sub(r"only_mutate = \[.*?\]", f"only_mutate = [{files}]", text, flags=re.S)
        text = re.sub(r"test_selection = \[.*?\]", f"test_selection = [{tests}]", text, flags=re.S)
        (into / "pyproject.toml").write_text(text)


def mutmut(into: Path, names: list[str], jobs: int) -> None:
    words = [sys.executable, "-m", "mutmut", "run", "--max-children", str(jobs), *names]
    with (into / "mutmut.log").open("ab") as log:
        subprocess.run(words, cwd=into, env=ENVIRONMENT, stdout=log, stderr=log, stdin=subprocess.DEVNULL, check=False)


def statuses(into: Path) -> dict[str, int | None]:
    """The exit status of the tests by mutant; None where it was not tried."""
    out: dict[str, int | None] = {}
    for path in sorted((into / "mutants").rglob("*.meta")):
        out |= json.loads(path.read_text())["exit_code_by_key"]
    return out


def module_of(name: str) -> str:
    return name.rpartition(".")[0].removeprefix("sastrugi.")


def change_of(into: Path, name: str) -> str:
    """What a mutant changes, as the changed lines."""
    words = [sys.executable, "-m", "mutmut", "show", name]
    text = subprocess.run(words, cwd=into, capture_output=True, text=True, check=False).stdout
    lines = [line for line in text.splitlines() if re.match(r"[-+](?![-+])", line)]
    return "\n".join(lines)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--sample", type=int, default=400, help="mutants to try [400]")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--into", type=Path, help="a folder to work in, and to go on with [a temporary one]")
    parser.add_argument("--least", type=float, default=0.0, help="leave with 1 if a smaller share is caught")
    parser.add_argument("--quick", action="store_true", help="the arithmetic of the figures alone")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        into = given.into or Path(temporary) / "work"
        prepared(into, given.quick)
        mutmut(into, ["no-such-mutant"], given.jobs)  # makes them all, and learns which tests reach which
        every = statuses(into)
        if not every:
            sys.exit((into / "mutmut.log").read_text("utf-8", "replace")[-3000:])
        drawn = random.Random(given.seed).sample(sorted(every), min(given.sample, len(every)))
        wanted = [name for name in drawn if every[name] is None]
        if wanted:
            mutmut(into, wanted, given.jobs)
        tried = {name: status for name, status in statuses(into).items() if name in set(drawn) and status is not None}
        sys.exit(report(into, tried, len(every), given.least))


def report(into: Path, tried: dict[str, int], every: int, least: float) -> int:
    """Print what was caught; the exit status."""
    from sastrugi.scoring.significance import wilson

    known = KNOWN.read_text("utf-8") if KNOWN.is_file() else ""
    left = {name: change_of(into, name) for name, status in tried.items() if status not in CAUGHT}
    explained = {name for name in left if f"`{name}`" in known}
    modules: defaultdict[str, Counter[str]] = defaultdict(Counter)
    for name in tried:
        modules[module_of(name)]["stayed" if name in left else "caught"] += 1
    for module, counts in sorted(modules.items()):
        print(f"{module:40} {counts['caught']:5} caught {counts['stayed']:4} stayed")
    for name, change in left.items():
        print(f"\n{name}{' (explained)' if name in explained else ''}\n{change}")
    caught = len(tried) - len(left)
    low, high = wilson(caught, len(tried)) or (0.0, 0.0)
    share = (caught + len(explained)) / len(tried) if tried else 0.0
    print(
        f"\n{caught} of {len(tried)} caught ({caught / max(len(tried), 1):.1%}; 95 %: {low:.1%} to {high:.1%}), "
        f"{len(explained)} of the others explained; {every:,} mutants in all"
    )
    return int(share < least)


if __name__ == "__main__":
    main()
