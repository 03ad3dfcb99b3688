"""Planes that are looked at or drawn on: fronts along a line, and free ones through touched points."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.base import Params, Triple, field, touched_field
from terrazza.operations.spine.job import Job

with later():
    from terrazza.core.geometry import planes

LEVEL = 0.95  # of a normal upwards, from which on a plane is level: east lies to the right


class FacingParams(Params):
    line: list[list[float]] = field(
        "Line of a front",
        list,
        max_length=2,
        help="[[E, N], [E, N]]: it stands on this line, the first place to the left.",
    )
    patches: list[Triple] = touched_field(
        help="Instead: three or more of a free plane, E, N, H (or in the job frame)."
    )


def facing(job: Job, params: FacingParams, name: str) -> tuple[np.ndarray, float | None]:
    """4×4 from the grid (or job frame) to a plane: to the right, up in it, and towards the viewer, m; a front
    begins at 0 and ends at its length, else None.  ParamsError where neither a line nor a plane is given.
    """
    if params.patches:
        return _free(job, np.array(params.patches, float), name), None
    line = np.array(params.line, float)
    if line.shape != (2, 2) or not np.linalg.norm(line[1] - line[0]) > 0:
        raise ParamsError(
            f"{name}: a front takes a line of two places, a free plane three touched points.", "Give one."
        )
    length = float(np.linalg.norm(line[1] - line[0]))
    right = np.append((line[1] - line[0]) / length, 0.0)
    return _turned(right, np.array([0.0, 0.0, 1.0]), np.append(line[0], 0.0)), length


def _free(job: Job, touched: np.ndarray, name: str) -> np.ndarray:
    if len(touched) < 3 or np.linalg.matrix_rank(touched - touched.mean(0), tol=1e-3) < 2:
        raise ParamsError(f"{name}: a plane takes three touched points that lie in no line.", "Touch more.")
    normal, middle = planes.fit(touched).normal, touched.mean(0)
    eyes = [job.grid_pose(s)[:3, 3] for s in job.scans(placed=True) if has_station(s)]
    side = sum(np.sign((eye - middle) @ normal) for eye in eyes) or np.sign(normal[2]) or 1.0
    normal = normal * np.sign(side)
    right = np.array([1.0, 0, 0]) if abs(normal[2]) > LEVEL else np.cross([0, 0, 1.0], normal)
    right = right - (right @ normal) * normal
    right /= np.linalg.norm(right)
    return _turned(right, np.cross(normal, right), middle)


def _turned(right: np.ndarray, up: np.ndarray, origin: np.ndarray) -> np.ndarray:
    turn = np.stack([right, up, np.cross(right, up)])
    return rigid.make(turn, -turn @ origin)
