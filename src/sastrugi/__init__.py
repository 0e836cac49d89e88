"""Sastrugi: a test bench for file recovery.

Build reference media with known losses, run recovery scans against them, and score exactly what came back.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from sastrugi.version import __version__

if TYPE_CHECKING:
    from sastrugi.api import score as score
    from sastrugi.errors import SastrugiError as SastrugiError
    from sastrugi.scoring.scorecard import Scorecard as Scorecard

_WHERE = {"score": "sastrugi.api", "Scorecard": "sastrugi.scoring.scorecard", "SastrugiError": "sastrugi.errors"}
__all__ = ["SastrugiError", "Scorecard", "__version__", "score"]


def __getattr__(name: str) -> Any:
    """The public names, imported when they are asked for: the command line needs none of them to say its help."""
    from importlib import import_module

    if name in _WHERE:
        return getattr(import_module(_WHERE[name]), name)
    raise AttributeError(f"module 'sastrugi' has no attribute '{name}'")
