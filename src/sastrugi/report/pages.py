"""Pages that need nothing else: the look that all of them share."""

from __future__ import annotations

from functools import cache
from typing import Any

from sastrugi.units import format_seconds, format_size, percent, printable


def _plain(value: Any) -> Any:
    """What a page can hold of a text that comes from outside."""
    return printable(value) if type(value) is str else value


@cache
def _environment() -> Any:
    from jinja2 import Environment, PackageLoader

    environment = Environment(
        loader=PackageLoader("sastrugi.report"), autoescape=True, trim_blocks=True, finalize=_plain
    )
    environment.filters |= {
        "percent": percent,
        "size": format_size,
        "seconds": format_seconds,
        "number": lambda n: f"{n:,}",
    }
    return environment


def page(template: str, **values: Any) -> str:
    """A page from one of the templates."""
    from sastrugi import __version__

    text: str = _environment().get_template(template).render(version=__version__, **values)
    return text
