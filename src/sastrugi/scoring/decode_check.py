"""Whether results open: decoded to their end by libraries that are not ours, in child processes with limits."""

from __future__ import annotations

import math
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sastrugi.corpus.check import kind_of_file, open_one
from sastrugi.progress import Progress
from sastrugi.scoring.scorecard import OpensWord
from sastrugi.scoring.sources import Source, size_of
from sastrugi.subprocess_pool import run_in_children, seconds_for

if TYPE_CHECKING:
    from numpy.typing import NDArray

_WORDS: dict[str, OpensWord] = {"opens": "yes", "broken": "no", "cannot tell": "untested"}
_LARGEST = 1 << 30
_AT_ONCE = 1 << 20
"""Values of a picture or a sound that are compared at once."""
_BEST = 99.0


def open_results(results: Sequence[tuple[int, Source]], progress: Progress) -> dict[int, tuple[OpensWord, str]]:
    """The answer and the reason for each result, by its number. One that takes too long or too much memory does not
    open; of a kind nobody can open it is untested."""
    progress.start("open", len(results), "files")
    sources = [source for _, source in results]
    limits = [seconds_for(size_of(source)) for source in sources]
    outcomes = run_in_children(f"{__name__}:open_task", sources, progress, limits)
    progress.finish()
    return {
        number: outcome.value or ("no", outcome.problem) for (number, _), outcome in zip(results, outcomes, strict=True)
    }


def open_task(task: Source) -> tuple[OpensWord, str]:
    """Runs in a child."""
    if isinstance(task, Path):
        _, answer, why = open_one(task)
    else:
        with task.as_file(_LARGEST) as path:
            _, answer, why = open_one(path)
            why = why.replace(str(path), "it")
    return _WORDS[answer], why


def differences(pairs: Sequence[tuple[Source, Source]], progress: Progress) -> list[float | None]:
    """For each (original, result) that both decode: how near the result is, in decibels (see `difference_task`)."""
    progress.start("compare", len(pairs), "files")
    limits = [seconds_for(sum(map(size_of, pair))) for pair in pairs]
    outcomes = run_in_children(f"{__name__}:difference_task", pairs, progress, limits)
    progress.finish()
    return [outcome.value for outcome in outcomes]


def difference_task(pair: tuple[Source, Source]) -> float | None:
    """Peak signal to noise ratio of a picture, signal to noise ratio of a sound, in decibels, at most 99 (where what is
    seen or heard is the same); what the result lacks counts as black, or silence. None for what is neither. Runs in a
    child."""
    import numpy as np

    with ExitStack() as stack:
        paths = [one if isinstance(one, Path) else stack.enter_context(one.as_file(_LARGEST)) for one in pair]
        kind = kind_of_file(paths[0])
        if kind is None or kind.group not in ("picture", "sound"):
            return None
        then, now = (_samples(path, kind.group) for path in paths)
    if kind.group == "picture" and then.shape[1:] != now.shape[1:]:
        return 0.0
    noise = signal = 0.0
    step = max(_AT_ONCE * len(then) // max(then.size, 1), 1)
    for at in range(0, len(then), step):  # in parts: as numbers they take eight times as much
        was = then[at : at + step].astype(np.float64)
        signal += float(np.sum(np.square(was)))
        part = now[at : at + step]
        was[: len(part)] -= part[: len(was)]
        noise += float(np.sum(np.square(was)))
    if kind.group == "picture":
        signal = 255.0**2 * then.size
    if noise == 0:
        return _BEST
    return round(max(min(10 * math.log10(signal / noise), _BEST), 0.0), 1) if signal else 0.0


def _samples(path: Path, group: str) -> NDArray[Any]:
    """Pixels, shape (rows, columns, 3), or samples of one channel."""
    import numpy as np

    if group == "picture":
        from PIL import Image, ImageFile

        ImageFile.LOAD_TRUNCATED_IMAGES = True  # how near it is, damaged or not, is the question
        with Image.open(path) as picture:
            return np.asarray(picture.convert("RGB"))
    import av

    with av.open(str(path)) as container:
        resampler = av.AudioResampler("s16", "mono")
        parts = [p.to_ndarray().ravel() for frame in container.decode(audio=0) for p in resampler.resample(frame)]
    return np.concatenate(parts) if parts else np.zeros(0, np.int16)
