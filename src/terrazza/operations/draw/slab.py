"""Points of a slab, and the floor that it lies above."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.job import Job

FAR = 1e9  # m: nothing is beyond
BELOW, ABOVE = 2.4, 4.5  # m: how far a storey reaches from a slab in it
MANY, SPACING = 30_000_000, 0.008  # points beyond which those of a spacing (m) do
EVEN = 0.03  # m; points this far apart show where a floor lies as well as all of them do


def floor_height(job: Job) -> float:
    """Height (m, grid or job frame) of the floor under the first placed scan: the fullest 5 cm below the
    instrument within 4 m, where points are spread evenly.
    """
    scan = job.need_scans(placed=True)[0]
    cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
    near = _around(cloud, EVEN)
    near = near if len(near) >= 1000 else _around(cloud, 0.0)
    if len(near) < 50:
        return float(rigid.apply(pose, np.array([scan.record["bounds"][0]]))[0, 2])
    z = rigid.apply(pose, near)[:, 2]
    z = z[z < pose[2, 3] - 0.3] if (z < pose[2, 3] - 0.3).any() else z
    counts, edges = np.histogram(z, bins=np.arange(z.min(), z.max() + 0.1, 0.05))
    k = int(np.argmax(counts))
    return float(np.median(z[(z >= edges[k]) & (z <= edges[k + 1])]))


def _around(cloud, spacing: float) -> np.ndarray:
    """(n, 3) kept points within 4 m of the scanner in plan (scan's frame), those of coarse nodes only where a
    spacing (m) is given.
    """
    index = cloud.inside([-4.0, -4.0, -1e6], [4.0, 4.0, 1e6], spacing=spacing)
    index = cloud.kept_of(index)
    xyz = cloud.at(index)
    return xyz[np.linalg.norm(xyz[:, :2], axis=1) < 4]


def slab_points(job: Job, scans, low: float, high: float, progress: Progress) -> np.ndarray:
    """(n, 3) kept points between two heights, grid (or job) frame, read through the octree."""
    return _inside(job, scans, np.array([-FAR, -FAR, low]), np.array([FAR, FAR, high]), np.eye(4), progress)


def vertical_points(
    job: Job, scans, piece, thickness: float, heights: tuple[float, float], progress: Progress
) -> np.ndarray:
    """(n, 2) chainage and height (m) of the kept points within a vertical slab along a piece of a section's
    line (``core.draw.sections.Piece``), between two heights.
    """
    low = np.array([piece.at, -thickness / 2, max(heights[0], -FAR)])
    high = np.array([piece.at + piece.length, thickness / 2, min(heights[1], FAR)])
    return _inside(job, scans, low, high, piece.to_flat(), progress)[:, [0, 2]]


def upright_points(job: Job, scans, piece, thickness: float, progress: Progress) -> np.ndarray:
    """(n, 3) kept points (grid, or job frame) within a vertical slab along a piece of a section's line."""
    low = np.array([piece.at, -thickness / 2, -FAR])
    high = np.array([piece.at + piece.length, thickness / 2, FAR])
    turned = piece.to_flat()
    return rigid.apply(rigid.inverse(turned), _inside(job, scans, low, high, turned, progress))


def turned_points(
    job: Job,
    scans,
    turned: np.ndarray,
    along: tuple[float, float | None],
    thickness: float,
    progress: Progress,
) -> np.ndarray:
    """(n, 2) kept points within half a thickness of a plane, in it: to the right (from ``along`` to, without
    end where None) and up, m; ``turned`` (4×4) takes the grid to it.
    """
    start, stop = (-FAR, FAR) if along[1] is None else along
    low, high = np.array([start, -FAR, -thickness / 2]), np.array([stop, FAR, thickness / 2])
    return _inside(job, scans, low, high, turned, progress)[:, :2]


def storey_points(
    job: Job, scans, height: float, progress: Progress
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Kept points (n, 3) of the storey about a height, grid (or job) frame, which station saw each (n,), -1
    for scans that were not taken from one place, and the stations (k, 3); an even share of very many.
    """
    low, high = np.array([-FAR, -FAR, height - BELOW]), np.array([FAR, FAR, height + ABOVE])
    spacing = SPACING if sum(s.points for s in scans) > MANY else 0.0
    parts, who, stations = [np.zeros((0, 3))], [np.zeros(0, int)], []
    for n, scan in enumerate(scans):
        progress.advance(n, len(scans), f"Reading the storey from {scan.name}")
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        index = cloud.kept_of(cloud.inside(low, high, pose, spacing))
        parts.append(rigid.apply(pose, cloud.at(index)))
        inside = has_station(scan) and low[2] < pose[2, 3] < high[2]
        who.append(np.full(len(index), len(stations) if inside else -1))
        if inside:
            stations.append(pose[:3, 3])
    return np.concatenate(parts), np.concatenate(who), np.array(stations).reshape(-1, 3)


def box_points(job: Job, scans, low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """(n, 3) kept points in a box of the grid (or job) frame."""
    return _inside(job, scans, low, high, np.eye(4), QUIET)


def _inside(job: Job, scans, low, high, turned: np.ndarray, progress: Progress) -> np.ndarray:
    """(n, 3) kept points in a box of the frame that ``turned`` (4×4) takes the grid to, in that frame."""
    parts = [np.zeros((0, 3))]
    for n, scan in enumerate(scans):
        progress.advance(n, len(scans), f"Cutting the slab from {scan.name}")
        cloud, pose = job.cloud(scan.id), turned @ job.grid_pose(scan)
        index = cloud.kept_of(cloud.inside(low, high, pose))
        parts.append(rigid.apply(pose, cloud.at(index)))
    return np.concatenate(parts)
