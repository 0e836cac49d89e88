"""The columns of the line that shows progress, all in the units of everything else."""

from __future__ import annotations

from rich.progress import ProgressColumn, Task
from rich.text import Text

from sastrugi.units import format_size


class Counts(ProgressColumn):
    """What is done of how much, and the rate."""

    def render(self, task: Task) -> Text:
        unit = task.fields["unit"]
        if not unit:
            return Text()
        done, total = int(task.completed), int(task.total) if task.total else None
        if unit == "B":
            counts = f"{format_size(done)} of {format_size(total)}" if total else format_size(done)
            rate = f", {format_size(task.speed)}/s" if task.speed else ""
        else:
            counts = f"{done:,} of {total:,} {unit}" if total else f"{done:,} {unit}"
            rate = f", {task.speed:,.0f}/s" if task.speed else ""
        return Text(counts + rate)


class Remaining(ProgressColumn):
    """The time that is left, where that can be told."""

    max_refresh = 0.5

    def render(self, task: Task) -> Text:
        left = task.time_remaining
        if task.total is None or left is None:
            return Text()
        minutes, seconds = divmod(int(left), 60)
        hours, minutes = divmod(minutes, 60)
        return Text(f"{hours:d}:{minutes:02d}:{seconds:02d} left")
