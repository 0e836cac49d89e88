"""The step that goes on using a volume after a loss, so that scores can be drawn against use."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Literal

from pydantic import model_validator

from sastrugi.specimen.builder import Content
from sastrugi.specimen.recipe_types import ActsAs, Size, SizeRange, StepTable
from sastrugi.specimen.steps.store import noise_chunks, require_room, reserve
from sastrugi.volumes.writer import Reuse

if TYPE_CHECKING:
    from sastrugi.specimen.builder import SpecimenBuilder
    from sastrugi.specimen.laid_files import LaidFile

_FOLDER = "/Season"


class ChurnStep(StepTable):
    """More use: files that come to `write` bytes are written, and some of them deleted again, up to `delete` bytes.

    The files hold noise and are no references; what they write over is gone to them.
    """

    do: Literal["churn"]
    write: Size
    delete: Size = 0
    size: SizeRange = (16 << 10, 1 << 20)
    reuse: Reuse = "next"
    acts_as: ActsAs = "linux"

    @model_validator(mode="after")
    def _deletes_its_own(self) -> ChurnStep:
        if self.delete > self.write:
            raise ValueError("a churn step deletes only what it wrote: 'delete' cannot be more than 'write'")
        return self

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, writer = builder.mounted(self.volume)
        dice = builder.dice(f"step {builder.step}")
        written = deleted = 0
        mine: list[LaidFile] = []
        while written < self.write:
            number = builder.counts["use"] + 1
            size = min(dice.spread(*self.size), self.write - written)
            name = f"{_FOLDER}/USE{number:05d}.DAT"
            content = Content(name, "other", size, partial(noise_chunks, builder.dice(name), size))
            require_room(writer, size, name)
            runs = reserve(builder, writer, size, self.reuse, name)
            mine.append(builder.store(place, name, content, runs, "use"))
            written += size
            if deleted * self.write < self.delete * written:
                victim = mine.pop(dice.number(0, len(mine) - 1))
                builder.delete(victim, self.acts_as)
                deleted += victim.size
        writer.flush()
