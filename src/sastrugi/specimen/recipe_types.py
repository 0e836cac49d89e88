"""What the tables of a recipe are made of: sizes, habits, and the base that refuses unknown keys."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from sastrugi.corpus.make import parse_spread
from sastrugi.errors import SastrugiError
from sastrugi.units import parse_size

if TYPE_CHECKING:
    from sastrugi.specimen.builder import SpecimenBuilder

ActsAs = Literal["linux", "windows", "macos", "camera", "old-linux"]
Fill = Literal["zeros", "noise"]
Share = Annotated[float, Field(gt=0, le=1)]
Patterns = Annotated[list[str], Field(min_length=1)]


def _size(value: Any) -> int:
    if not isinstance(value, (str, int)) or isinstance(value, bool):
        raise ValueError("a size is a text such as '64 MiB'")
    try:
        return parse_size(value)
    except SastrugiError as error:
        raise ValueError(str(error)) from error


def _size_or_rest(value: Any) -> Any:
    return value if value == "rest" else _size(value)


def _size_range(value: Any) -> tuple[int, int]:
    try:
        return parse_spread(str(value))
    except SastrugiError as error:
        raise ValueError(str(error)) from error


Size = Annotated[int, BeforeValidator(_size)]
SizeOrRest = Annotated[int | Literal["rest"], BeforeValidator(_size_or_rest)]
SizeRange = Annotated[tuple[int, int], BeforeValidator(_size_range)]


class Table(BaseModel):
    """A table of a recipe: frozen, and no key it does not know."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class RangeTable(Table):
    """A stretch of bytes, counted from the start of the volume, or of the medium where no volume is named."""

    start: Size
    size: SizeOrRest = "rest"


class StepTable(Table):
    """One step. `do` names it; `volume` may be left out where there is only one."""

    do: str
    volume: str | None = None

    def carry_out(self, builder: SpecimenBuilder) -> None:
        """Do it. Raises SastrugiError, in words, when it cannot be done."""
        raise NotImplementedError
