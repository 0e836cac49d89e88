"""From a recipe to a specimen: carry the steps out, then write medium and truth."""

from __future__ import annotations

import gc
import tempfile
from collections.abc import Container
from contextlib import ExitStack
from pathlib import Path

from sastrugi.errors import Interrupted, RecipeError, SastrugiError, SpecimenError, system_words
from sastrugi.media.containers import writer_for
from sastrugi.media.convert import copy_medium
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.safety import new_folder
from sastrugi.specimen.builder import SpecimenBuilder
from sastrugi.specimen.recipe import Recipe, line_of_step
from sastrugi.specimen.steps import STEPS
from sastrugi.specimen.truth import TRUTH_FILE, is_of_specimen
from sastrugi.specimen.truth_writer import write_papers, write_papers_by_look

_PAST_DRIVERS = frozenset({"overlay", "wipe", "damage", "fade"})
"""Steps that write past any driver."""


def build(
    recipe: Recipe, into: Path, progress: Progress, sha256: bool = False, by_driver: bool = False,
    replace: bool = False, workers: int = 1,
) -> Path:  # fmt: skip
    """Build the specimen of `recipe` in the new folder `into` (or, with `replace`, in the place of the specimen there).
    It appears whole, or not at all.

    With `sha256` every file and the medium get that digest besides BLAKE3, which takes several times as long. With
    `by_driver` the operating system's own driver lays the files down (Linux, as root). So many `workers` make files,
    where that pays: they are processes that read the main module again, which must allow that.
    Raises RecipeError, naming the step, when a step cannot be carried out.
    """
    with new_folder(into, "specimen", TRUTH_FILE, replace, is_of_specimen) as folder:
        if by_driver:
            _build_by_driver(recipe, folder, progress, sha256)
            return into
        image = RawImage(folder / SPECIMEN_IMAGE, recipe.medium.size, recipe.medium.sector)
        try:
            builder = SpecimenBuilder(
                image, folder, recipe.seed, recipe.base, recipe.starts.replace(tzinfo=None), progress, sha256, workers
            )
            _carry_out(recipe, builder)
            if recipe.medium.container != "raw":
                _put_into_container(image, recipe.medium.container, progress)
            write_papers(recipe, builder)
        finally:
            image.close()
    del builder
    gc.collect()  # a tree of nodes holds itself, and what comes next reads the truth of as many files
    return into


def _build_by_driver(recipe: Recipe, folder: Path, progress: Progress, sha256: bool) -> None:
    """The plan is laid down in a folder beside, and every step is repeated through the system's driver."""
    from sastrugi.specimen.os_writer import DriverWriter, require_driver

    require_driver()
    for number, step in enumerate(recipe.steps, 1):
        if step.do in _PAST_DRIVERS:
            raise RecipeError(
                f"step {number} ({step.do}), line {line_of_step(recipe, number)}: is nothing that a driver does: "
                "leave --writer os out, or the step"
            )
    size, sector = recipe.medium.size, recipe.medium.sector
    with tempfile.TemporaryDirectory(prefix=".plan-", dir=folder) as name, ExitStack() as stack:
        beside = Path(name)
        image = RawImage(folder / SPECIMEN_IMAGE, size, sector)
        stack.callback(image.close)
        plan = RawImage(beside / SPECIMEN_IMAGE, size, sector)
        stack.callback(plan.close)
        builder = SpecimenBuilder(
            plan, beside, recipe.seed, recipe.base, recipe.starts.replace(tzinfo=None), progress, sha256
        )
        mirror = builder.mirror = DriverWriter(image, plan, beside, progress)
        stack.callback(mirror.close)
        try:
            _carry_out(recipe, builder)
            mirror.finish()
        except OSError as error:
            raise SpecimenError(
                f"the system's driver refused: {system_words(error)}: {error.filename or ''}"
            ) from error
        if recipe.medium.container != "raw":
            _put_into_container(image, recipe.medium.container, progress)
        write_papers_by_look(recipe, builder, image, folder, mirror.known)


def _put_into_container(image: RawImage, container: str, progress: Progress) -> None:
    """The file of the medium becomes a container with the same bytes; `image` goes on reading the raw ones."""
    packed = image.path.with_name(f"{image.path.name}.{container}")
    copy_medium(image, writer_for(container, packed, image.size), progress)
    packed.replace(image.path)


def check_layout(recipe: Recipe) -> None:
    """Carry out the steps that only lay out the medium (partitions and formats), and keep nothing of it.

    Raises RecipeError, naming the step, where sizes, places or file systems do not fit.
    """
    with tempfile.TemporaryDirectory(prefix="sastrugi-") as name:
        folder = Path(name)
        image = RawImage(folder / SPECIMEN_IMAGE, recipe.medium.size, recipe.medium.sector)
        try:
            builder = SpecimenBuilder(
                image, folder, recipe.seed, recipe.base, recipe.starts.replace(tzinfo=None), Progress()
            )
            _carry_out(recipe, builder, only=("partition", "drop-partition", "format"))
        finally:
            image.close()


def _carry_out(recipe: Recipe, builder: SpecimenBuilder, only: Container[str] = STEPS) -> None:
    builder.progress.start("build", len(recipe.steps), "steps")
    for number, step in enumerate(recipe.steps, 1):
        builder.step = number
        builder.progress.check()
        if step.do not in only:
            continue
        try:
            step.carry_out(builder)
        except (RecipeError, Interrupted):
            raise
        except SastrugiError as error:
            line = line_of_step(recipe, number)
            raise RecipeError(f"step {number} ({step.do}), line {line}: {error}") from error
        builder.progress.at(number, step.do)
    for place in builder.places.values():
        if place.writer and not place.trouble:
            place.writer.flush()
            builder.watch_again(place)
            builder.watch_names(place, lacking=True)
    builder.image.observers.clear()
    builder.progress.finish()
