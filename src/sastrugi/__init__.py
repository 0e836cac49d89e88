"""Sastrugi: a test bench for file recovery.

Build reference media with known losses, run recovery scans against them, and score exactly what came back.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from sastrugi.version import __version__

if TYPE_CHECKING:
    from sastrugi.api import Adoption as Adoption
    from sastrugi.api import Comparison as Comparison
    from sastrugi.api import Engine as Engine
    from sastrugi.api import ExtractSummary as ExtractSummary
    from sastrugi.api import Progress as Progress
    from sastrugi.api import SastrugiError as SastrugiError
    from sastrugi.api import ScanResult as ScanResult
    from sastrugi.api import Scorecard as Scorecard
    from sastrugi.api import Trial as Trial
    from sastrugi.api import adopt as adopt
    from sastrugi.api import build as build
    from sastrugi.api import compare as compare
    from sastrugi.api import extract as extract
    from sastrugi.api import scan as scan
    from sastrugi.api import score as score
    from sastrugi.api import trial as trial

__all__ = [
    "Adoption", "Comparison", "Engine", "ExtractSummary", "Progress", "SastrugiError", "ScanResult", "Scorecard",
    "Trial", "__version__", "adopt", "build", "compare", "extract", "scan", "score", "trial",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    """The public names, imported when they are asked for: the command line needs none of them to say its help."""
    if name in __all__:
        from importlib import import_module

        return getattr(import_module("sastrugi.api"), name)
    raise AttributeError(f"module 'sastrugi' has no attribute '{name}'")
