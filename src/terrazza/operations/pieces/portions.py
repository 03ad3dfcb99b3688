"""Edits of a column portion by portion over the fleet: the one way in which operations change points.

A *change* is a module-level function ``(cloud, start, stop, args, common) → (values, tally)`` that gives the
new values of one stretch of one column (None where nothing changes) and what it counted.  Portions that stay
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
    """One portion of one column to be changed."""

    piece: CloudPiece
    column: str
    number: int
    start: int
    stop: int
    version: str
    change: Callable
    args: Any


def _change(task: Task, common, progress: Progress):
    cloud = task.piece.open()
    values, tally = task.change(cloud, task.start, task.stop, task.args, common[0])
    progress.advance(task.stop - task.start, task.stop - task.start)
    if (
        values is not None
        and cloud.has(task.column)
        and np.array_equal(cloud.read(task.column, task.start, task.stop), values)
    ):
        values = None
    if values is None:
        return None, tally, None
    return (
        columns.write_block(task.piece.folder, task.column, task.number, values, task.version),
        tally,
        values.dtype,
    )


def _default(column: str, count: int, dtype) -> np.ndarray:
    """A portion of a column that a scan did not have."""
    return COLUMNS[column].filled(count) if column in COLUMNS else np.zeros(count, dtype)


def rewrite(
    job: Job,
    scans: list[Scan],
    column: str,
    change: Callable,
    args: dict[int, Any],
    progress: Progress,
    label: str,
    common: Any = None,
) -> dict[int, list]:
    """Change a column of some scans; ``args`` by scan number, ``common`` to all.  Returns the tallies of each
    scan's portions.

    A scan none of whose portions changed keeps its column as it was.
    """
    tasks, owner = [], []
    for scan in scans:
        piece = CloudPiece.of(job, scan)
        for number, (start, stop) in enumerate(job.cloud(scan.id).blocks()):
            tasks.append(Task(piece, column, number, start, stop, job.version, change, args.get(scan.id)))
            owner.append(scan.id)
    results = job.fleet.map(
        _change, tasks, [t.stop - t.start for t in tasks], progress, label, (common,), light=True
    )
    tallies: dict[int, list] = {scan.id: [] for scan in scans}
    for scan in scans:
        mine = [(t, r) for t, o, r in zip(tasks, owner, results) if o == scan.id]
        tallies[scan.id] = [tally for _, (_, tally, _) in mine]
        made = [(file, dtype) for _, (file, _, dtype) in mine if file]
        if not made:
            continue
        old = job.get("column", f"{scan.id}/{column}")
        files = []
        for task, (file, _, _) in mine:
            files.append(
                file
                or (
                    old[task.number]
                    if old
                    else columns.write_block(
                        task.piece.folder,
                        column,
                        task.number,
                        _default(column, task.stop - task.start, made[0][1]),
                        task.version,
                    )
                )
            )
        job.put_column(scan.id, column, files)
    return tallies
