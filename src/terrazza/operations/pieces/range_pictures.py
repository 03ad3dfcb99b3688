"""Range pictures: what a scan measured, in its own grid or, where it has none, by directions from where it
was taken; filters judge points by their neighbours in it.

A picture is a file of the run's scratch folder, so that the memory it takes is the system's to give and take.
"""

import os
from dataclasses import dataclass, replace

import numpy as np

from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.walks import path as paths

FINEST, COARSEST = np.radians(0.01), np.radians(1.0)
SAMPLE = 200_000
LARGEST = 2_000_000_000  # pixels of a picture


@dataclass(frozen=True)
class Frame:
    """Where points of a scan lie in its picture.

    ``grid``: by their row and column.  Otherwise by azimuth and elevation from ``origin`` (scan's frame, m),
    ``step`` (rad) a pixel; of a walk only the points that belong to the stop number ``mine`` of ``times``.
    ``wrap`` says that the last column is beside the first.
    """

    rows: int
    columns: int
    wrap: bool
    grid: bool
    step: float = 0.0
    origin: tuple[float, float, float] = (0.0, 0.0, 0.0)
    times: tuple[float, ...] = ()
    mine: int = 0

    def place(self, cloud: Cloud, start: int, stop: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(pixel, range, mask): the flat index of the pixel of each point of a stretch, its range (m), and
        which points are in the picture at all.
        """
        xyz = cloud.xyz(start, stop) - self.origin
        r = np.linalg.norm(xyz, axis=1)
        if self.grid:
            row = np.asarray(cloud.read("row", start, stop), np.int64)
            column = np.asarray(cloud.read("column", start, stop), np.int64)
        else:
            up = np.arcsin(np.clip(xyz[:, 2] / np.maximum(r, 1e-9), -1, 1))
            row = np.floor((np.pi / 2 - up) / self.step).astype(np.int64).clip(0, self.rows - 1)
            turn = (np.pi - np.arctan2(xyz[:, 1], xyz[:, 0])) / self.step
            column = np.floor(turn).astype(np.int64) % self.columns
        there = (row >= 0) & (row < self.rows) & (column >= 0) & (column < self.columns) & (r > 0)
        if self.times:
            when = np.asarray(cloud.read("time", start, stop))
            there &= paths.belongs(when, np.array(self.times)) == self.mine
        return np.where(there, row * self.columns + column, 0), r, there


def frames(job: Job, scan: Scan) -> list[Frame]:
    """The pictures of a scan: one from its station, one a stop of a walk; none of what was seen from no place
    that is known.
    """
    cloud, grid = job.cloud(scan.id), scan.record.get("grid")
    if grid and cloud.has("row") and cloud.has("column") and grid[0] * grid[1] <= LARGEST:
        return [Frame(int(grid[0]), int(grid[1]), _wraps(cloud, int(grid[1])), True)]
    if has_station(scan):
        return [_by_angles(cloud, (0.0, 0.0, 0.0))]
    walk = job.get("walk", scan.id)
    if walk is None or not cloud.has("time"):
        return []
    times = tuple(s["time"] for s in walk["stops"])
    return [
        _by_angles(cloud, tuple(s["at"]), times, k) for k, s in enumerate(walk["stops"]) if s["points"] > 500
    ]


def _wraps(cloud: Cloud, columns: int) -> bool:
    """Whether the last column of a grid lies beside the first: by the turn from column to column."""
    some = cloud.sample(SAMPLE)
    xyz, column = cloud.at(some), cloud.pick("column", some).astype(np.int64)
    level = np.abs(xyz[:, 2]) < 2.0 * np.hypot(xyz[:, 0], xyz[:, 1])
    turn, column = np.arctan2(xyz[level, 1], xyz[level, 0]), column[level]
    if columns < 16 or len(column) < 100:
        return False
    mean = lambda use: np.angle(np.exp(1j * turn[use]).mean()) if use.any() else np.nan
    quarter = columns // 8
    ends = mean(column < quarter), mean(column >= columns - quarter)
    inner = mean((column >= quarter) & (column < 2 * quarter))
    apart = lambda a, b: abs((a - b + np.pi) % (2 * np.pi) - np.pi)
    return bool(apart(*ends) < 1.5 * apart(ends[0], inner))


def around(origin, step: float) -> Frame:
    """A picture of everything around a place, ``step`` (rad) a pixel."""
    return Frame(int(np.ceil(np.pi / step)), int(np.ceil(2 * np.pi / step)), True, False, step, tuple(origin))


def _by_angles(cloud: Cloud, origin, times: tuple[float, ...] = (), mine: int = 0) -> Frame:
    """A picture with about a point a pixel where points are dense."""
    count = cloud.count / max(len(times), 1)
    xyz = cloud.at(cloud.sample(SAMPLE)) - origin
    up = xyz[:, 2] / np.maximum(np.linalg.norm(xyz, axis=1), 1e-9)
    turn = np.arctan2(xyz[:, 1], xyz[:, 0])
    cells = np.unique((up * 60).astype(int) * 1000 + (turn * 40).astype(int)).size
    solid = cells / 60 / 40  # of the sphere that is covered
    step = float(np.clip(np.sqrt(solid / max(count, 1)), FINEST, COARSEST))
    return replace(around(origin, step), times=times, mine=mine)


def spacing(job: Job, scan: Scan, frame: Frame) -> float:
    """Angle (rad) from one of a scan's points to the next, in its picture."""
    if not frame.grid:
        return frame.step
    cloud = job.cloud(scan.id)
    some = cloud.sample(SAMPLE // 10)
    xyz, row = cloud.at(some), cloud.pick("row", some).astype(float)
    up = np.arctan2(xyz[:, 2], np.hypot(xyz[:, 0], xyz[:, 1]))
    slope = np.polyfit(row, up, 1)[0] if len(some) > 10 and np.ptp(row) > 0 else np.radians(0.1)
    return float(np.clip(abs(slope), FINEST, COARSEST))


def fill(piece: CloudPiece, frame: Frame, path: str, progress: Progress) -> np.ndarray:
    """Make the picture of a scan's kept points at ``path``: (rows, columns) f32, the nearest range (m) of
    each pixel, 0 where there is none; a memory map.
    """
    cloud = piece.open()
    shape = (frame.rows, frame.columns)
    picture = np.lib.format.open_memmap(path, mode="w+", dtype=np.float32, shape=shape)
    flat = picture.reshape(-1)
    for start, stop in cloud.blocks():
        pixel, r, there = frame.place(cloud, start, stop)
        there &= cloud.kept(start, stop)
        pixel, r = pixel[there], r[there].astype(np.float32)
        order = np.argsort(-r, kind="stable")  # the nearest is written last
        pixel, r = pixel[order], r[order]
        old = flat[pixel]
        flat[pixel] = np.where((old > 0) & (old < r), old, r)
        progress.advance(stop, cloud.count)
    return picture


def scratch_name(folder: str, scan: int, number: int, what: str) -> str:
    return os.path.join(folder, f"{what}-{scan}-{number}.npy")
