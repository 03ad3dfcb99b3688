"""What a touch in a view means: a point of a scan, and the patch around it."""

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from terrazza.core.geometry import rigid
from terrazza.operations.spine.job import Job


class Touch(BaseModel):
    """A touched point: the scan and the coordinates in the scan's own frame (m), so that it moves with its
    scan.
    """

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    scan: int = Field(ge=1)
    at: tuple[float, float, float]


def place(job: Job, touch: dict) -> np.ndarray:
    """Where a touched point is now (grid, or job frame); of a scan that is not placed in its own frame."""
    scan = job.scan(touch["scan"])
    return rigid.apply(job.grid_pose(scan) if scan.pose is not None else np.eye(4), np.array([touch["at"]]))[
        0
    ]


def patch(job: Job, centre: np.ndarray, radius: float, codes=None) -> np.ndarray:
    """Kept points (n, 3) of all placed scans within ``radius`` of a place (grid, or job frame), of some
    classes only where asked.
    """
    found = [np.zeros((0, 3))]
    for scan in job.scans(placed=True):
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        index = cloud.in_ball(rigid.apply(rigid.inverse(pose), centre[None])[0], radius)
        index = cloud.kept_of(index)
        if codes is not None:
            index = index[np.isin(cloud.pick("class", index), codes)] if cloud.has("class") else index[:0]
        found.append(rigid.apply(pose, cloud.at(index)))
    return np.concatenate(found)
