"""`sastrugi trial`: run a program on a specimen, score what it brings back, and keep it."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, quoted, say, show, show_json
from sastrugi.cli.ledger import LedgerOption, keep_in_ledger, missing_in_ledger
from sastrugi.cli.score_options import LeaveOutOption, RootOption, SetOption, SpecimenArgument, TableOption
from sastrugi.cli.targets import ReplaceOption

if TYPE_CHECKING:
    from sastrugi.campaign.by_hand import TakenBack
    from sastrugi.campaign.record import Trial
    from sastrugi.scoring.scorecard import Scorecard

_HELP = """Run a program on a copy of a specimen's medium, measure it, score what it brought back, and keep all of it.

\b
Example: sastrugi trial specimen --engine fast-look
With no --engine, those that there are are listed. A program with windows, or elsewhere:
  sastrugi trial specimen --by-hand "NAME 1.2" --into trial       hands the medium out
  sastrugi trial specimen --go-on trial --results DIR --time "12 min"   takes the results back
Leaves with 1 where the program wrote to the medium; a crash or a limit is an outcome."""


def register(app: typer.Typer) -> None:
    app.command("trial", help=_HELP)(trial)


def trial(
    specimen: SpecimenArgument,
    engine: Annotated[str, typer.Option(help="The engine to run.", metavar="NAME")] = "",
    engines: Annotated[
        Path | None, typer.Option(help="A TOML text with further engines.", metavar="FILE", show_default=False)
    ] = None,
    by_hand: Annotated[
        str, typer.Option("--by-hand", help="A program that a person runs: its name and version.", metavar="TEXT")
    ] = "",
    go_on: Annotated[
        Path | None, typer.Option("--go-on", help="The folder of a by-hand trial, to end it.", metavar="DIR")
    ] = None,
    results: Annotated[
        Path | None, typer.Option(help="By hand: the folder with what came back.", metavar="DIR")
    ] = None,
    taken: Annotated[str, typer.Option("--time", help="By hand: how long it took: '12 min'.", metavar="TIME")] = "",
    stopwatch: Annotated[
        bool, typer.Option("--stopwatch", help="By hand: measure the time between two keystrokes.")
    ] = False,
    options: Annotated[str, typer.Option(help="By hand: the program's options.", metavar="TEXT")] = "",
    outcome: Annotated[
        str, typer.Option(help="By hand: how it ended: done, partly, nothing, failed, crashed.", metavar="WORD")
    ] = "done",
    medium_back: Annotated[
        Path | None,
        typer.Option("--medium-back", help="By hand: the medium afterwards, an image or a card.", metavar="FILE"),
    ] = None,
    device: Annotated[
        Path | None,
        typer.Option(help="By hand: write the medium onto this card (with --write-device).", metavar="DEVICE"),
    ] = None,
    write_device: Annotated[bool, typer.Option("--write-device", help="Yes, what is on the card may go.")] = False,
    notes: Annotated[str, typer.Option(help="What else is worth keeping.", metavar="TEXT")] = "",
    into: Annotated[
        Path | None, typer.Option(help="The new folder [default: SPECIMEN.ENGINE.trial].", metavar="DIR")
    ] = None,
    replace: ReplaceOption = False,
    files_of: SetOption = "lost",
    table: TableOption = None,
    leave_out: LeaveOutOption = None,
    results_root: RootOption = None,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.campaign.by_hand import TakenBack
    from sastrugi.errors import EngineError
    from sastrugi.units import parse_seconds

    if sum(map(bool, (engine, by_hand, go_on))) > 1:
        raise EngineError("--engine, --by-hand and --go-on are three ways: give one of them")
    if go_on is None and (results is not None or medium_back is not None or taken):
        raise EngineError("--results, --time and --medium-back end a by-hand trial: name its folder with --go-on DIR")
    if by_hand:
        _hand_out(specimen, by_hand, into, device, write_device, replace, as_json, stopwatch)
        return
    if go_on is not None:
        if results is None:
            raise EngineError("what came back is missing: name its folder with --results DIR")
        if outcome not in ("done", "partly", "nothing", "failed", "crashed"):
            raise EngineError(f"'{outcome[:40]}' is no outcome: say done, partly, nothing, failed or crashed")
        said = TakenBack(parse_seconds(taken) if taken else _measured(go_on), options, notes, outcome, medium_back)
        _take_back(specimen, go_on, results, said, files_of, table, leave_out, results_root, into, ledger, as_json)
        return
    if not engine:
        _list_engines(engines, as_json)
        return
    _run(specimen, engine, engines, into, replace, files_of, leave_out, notes, ledger, as_json)


def _list_engines(engines: Path | None, as_json: bool) -> None:
    from sastrugi.campaign.engines import load_engines
    from sastrugi.report.style import table

    known = load_engines(engines)
    if as_json:
        show_json([engine.model_dump(mode="json", by_alias=True) for engine in known.values()])
        return
    out = table(keys=("Engine",))
    for name in ("Engine", "Version", "What it runs"):
        out.add_column(name, no_wrap=name != "What it runs")
    for engine in known.values():
        passes = f" ({', '.join(engine.passes)})" if engine.passes else ""
        out.add_row(
            engine.name, engine.version, "Sastrugi's own scan" + passes if engine.built_in else quoted(*engine.run)
        )
    show(out)
    say("name one with --engine; --engines FILE adds yours")


def _run(
    specimen: Path, name: str, engines: Path | None, into: Path | None, replace: bool, files_of: str,
    leave_out: list[str] | None, notes: str, ledger: str, as_json: bool,
) -> None:  # fmt: skip
    from sastrugi.campaign.engines import engine_named, load_engines
    from sastrugi.campaign.trial import TrialOptions, default_name, require_engine_works, run_trial

    engine = engine_named(name, load_engines(engines))
    require_engine_works(engine)
    target = into or Path(default_name(specimen, engine.name))
    if not replace and _mended(target, engine.name, ledger, as_json):
        return
    with progress() as watched:
        manner = TrialOptions(files_of=files_of, leave_out=tuple(leave_out or ()), notes=notes)
        done, card = run_trial(specimen, engine, target, watched, manner, replace)
    _tell(done, card, target, ledger, as_json)


def _hand_out(
    specimen: Path, spoken: str, into: Path | None, device: Path | None, confirmed: bool, replace: bool, as_json: bool,
    stopwatch: bool,
) -> None:  # fmt: skip
    from sastrugi.campaign.by_hand import HANDED_OUT, hand_medium_out, instructions
    from sastrugi.campaign.trial import default_name
    from sastrugi.errors import DestinationError

    if device is not None and not confirmed:
        raise DestinationError(f"{device}: is to be written over: --write-device says that what is on it may go")
    target = into or Path(default_name(specimen, spoken))
    with progress() as watched:
        handed = hand_medium_out(specimen, spoken, target, watched, device, replace)
    where = device or target / HANDED_OUT
    line = quoted("sastrugi", "trial", specimen, "--go-on", target, "--results", "DIR", "--time", "12 min")
    if as_json:
        show_json({"trial": str(target), "id": handed.id, "medium": str(where), "go_on": line})
    else:
        print(instructions(handed, str(where)))
        say(f"handed out as {where}; when the results are here: {line}")
    if stopwatch:
        _keep_time(target)


def _keep_time(folder: Path) -> None:
    """Measure between two keystrokes, and leave the time in the trial's folder."""
    from sastrugi.campaign.by_hand import STOPWATCH
    from sastrugi.safety import write_text
    from sastrugi.units import format_seconds

    say("press Enter when the program starts")
    input()
    began = time.monotonic()
    say("running: press Enter when it has ended")
    input()
    seconds = time.monotonic() - began
    write_text(folder / STOPWATCH, f"{seconds:.1f}\n")
    say(f"it took {format_seconds(seconds)}: kept for --go-on")


