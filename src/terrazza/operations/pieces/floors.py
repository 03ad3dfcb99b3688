"""The floors of a building, as the stations stand on them."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.job import Job

# m: how far about a station its floor is looked for, and how far below it (common practice: tripods and heads
# of 0.5 to 2.3 m)
AROUND, UNDER = 5.0, (0.4, 2.6)
STEP = 0.05  # m
SAMPLE = 60_000
APART = 1.5  # m between two floors
SPARE = 0.4  # m below a floor that still belong to it


def floor_under(xyz: np.ndarray, eye: np.ndarray) -> float | None:
    """Height of the level that most points (n, 3, heights upright) under a station at ``eye`` share, None
    where there are too few.
    """
    near = (
        (np.hypot(xyz[:, 0] - eye[0], xyz[:, 1] - eye[1]) < AROUND)
        & (xyz[:, 2] < eye[2] - UNDER[0])
        & (xyz[:, 2] > eye[2] - UNDER[1])
    )
    z = xyz[near, 2]
    if len(z) < 50:
        return None
    place = np.floor(z / STEP).astype(int)
    values, counts = np.unique(place, return_counts=True)
    best = values[np.argmax(counts)]
    return float(np.median(z[np.abs(place - best) <= 1]))


def together(levels: list[float], apart: float = APART) -> list[list[float]]:
    """Levels that belong to one floor, lowest first: a gap of ``apart`` begins the next."""
    ordered = np.sort(levels)
    return [
        part.tolist() for part in np.split(ordered, np.flatnonzero(np.diff(ordered) > apart) + 1) if len(part)
    ]


def floors(job: Job) -> list[dict]:
    """Lowest first: ``level`` (m, median of the stations' floors), ``stations`` standing on it, ``low`` and
    ``high`` (m, job's grid; None: without end).
    """
    levels = []
    for scan in job.scans(placed=True):
        if has_station(scan):
            cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
            found = floor_under(rigid.apply(pose, cloud.at(cloud.sample(SAMPLE))), pose[:3, 3])
            if found is not None:
                levels.append(found)
    groups = together(levels)
    edges = [g[0] - SPARE for g in groups]
    return [
        {
            "level": float(np.median(g)),
            "stations": len(g),
            "low": edges[k] if k else None,
            "high": edges[k + 1] if k + 1 < len(groups) else None,
        }
        for k, g in enumerate(groups)
    ]
