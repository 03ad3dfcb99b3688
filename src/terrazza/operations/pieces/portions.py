"""Edits of a column portion by portion over the fleet: the one way in which operations change points.

A *change* is a module-level function ``(cloud, start, stop, args, common) → (values, tally)`` that gives the
new values of one stretch of one column (None where nothing changes; a tuple for several columns) and what it
counted.  Portions that stay
the same keep their files.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.core.progress import Progress
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan
from terrazza.store import columns
from terrazza.store.schema import COLUMNS


@dataclass(frozen=True)
class Task:
    """One portion of some columns to be changed."""

    piece: CloudPiece
    columns: tuple[str, ...]
    number: int
    start: int
    stop: int
    version: str
    change: Callable
    args: Any


def _change(task: Task, common, progress: Progress):
    """A file and type by column that changed, and the tally."""
    cloud = task.piece.open()
    values, tally = task.change(cloud, task.start, task.stop, task.args, common[0])
    progress.advance(task.stop - task.start, task.stop - task.start)
    made = {}
    for column, new in zip(task.columns, values if isinstance(values, tuple) else (values,)):
        if new is None or (cloud.has(column) and _same(cloud.read(column, task.start, task.stop), new)):
            continue
        file = columns.write_block(task.piece.folder, column, task.number, new, task.version)
        made[column] = file, new.dtype
    return made, tally


def _same(old: np.ndarray, new: np.ndarray) -> bool:
    return np.array_equal(old, new, equal_nan=new.dtype.kind == "f")


def _default(column: str, count: int, dtype) -> np.ndarray:
    """A portion of a column that a scan did not have."""
    if column in COLUMNS:
        return COLUMNS[column].filled(count)
    return np.full(count, np.nan if np.dtype(dtype).kind == "f" else 0, dtype)


def rewrite(
    job: Job,
    scans: list[Scan],
    column: str | tuple[str, ...],
    change: Callable,
    args: dict[int, Any],
    progress: Progress,
    label: str,
    common: Any = None,
) -> dict[int, list]:
    """Change a column of some scans, or several at once; ``args`` by scan number, ``common`` to all.  Returns
    the tallies of each scan's portions.

    A scan none of whose portions changed keeps its columns as they were.
    """
    names, tasks, owner = (column,) if isinstance(column, str) else column, [], []
    for scan in scans:
        piece = CloudPiece.of(job, scan)
        for number, (start, stop) in enumerate(job.cloud(scan.id).blocks()):
            tasks.append(Task(piece, names, number, start, stop, job.version, change, args.get(scan.id)))
            owner.append(scan.id)
    results = job.fleet.map(
        _change, tasks, [t.stop - t.start for t in tasks], progress, label, (common,), light=True
    )
    tallies: dict[int, list] = {scan.id: [] for scan in scans}
    for scan in scans:
        mine = [(t, r) for t, o, r in zip(tasks, owner, results) if o == scan.id]
        tallies[scan.id] = [tally for _, (_, tally) in mine]
        for name in names:
            _put(job, scan, name, [(t, made.get(name)) for t, (made, _) in mine])
    return tallies


def _put(job: Job, scan: Scan, column: str, portions: list[tuple[Task, tuple[str, Any] | None]]) -> None:
    """Name the files of a column of which some portions, or none, were written anew."""
    dtype = next((made[1] for _, made in portions if made), None)
    if dtype is None:
        return
    old, files = job.get("column", f"{scan.id}/{column}"), []
    for task, made in portions:
        if made:
            files.append(made[0])
        elif old:
            files.append(old[task.number])
        else:
            empty = _default(column, task.stop - task.start, dtype)
            files.append(columns.write_block(task.piece.folder, column, task.number, empty, task.version))
    job.put_column(scan.id, column, files)
