"""Mixed pixels of walks, tile by tile over the fleet: which points no surface holds, then which of these lie
between two surfaces along their beam.
"""

import os
from dataclasses import dataclass

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.fleet import few
from terrazza.later import later
from terrazza.operations.pieces import neighbours, range_pictures
from terrazza.operations.pieces.stations import path_of
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import seen_once
    from terrazza.core.walks import path as paths

MARGIN = 0.3  # m around a tile, at least
PART = 16  # of the points that may be in memory, a tile: for each go its neighbours


@dataclass(frozen=True)
class Tile:
    """A cube of a walk's own frame with the points in and around it, and the file (u1 by index) that takes
    which of them are unsure.
    """

    piece: CloudPiece
    way: "paths.Path"
    low: np.ndarray
    high: np.ndarray
    margin: float
    strength: float
    path: str


def way_of(job: Job, scan: Scan) -> "paths.Path | None":
    """The way of a walk by its path; None for what is no walk."""
    told = job.get("walk", scan.id) and job.cloud(scan.id).has("time")
    return path_of(job, scan) if told else None


def judge(
    job: Job, ways: dict[int, "paths.Path"], strength: float, folder: str, progress: Progress
) -> dict[int, tuple]:
    """For each walk what ``between`` needs: the files of its unsure points and of its surfaces, its way and
    the strength.
    """
    tasks, owner, points, args = [], [], [], {}
    for number, way in ways.items():
        cloud, piece = job.cloud(number), CloudPiece.of(job, job.scan(number))
        flags = range_pictures.scratch_name(folder, number, 0, "unsure")
        np.lib.format.open_memmap(flags, mode="w+", dtype=np.uint8, shape=(cloud.count,))
        args[number] = flags, os.path.join(folder, f"surfaces-{number}.npz"), way, strength
        for low, high, many, spacing in neighbours.tiles(cloud, job.fleet.points_at_once // PART):
            margin = max(MARGIN, neighbours.MARGIN * spacing)
            tasks.append(Tile(piece, way, low, high, margin, strength, flags))
            owner.append(number)
            points.append(many)
    found = job.fleet.map(
        told, tasks, points, Part(progress, 0, 0.95), "Looking for surfaces", light=few(points)
    )
    for number in ways:
        low = _corner(job.cloud(number))
        held = seen_once.Surfaces.together([f for f, o in zip(found, owner) if o == number])
        np.savez(args[number][1], code=held.code, middle=held.middle, low=low)
    return args


def _corner(cloud: Cloud) -> np.ndarray:
    return cloud.bounds()[0] - 1.0


def told(tile: Tile, progress: Progress):
    """Keep which points of a tile are unsure; returns the surfaces of the others."""
    cloud = tile.piece.open()
    index = cloud.kept_of(cloud.inside(tile.low - tile.margin, tile.high + tile.margin))
    xyz = cloud.at(index)
    inner = ((xyz >= tile.low) & (xyz < tile.high)).all(1)
    origins = tile.way.at(np.asarray(cloud.pick("time", index), np.float64))
    unsure = seen_once.unsure(xyz, origins, inner, tile.strength)
    out = np.lib.format.open_memmap(tile.path, mode="r+")
    out[index[inner & unsure]] = 1
    progress.advance(1, 1)
    return seen_once.Surfaces.of(xyz[inner & ~unsure], _corner(cloud))


def between(cloud: Cloud, start: int, stop: int, args: tuple) -> np.ndarray:
    """Mask of the points of a stretch that are mixed."""
    flags, surfaces, way, strength = args
    gone = np.load(flags, mmap_mode="r")[start:stop] != 0
    left = np.flatnonzero(gone)
    if len(left):
        origins = way.at(np.asarray(cloud.pick("time", start + left), np.float64))
        with np.load(surfaces) as kept:
            met = kept["code"], kept["middle"], kept["low"]
        gone[left] = seen_once.between(*met, cloud.at(start + left), origins, strength)
    return gone
