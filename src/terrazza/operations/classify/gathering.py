"""Thinned points of several scans with what rules by kind need: where each was seen from, and what it says
itself.
"""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import field as field_of
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.classify import lows
    from terrazza.core.geometry import voxels
    from terrazza.core.walks import path as paths

MOST = 6_000_000  # thinned points that are held at once
FEWEST = 200
FINEST, COARSEST = 0.1, 2.0  # m
WIDER = 1.2  # usual distances from point to point that shapes are looked at in
RETURNS, INTENSITY, COLOUR = "returns", "intensity", "native_rgb"


def cell_field() -> Any:
    """How far apart the points are among which shapes are judged."""
    return field_of(
        "Fineness",
        0.0,
        unit="m",
        ge=0,
        le=5,
        blank="auto",
        help="Shapes are judged among points this far apart; 0: by the spacing of the points.",
    )


@dataclass(frozen=True)
class Gathered:
    """Points (n, 3) in the job frame, one to a cell of ``cell`` m, with ``facing`` (n, 3), which points to
    the scanner and is zero where its place is not known, and ``own`` values (n,) by column (absent where not
    every scan has it).
    """

    xyz: np.ndarray
    facing: np.ndarray
    cell: float
    own: dict[str, np.ndarray] = field(default_factory=dict)


def gathered(
    job: Job, scans: list[Scan], cell: float, progress: Progress, own: tuple[str, ...] = ()
) -> Gathered:
    """Kept points of placed scans, thinned; the cell is doubled until they can be held at once.  StateError
    where hardly any are left.
    """
    while True:
        parts = job.fleet.map(
            _one,
            [(CloudPiece.of(job, s), s.pose, _seen_from(job, s), cell, own) for s in scans],
            [s.points for s in scans],
            progress,
            "Thinning",
            light=True,
        )
        xyz, facing = (np.concatenate([p[k] for p in parts]) for k in (0, 1))
        first = voxels.one_per_cell(xyz, cell) if len(xyz) else np.zeros(0, np.int64)
        if len(first) <= MOST:
            break
        cell *= 2 ** np.ceil(np.log2(np.sqrt(len(first) / MOST)))
    if len(first) < FEWEST:
        raise StateError(
            f"Only {len(first)} points are left to look at.", "Put cuts back, or choose more scans."
        )
    there = [name for name in own if all(name in p[2] for p in parts)]
    values = {name: np.concatenate([p[2][name] for p in parts])[first] for name in there}
    return Gathered(xyz[first], facing[first], cell, values)


def gathered_open(
    job: Job, scans: list[Scan], progress: Progress, cell: float = 0.0, own: tuple[str, ...] = ()
) -> Gathered:
    """The same at the spacing that shapes in the open are judged at, by how far points lie apart in plan."""
    if not cell:
        thin = gathered(job, scans, FINEST, Part(progress, 0, 0.5))
        cell = float(np.clip(WIDER * lows.usual_distance(thin.xyz), FINEST, COARSEST))
    return gathered(job, scans, cell, Part(progress, 0.5, 1.0), own)


def _seen_from(job: Job, scan: Scan) -> tuple[np.ndarray, np.ndarray] | None:
    """Times (k,) and places (k, 3) that a scan was seen from, in its own frame; None where not known."""
    if has_station(scan):
        return np.zeros(1), np.zeros((1, 3))
    walk = job.get("walk", scan.id)
    if walk is None or not job.cloud(scan.id).has("time"):
        return None
    return np.array([s["time"] for s in walk["stops"]]), np.array([s["at"] for s in walk["stops"]])


def _one(args, progress: Progress):
    piece, pose, seen_from, cell, own = args
    cloud = piece.open()
    own = [name for name in own if cloud.has(name)]
    parts: list = [(np.zeros((0, 3)), np.zeros((0, 3)), {n: cloud.values(n, 0, 0, 0) for n in own})]
    for start, stop in cloud.blocks():
        index = np.flatnonzero(cloud.kept(start, stop))
        xyz = cloud.xyz(start, stop)[index]
        placed = rigid.apply(pose, xyz)
        first = voxels.one_per_cell(placed, cell) if len(xyz) else index
        facing = np.zeros((len(first), 3))
        if seen_from is not None:
            times, places = seen_from
            which = np.zeros(len(first), int)
            if len(times) > 1:
                which = paths.belongs(np.asarray(cloud.read("time", start, stop))[index[first]], times)
            facing = (places[which] - xyz[first]) @ pose[:3, :3].T
        values = {n: np.asarray(cloud.values(n, 0, start, stop))[index[first]] for n in own}
        parts.append((placed[first], facing, values))
        progress.advance(stop, cloud.count)
    xyz, facing = (np.concatenate([p[k] for p in parts]) for k in (0, 1))
    first = voxels.one_per_cell(xyz, cell) if len(xyz) else np.zeros(0, np.int64)
    return xyz[first], facing[first], {n: np.concatenate([p[2][n] for p in parts])[first] for n in own}
