"""A progress bar on a terminal, and nothing where the output goes to a file."""

import sys
import time

from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn, TimeRemainingColumn


def doubts(figures: dict | None) -> int:
    """Say on standard error what a step is not certain of, a line each; returns how many there are."""
    found = list((figures or {}).get("doubt") or [])
    for sentence in found:
        print(f"terrazza: doubt: {sentence}", file=sys.stderr)
    return len(found)


class Bar:
    """Progress of one step on standard error; use it as a context manager."""

    def __init__(self, title: str):
        self.title, self.started = title, time.monotonic()
        self.shown = sys.stderr.isatty()
        self.bar = Progress(
            TextColumn("{task.fields[title]:<26}"),
            BarColumn(30),
            TextColumn("{task.percentage:>3.0f} %"),
            TextColumn("{task.fields[rate]:>12}"),
            TimeElapsedColumn(),
            TextColumn("left"),
            TimeRemainingColumn(),
            TextColumn("{task.description}"),
            console=Console(stderr=True),
            transient=True,
        )

    def __enter__(self):
        if self.shown:
            self.bar.start()
            self.task = self.bar.add_task("", title=self.title, rate="", total=1.0)
        return self

    def __exit__(self, *_):
        if self.shown:
            self.bar.stop()

    def advance(self, done: float, total: float, label: str = "") -> None:
        if self.shown:
            elapsed = max(time.monotonic() - self.started, 1e-6)
            rate = f"{done / elapsed / 1e6:.2f} M/s" if total > 1000 else ""
            self.bar.update(self.task, completed=done, total=total or 1.0, description=label, rate=rate)
