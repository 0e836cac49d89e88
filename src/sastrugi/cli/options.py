"""Options that several commands share, given to them by a decorator."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Any, TypeVar, get_type_hints

T = TypeVar("T")

Options = dict[str, tuple[Any, Any]]
"""For each option its annotated type and its default."""


def sharing(
    options: Options, name: str, make: Callable[[dict[str, Any]], T]
) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """A decorator that gives a command these options; it gets what `make` makes of them as its argument `name`."""

    def decorate(command: Callable[..., None]) -> Callable[..., None]:
        def run(**arguments: Any) -> None:
            given = {option: arguments.pop(option) for option in options}
            command(**arguments, **{name: make(given)})

        hints = get_type_hints(command, include_extras=True)
        own = [
            parameter.replace(annotation=hints.get(parameter.name, parameter.annotation), kind=parameter.KEYWORD_ONLY)
            for parameter in inspect.signature(command).parameters.values()
            if parameter.name != name
        ]
        own += [
            inspect.Parameter(option, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)
            for option, (annotation, default) in options.items()
        ]
        run.__signature__ = inspect.Signature(own)  # type: ignore[attr-defined]
        run.__annotations__ = {parameter.name: parameter.annotation for parameter in own}
        run.__doc__ = command.__doc__
        return run

    return decorate
