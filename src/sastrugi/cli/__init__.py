"""The command line: read the call, call the core, print. The only place that prints.

Modules here import the core inside their functions, so that `sastrugi --help` answers at once.
"""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Sequence
from importlib import import_module

import typer

from sastrugi.cli import streams

COMMANDS = {
    "demo": ("demo",),
    "corpus": ("corpus",),
    "recipe": ("recipe",),
    "specimen": ("build", "adopt", "audit"),
    "capture": ("capture",),
    "inspect": ("look", "map", "hex"),
    "scan": ("scan",),
    "findings": ("list", "preview", "extract"),
    "scoring": ("explain", "score"),
    "reporting": ("report",),
    "trial": ("trial",),
    "comparing": ("compare",),
    "campaign": ("campaign",),
    "ledger": ("ledger",),
}
"""The modules here that have commands, in the order of the help, and their commands: a call imports only its own."""
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
"""Nothing here multiplies matrices, and NumPy would start a thread for it on each core, in every command."""


def _print_version(asked: bool) -> None:
    if asked:
        from sastrugi import __version__

        print(f"sastrugi {__version__}")
        raise typer.Exit


def _options(
    version: bool = typer.Option(
        False, "--version", help="Print the version and leave.", is_eager=True, callback=_print_version
    ),
) -> None:
    """Options that stand before any command."""


_NEW_OBJECTS = 100_000
"""New objects after which Python looks for cycles among them. Commands make records by the hundred thousand, and keep
them: looking for cycles after each 700 took a tenth of their time."""


def command_line(words: Sequence[str]) -> typer.Typer:
    """The program as it is needed for a call of these words: with the commands of one module where the first word is
    one of them, or else with all (for the help, the completion, and what was probably meant)."""
    app = typer.Typer(
        name="sastrugi",
        help="A test bench for file recovery: build media with known losses, scan them, and score what came back.",
        epilog="Start with: sastrugi demo",
        no_args_is_help=True,
        rich_markup_mode=None,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
        callback=_options,
    )
    own = [module for module, commands in COMMANDS.items() if words and words[0] in commands]
    for module in own or COMMANDS:
        import_module(f"sastrugi.cli.{module}").register(app)
    return app


def main() -> None:
    """Run the command; every error becomes one line on stderr and the exit status of its class."""
    from sastrugi.errors import SastrugiError, Unfinished, system_words

    streams.prepare()
    gc.set_threshold(_NEW_OBJECTS, 50, 100)
    try:
        command_line(sys.argv[1:])()
    except Unfinished as error:
        _complain(str(error))
        if error.go_on:
            print(f"go on with: {error.go_on}", file=sys.stderr)
        sys.exit(error.exit_code)
    except SastrugiError as error:
        _complain(str(error))
        sys.exit(error.exit_code)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        sys.exit(0)
    except MemoryError:
        _complain(
            "there is not enough memory here for this: try it with fewer or smaller files, or on a larger machine"
        )
        sys.exit(2)
    except OSError as error:
        where = f"{os.fsdecode(error.filename)}: " if isinstance(error.filename, (str, bytes)) else ""
        _complain(f"{where}{system_words(error)}")
        sys.exit(2)
    except Exception as error:
        if os.environ.get("SASTRUGI_TRACE"):
            raise
        _complain(f"a fault of Sastrugi itself: {type(error).__name__}: {error} (SASTRUGI_TRACE=1 shows where)")
        sys.exit(2)


def _complain(message: str) -> None:
    from sastrugi.units import printable

    print("sastrugi: " + printable(" ".join(message.split())), file=sys.stderr)