def _measured(folder: Path) -> float | None:
    from sastrugi.campaign.by_hand import STOPWATCH
    from sastrugi.errors import SastrugiError
    from sastrugi.texts import read_text
    from sastrugi.units import parse_seconds

    try:
        return parse_seconds(read_text(folder / STOPWATCH, 100).strip())
    except (OSError, ValueError, SastrugiError):
        return None


def _take_back(
    specimen: Path, folder: Path, results: Path, said: TakenBack, files_of: str, table: Path | None,
    leave_out: list[str] | None, root: str | None, into: Path | None, ledger: str, as_json: bool,
) -> None:  # fmt: skip
    from sastrugi.campaign.by_hand import take_results_back

    if _mended(folder, "", ledger, as_json):
        return
    with progress() as watched:
        done, card, where = take_results_back(
            specimen, folder, results, said, watched, files_of, table, tuple(leave_out or ()), root, into
        )
    if done.replaces:
        say(f"{folder} stays as it ended; this record replaces it: {where}")
    _tell(done, card, where, ledger, as_json)


def _mended(folder: Path, engine: str, ledger: str, as_json: bool) -> bool:
    """Whether a trial of this engine (any, if none is named) stands in a folder, but not in the ledger: a kill or a
    full disk came between. Then it is added, and told as if it had just ended."""
    from sastrugi.campaign.record import SCORECARD_FILE, TRIAL_FILE, read_trial, scorecard_of

    if not ((folder / TRIAL_FILE).is_file() and (folder / SCORECARD_FILE).is_file()):
        return False
    trial = read_trial(folder)
    if not trial.ended or engine not in ("", trial.engine.name) or not missing_in_ledger(ledger, trial):
        return False
    say(f"{folder}: this trial stands already, and was not in the ledger: added")
    _tell(trial, scorecard_of(folder), folder, ledger, as_json)
    return True


def _tell(done: Trial, card: Scorecard, target: Path, ledger: str, as_json: bool) -> None:
    from sastrugi.cli.score_options import warn
    from sastrugi.report.scorecard import headline_table, results_line
    from sastrugi.report.trial_view import outcome_line

    kept = keep_in_ledger(ledger, done, card, target)
    if as_json:
        show_json(
            {
                "trial": str(target),
                "ledger": kept,
                **done.model_dump(mode="json"),
                "score": card.model_dump(mode="json", by_alias=True, exclude={"files", "results"}),
            }
        )
    else:
        show(outcome_line(done), headline_table(card), results_line(card))
        say(f"trial {done.id[:8]} in {target}{f', and in the ledger {kept}' if kept else ''}")
    warn(card)
    if done.outcome == "changed the medium" or card.beyond_ceiling:
        raise typer.Exit(1)
