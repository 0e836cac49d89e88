"""The program: what `sastrugi` and `python -m sastrugi` call. Little is imported here, so that a Ctrl-C is heard as
soon as Python itself has started, also while the command line is being imported."""

from __future__ import annotations

import gc
import sys

_OBJECTS = 100_000
"""New objects between two looks for those that only hold each other. There are few, and a look costs with all objects
that live: truths and scorecards have hundreds of thousands."""


def main() -> None:
    """Run the command line; a Ctrl-C ends it with the exit status that shells give to it, and no more words."""
    gc.set_threshold(_OBJECTS)
    try:
        from sastrugi.cli import main as run

        run()
    except KeyboardInterrupt:
        sys.exit(130)
    finally:
        gc.freeze()  # the program ends: what lives goes with it, without a look at each object


if __name__ == "__main__":
    main()
