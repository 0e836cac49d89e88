"""Parameters of a campaign: what they change in a recipe."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from copy import deepcopy
from difflib import get_close_matches
from typing import Any

import tomli_w

from sastrugi.errors import EngineError, SastrugiError
from sastrugi.specimen.recipe import Recipe, parse_recipe
from sastrugi.units import parse_size

Tables = dict[str, Any]
_LOSSES = ("delete", "bin", "empty-bin", "drop-partition", "wipe")
"""Steps that are a loss; a format of a volume that was formatted before is one, too."""
_STEP_PATH_PARTS = 3


def _formats(recipe: Tables) -> list[Tables]:
    return [step for step in recipe["steps"] if step.get("do") == "format"]


def _again(recipe: Tables) -> list[int]:
    """The numbers of steps that format a volume again."""
    seen: set[Any] = set()
    out: list[int] = []
    for number, step in enumerate(recipe["steps"]):
        if step.get("do") == "format":
            if step.get("volume") in seen:
                out.append(number)
            seen.add(step.get("volume"))
    return out


def _seed(recipe: Tables, value: Any) -> None:
    recipe["seed"] = value


def _size(recipe: Tables, value: Any) -> None:
    recipe["medium"]["size"] = value


def _file_system(recipe: Tables, value: Any) -> None:
    """The file system of the first format, and of all that use the same; a cluster size goes that was meant for it."""
    own = _formats(recipe)
    first = own[0].get("file_system") if own else None
    for step in own:
        if step.get("file_system") in (first, None):
            if step.get("file_system") != value:
                step.pop("cluster", None)
            if step.get("file_system") is not None:
                step["file_system"] = value


def _cluster(recipe: Tables, value: Any) -> None:
    for step in _formats(recipe):
        step["cluster"] = value


def _pieces(recipe: Tables, value: Any) -> None:
    for step in recipe["steps"]:
        if step.get("do") == "store":
            step["pieces"] = value


def _churn(recipe: Tables, value: Any) -> None:
    """How much is written after the loss: by the last churn of the recipe, or one that fills freed space first."""
    own = [step for step in recipe["steps"] if step.get("do") == "churn"]
    amount = parse_size(str(value))
    if not amount:
        recipe["steps"] = [step for step in recipe["steps"] if step not in own]
    elif own:
        own[-1]["write"] = value
        if parse_size(str(own[-1].get("delete", "0"))) > amount:
            own[-1].pop("delete")
    else:
        volume = next((s["volume"] for s in recipe["steps"] if s.get("do") == "store" and "volume" in s), None)
        step = {"do": "churn", "write": value, "reuse": "first"}
        recipe["steps"].append(step | ({"volume": volume} if volume else {}))


def _loss(recipe: Tables, value: Any) -> None:
    """Another loss in the place of the recipe's first; the others go."""
    again = _again(recipe)
    losing = [n for n, step in enumerate(recipe["steps"]) if step.get("do") in _LOSSES or n in again]
    at = losing[0] if losing else len(recipe["steps"])
    before = [step for n, step in enumerate(recipe["steps"]) if n < at]
    after = [step for n, step in enumerate(recipe["steps"]) if n >= at and n not in losing]
    whats = [
        what for n in losing for what in recipe["steps"][n].get("what", ()) if recipe["steps"][n]["do"] == "delete"
    ]
    recipe["steps"] = [*before, *_LOSS_STEPS[_known(value, _LOSS_STEPS, "loss")](recipe, whats or ["*"]), *after]


def _same_format(recipe: Tables, how: str) -> Tables:
    first = next((step for step in _formats(recipe)), {"do": "format"})
    return {**first, "how": how}


_LOSS_STEPS: dict[str, Callable[[Tables, list[str]], list[Tables]]] = {
    "none": lambda recipe, what: [],
    "delete": lambda recipe, what: [{"do": "delete", "what": what}],
    "bin": lambda recipe, what: [{"do": "bin", "what": what}, {"do": "empty-bin"}],
    "quick-format": lambda recipe, what: [_same_format(recipe, "quick")],
    "full-format": lambda recipe, what: [_same_format(recipe, "full")],
    "drop-partition": lambda recipe, what: [{"do": "drop-partition", "volume": "all"}],
    "wipe": lambda recipe, what: [{"do": "wipe", "what": "medium"}],
}
PARAMETERS: dict[str, Callable[[Tables, Any], None]] = {
    "seed": _seed, "size": _size, "file-system": _file_system, "cluster": _cluster, "pieces": _pieces, "loss": _loss,
    "churn": _churn,
}  # fmt: skip
"""In the order in which they are put in: a cluster size belongs to the file system of the same cell."""


def require_parameter(name: str) -> None:
    """Raise EngineError with what there is, if a campaign names a parameter that is none."""
    parts = name.split(".")
    if len(parts) == _STEP_PATH_PARTS and parts[0] == "steps" and parts[1].isdecimal() and len(parts[1]) < 6:
        return
    _known(name, PARAMETERS, "parameter", " (or steps.3.share, for any key of the third step)")


def _known(word: Any, there: Mapping[str, Any], what: str, more: str = "") -> str:
    if isinstance(word, str) and word in there:
        return word
    near = get_close_matches(str(word), there, 1, 0.5)
    hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(there)}{more}"
    raise EngineError(f"'{str(word)[:60]}' is no {what}: {hint}")


def with_parameters(recipe: Recipe, tables: Tables, parameters: Mapping[str, Any]) -> Recipe:
    """The recipe with parameters put in; `tables` is what its text says. Its text is then that of the new one. Raises
    EngineError where a parameter does not fit."""
    if not parameters:
        return recipe
    changed = deepcopy(tables)
    try:
        for name, put_in in PARAMETERS.items():
            if name in parameters:
                put_in(changed, parameters[name])
        for name, value in parameters.items():
            if name not in PARAMETERS:
                _, number, key = name.split(".")
                if not 1 <= int(number) <= len(changed["steps"]):
                    raise EngineError(f"'{name}': the recipe {recipe.name} has {len(changed['steps'])} steps")
                changed["steps"][int(number) - 1][key] = value
    except (TypeError, AttributeError, ValueError) as error:
        raise EngineError(f"the parameters {dict(parameters)} do not fit the recipe {recipe.name}") from error
    told = ", ".join(f"{name} {value}" for name, value in parameters.items())
    try:
        return parse_recipe(tomli_w.dumps(changed), f"{recipe.name} with {told}", recipe.base)
    except EngineError:
        raise
    except SastrugiError as error:
        raise EngineError(str(error)) from error
