"""Panoramas of stations, made from a scan's columns when first asked for and kept in the job's pictures
folder, which may be deleted at any time.
"""

import os
from functools import lru_cache
from hashlib import sha1
from uuid import uuid4

import numpy as np

from terrazza.errors import NotFound, StateError
from terrazza.later import later
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.geometry import panorama
    from terrazza.core.walks import path as paths

BEFORE = ("E57", "PTX", "PCD")  # formats whose scans have stations, of imports that did not note it
WIDTH, STOP_WIDTH = 4096, 2048
SAMPLE = 300_000


def has_station(scan: Scan) -> bool:
    """Whether there is a place from which a scan was taken as a whole."""
    told = scan.record.get("stationed")
    return scan.record["format"] in BEFORE if told is None else told


def path_of(job: Job, scan: Scan) -> "paths.Path | None":
    """The path of a walked scan; None where it has none."""
    told = job.array(f"path-{scan.id}")
    return None if told is None else paths.Path(told[:, 0], told[:, 1:4], told[:, 4])


def stop_of(job: Job, number: int, stop: int) -> dict | None:
    """A stop of a walked scan (counted from 1), None for 0; NotFound where the walk has no such stop."""
    if not stop:
        return None
    stops = job.get("walk", number, {"stops": []})["stops"]
    if stop > len(stops):
        raise NotFound(f"Scan {number} has no stop {stop}.", f"It has {len(stops)}.")
    return stops[stop - 1]


def eye(job: Job, number: int, stop: int = 0) -> np.ndarray:
    """(3,) m in the scan's frame from where its station, or a stop of a walk, looks around."""
    at = stop_of(job, number, stop)
    return np.array(at["at"] if at else [0.0, 0.0, 0.0], float)


def looks(job: Job, scans: list[Scan]) -> list[tuple[Scan, int]]:
    """(scan, stop) of every station, with stop 0, and of every stop of walks."""
    stops = [(s, len(job.get("walk", s.id, {"stops": []})["stops"])) for s in scans]
    return [(s, 0) for s in scans if has_station(s)] + [(s, k + 1) for s, n in stops for k in range(n)]


def view(job: Job, number: int, stop: int = 0) -> "panorama.Panorama":
    """The panorama of a scan's station, from its grid or else rendered from its points, or of a stop of a
    walk; its pixels hold indices into the scan's columns.
    """
    scan, at = job.scan(number), stop_of(job, number, stop)
    if at is None and not has_station(scan):
        raise StateError(
            f"“{scan.name}” was not taken from one place, so there is no view from a station.",
            "Look at it in plan, space or slab, or give it the path of its walk.",
        )
    told = [*job.get("column", f"{number}/position"), str(at), str(scan.record.get("view_width", 0))]
    name = f"station-{number}-{sha1('|'.join(told).encode()).hexdigest()[:10]}"
    base = os.path.join(job.subfolder("pictures"), name)
    if not os.path.exists(f"{base}.npz"):
        _keep(base, _made(job, scan, at))
    return _opened(base)


@lru_cache(maxsize=8)
def _opened(base: str) -> "panorama.Panorama":
    with np.load(f"{base}.npz") as angles:
        return panorama.Panorama(
            np.load(f"{base}.npy", mmap_mode="r").view(np.ndarray), angles["azimuth"], angles["elevation"]
        )


def _keep(base: str, made: "panorama.Panorama") -> None:
    own = f"{base}.{uuid4().hex}"
    np.save(f"{own}.npy", made.index)
    np.savez(f"{own}.npz", azimuth=made.azimuth, elevation=made.elevation)
    os.replace(f"{own}.npy", f"{base}.npy")
    os.replace(f"{own}.npz", f"{base}.npz")


def _made(job: Job, scan: Scan, stop: dict | None) -> "panorama.Panorama":
    cloud, grid, wanted = job.cloud(scan.id), scan.record.get("grid"), scan.record.get("view_width", 0)
    if stop is not None:
        return panorama.rendered(
            lambda: ((a, cloud.xyz(a, b) - stop["at"]) for a, b in cloud.blocks()), wanted or STOP_WIDTH
        )
    if grid and cloud.has("row") and cloud.has("column"):
        step = -(-grid[1] // wanted) if wanted else 1  # every so many rows and columns share a pixel
        place = lambda name, *where: np.asarray(cloud.read(name, *where)) // step
        some = cloud.sample(SAMPLE)
        sample = (
            cloud.at(some),
            cloud.pick("row", some).astype(np.int64) // step,
            cloud.pick("column", some).astype(np.int64) // step,
        )
        return panorama.from_grid(
            ((a, place("row", a, b), place("column", a, b)) for a, b in cloud.blocks()),
            *(-(-side // step) for side in grid),
            sample,
        )
    return panorama.rendered(lambda: ((a, cloud.xyz(a, b)) for a, b in cloud.blocks()), wanted or WIDTH)
