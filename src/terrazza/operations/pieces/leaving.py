"""How points leave the job: in which frame and coordinate system, with what colours and intensities."""

import os
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.georef import systems
    from terrazza.formats import systems as wkts

LOCAL = "job"
GRIDS = "grids"  # folder of a workspace for grid files that coordinate systems need
TOLD = 0.02  # m: a change of systems that is less accurate is told


@dataclass(frozen=True)
class Change:
    """From the job's grid to another system: the steps as PROJ writes them, metres in the units of both, and
    the folder of grid files.
    """

    pipeline: str
    metres: tuple[float, float]
    grids: str

    def of(self, xyz: np.ndarray) -> np.ndarray:
        """Places (n, 3) m of the grid in the other system, in metres too."""
        return _changed(self.pipeline, self.grids, xyz / self.metres[0]) * self.metres[1]


@lru_cache(maxsize=4)
def _steps(pipeline: str, grids: str):
    return systems.pipeline(pipeline, grids)


def _changed(pipeline: str, grids: str, xyz: np.ndarray) -> np.ndarray:
    return np.stack(_steps(pipeline, grids).transform(*xyz.T, errcheck=True), axis=1)


@dataclass(frozen=True)
class Way:
    """How the points of one scan leave: ``pose`` (4×4, None for the scan's own frame), then ``change``; the
    columns that give ``colour``, the first that has one; ``depth`` of colours; ``tone`` (dark, light) that
    intensities are stretched between.
    """

    pose: np.ndarray | None
    change: Change | None
    colour: tuple[str, ...]
    depth: str = ""
    tone: tuple[float, float] | None = None

    def places(self, xyz: np.ndarray) -> np.ndarray:
        """Points (n, 3) m of the scan as they leave."""
        moved = xyz if self.pose is None else rigid.apply(self.pose, xyz)
        return moved if self.change is None else self.change.of(moved)

    def toned(self, intensity: np.ndarray) -> np.ndarray:
        """Intensities u16 as they leave. (n,)."""
        if self.tone is None:
            return intensity
        dark, light = self.tone
        share = (intensity.astype(np.float64) - dark) / max(light - dark, 1)
        return np.rint(np.clip(share, 0, 1) * 65535).astype(np.uint16)


@dataclass(frozen=True)
class Target:
    """The system in which a deliverable is: its record (``wkt``, ``metres_per_unit``, ``name``; None where
    nothing is said), the way there from the grid, whether that is the job's own frame, and what is doubted.
    """

    crs: dict | None
    change: Change | None = None
    local: bool = False
    doubts: tuple[str, ...] = ()

    def pose(self, job: Job, scan: Scan) -> np.ndarray:
        """4×4 of a placed scan, before the change of systems."""
        return scan.pose if self.local else job.grid_pose(scan)

    @property
    def unit(self) -> float:
        """Metres in the unit of its coordinates."""
        return self.crs["metres_per_unit"] if self.crs else 1.0

    @property
    def wkt(self) -> str:
        return self.crs["wkt"] if self.crs else ""


def target_of(job: Job, system: str) -> Target:
    """The target that is asked for: the grid (empty), the job's own frame, or another system."""
    crs = job.get("crs")
    if not system.strip():
        return Target(crs)
    if system.strip().lower() == LOCAL:
        return Target(None, local=True)
    if crs is None:
        raise StateError(
            "It is not said in which coordinate system the grid is, so nothing can be brought into another.",
            "Georeference the job and name its system first.",
        )
    other = systems.projected(system)
    folder = os.path.join(job.workspace, GRIDS)
    middle = np.mean([job.grid_pose(s)[:3, 3] for s in job.scans(placed=True)] or [np.zeros(3)], axis=0)
    found = systems.way(crs["wkt"], other, middle / crs["metres_per_unit"], folder)
    doubts = ()
    if not found.accuracy <= TOLD:
        known = f"is only accurate to {found.accuracy:g} m" if found.accuracy >= 0 else "says no accuracy"
        doubts = (f"The change from {crs['name']} to {other.name} ({found.name}) {known}.",)
    wkt = other.to_wkt()
    metres = wkts.metres_per_unit(wkt)
    record = {"wkt": wkt, "metres_per_unit": metres, "name": other.name}
    return Target(record, Change(found.pipeline, (crs["metres_per_unit"], metres), folder), doubts=doubts)


def way_of(job: Job, scan: Scan, params: PointParams, target: Target, colour: tuple[str, ...]) -> Way:
    """How the points of a scan leave; without a pose where it has no place."""
    dark, light = scan.record.get("intensity_range") or (0, 65535)
    pose = None if scan.pose is None else target.pose(job, scan)
    tone = (float(dark), float(light)) if params.tone == "stretched" else None
    return Way(pose, target.change, colour, params.depth, tone)


def need_own_frames(params: PointParams) -> None:
    """ParamsError where scans in frames of their own are asked for in another system."""
    if params.system.strip().lower() not in {"", LOCAL}:
        raise ParamsError(
            "Scans in frames of their own cannot be brought into another coordinate system: a pose only "
            "turns and shifts.",
            "Merge them into one, or write LAZ or text.",
        )
