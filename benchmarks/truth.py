"""What the simulated field work knows, joined to the points that the application imported."""

import json
import os

import numpy as np
from numba import njit, prange

from terrazza.core.geometry import rigid
from terrazza.instruments.scanner import MIRRORED, MIXED, REAL
from terrazza.instruments.tracing import cast
from terrazza.operations.spine.job import Job

DETACHED = 0.03


def load(folder: str) -> dict:
    """Poses (scanner to scene), biases, boards and the scene-to-grid matrix."""
    with open(os.path.join(folder, "truth", "truth.json")) as f:
        return json.load(f)


def station(folder: str, scan) -> int:
    """Which set-up (from 0) a scan of the job is, by its name."""
    return load(folder)["names"].index(scan.name)


def per_point(folder: str, job: Job, scan) -> dict[str, np.ndarray]:
    """Truth of each point of a scan in column order, found by its row and column in the grid."""
    truth = np.load(os.path.join(folder, "truth", f"scan{station(folder, scan) + 1}.npz"))
    cloud = job.cloud(scan.id)
    key = truth["row"].astype(np.int64) << 20 | truth["column"]
    order = np.argsort(key)
    mine = np.asarray(cloud.read("row")).astype(np.int64) << 20 | np.asarray(cloud.read("column"))
    index = order[np.searchsorted(key[order], mine)]
    return {n: truth[n][index] for n in ("kind", "code", "moved", "clear")}


def pose_errors(poses: list[np.ndarray], truth: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """Position (mm) and attitude (°) errors after the common frame is taken out by the best rigid fit of the
    places.
    """
    frame = truth[0] @ rigid.inverse(poses[0])
    shift, _ = rigid.fit(np.array([(frame @ p)[:3, 3] for p in poses]), np.array([t[:3, 3] for t in truth]))
    moved = [shift @ frame @ p for p in poses]
    pairs = [rigid.difference(m, t) for m, t in zip(moved, truth)]
    return np.array([p[0] for p in pairs]) * 1000, np.degrees([p[1] for p in pairs])


@njit(parallel=True, cache=True)
def _seen(kind, table, style, epochs, tree, epoch, eye, points, slack, out):
    for i in prange(len(points)):
        d = points[i] - eye
        r = np.sqrt(d[0] ** 2 + d[1] ** 2 + d[2] ** 2)
        t, _, _, _ = cast(
            kind,
            table,
            style,
            epochs,
            tree,
            epoch,
            eye[0],
            eye[1],
            eye[2],
            d[0] / r,
            d[1] / r,
            d[2] / r,
            np.uint64(i),
        )
        out[i] = t > r - slack


def seen(world, epoch: int, eye: np.ndarray, points: np.ndarray, slack: float = 0.06) -> np.ndarray:
    """Which scene points (n, 3) have nothing solid more than ``slack`` metres before them, seen from ``eye``
    in that set-up's moment.
    """
    out = np.zeros(len(points), np.bool_)
    _seen(*world.arrays(), epoch, eye, points, slack, out)
    return out


__all__ = ["DETACHED", "MIRRORED", "MIXED", "REAL", "load", "per_point", "pose_errors", "seen", "station"]
