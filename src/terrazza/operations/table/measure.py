"""Take a measure."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table.naming import free_name, name_or
from terrazza.operations.table.touch import Touch, patch, place
from terrazza.operations.table.words import told

with later():
    from terrazza.core.measure import fits, measures

GROUND = 2
COUNTS = {
    "point": (1, 1),
    "distance": (2, 2),
    "length": (2, 2000),
    "area": (3, 2000),
    "angle": (3, 3),
    "above ground": (1, 1),
    "plane": (1, 1),
    "cylinder": (1, 1),
    "sphere": (1, 1),
    "wall to wall": (1, 1),
}
FROM_POINTS = {"point", "distance", "length", "area", "angle"}
BEAM = 60.0


class MeasureParams(Params):
    kind: Literal[
        "point",
        "distance",
        "length",
        "area",
        "angle",
        "above ground",
        "plane",
        "cylinder",
        "sphere",
        "wall to wall",
    ] = field("What", "distance")
    points: list[Touch] = field(
        "Points",
        list,
        help="As touched: scan and coordinates in its own frame.",
        min_length=1,
        max_length=2000,
    )
    name: str = field("Name", "", max_length=100, help="Empty: the kind and a number.")
    reach: float = field(
        "Patch",
        0.15,
        unit="m",
        ge=0.005,
        le=20,
        help="Radius of the patch around the touched point, for planes, cylinders, spheres, walls and "
        "the ground.",
    )


def measured(job: Job, kind: str, touches: list[dict], reach: float) -> dict:
    """The figures of a measure as the scans lie now, with ``at``, the places (n, 3); ParamsError where points
    are too few or their scans not placed together.
    """
    least, most = COUNTS[kind]
    if not least <= len(touches) <= most:
        raise ParamsError(
            f"A measure “{kind}” takes {least if least == most else f'{least} or more'} points, got "
            f"{len(touches)}.",
            "Touch them again.",
        )
    scans = {t["scan"] for t in touches}
    if (len(scans) > 1 or kind not in FROM_POINTS) and any(job.scan(s).pose is None for s in scans):
        raise StateError(
            "A scan that is not placed can only be measured within itself.", "Register it first."
        )
    at = np.array([place(job, t) for t in touches])
    if kind == "point":
        figures = dict(zip("xyz", map(float, at[0])))
    elif kind == "distance":
        figures = measures.distance(*at)
    elif kind in {"length", "area", "angle"}:
        figures = getattr(measures, kind)(at)
    elif kind == "above ground":
        figures = _above(job, at[0], reach)
    elif kind == "wall to wall":
        figures = _across(job, at[0], reach)
    else:
        figures = _shape(job, kind, at[0], reach)
    return figures | {"at": at.tolist()}


def _above(job, point, reach):
    """Over the ground points around the foot: the nearest circle, doubled up to 3 m, that holds six."""
    radius = reach
    while radius < 3.2:
        column = [np.zeros((0, 3))]
        for scan in job.scans(placed=True):
            cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
            if cloud.has("class"):
                beam = np.array([radius, radius, BEAM])
                index = cloud.kept_of(cloud.inside(point - beam, point + beam, pose))
                column.append(
                    rigid.apply(
                        pose,
                        cloud.at(index[cloud.pick("class", index) == GROUND]),
                    )
                )
        ground = np.concatenate(column)
        if len(ground) >= 6:
            return measures.above(point, ground)
        radius *= 2
    raise StateError(
        f"There is no ground within {Notation.of(job).length(3)} of the foot of this point.",
        "Classify the ground first, or measure elsewhere.",
    )


def _shape(job, kind, point, reach):
    points = patch(job, point, reach)
    found = fits.fit(kind, points, 0.0005)
    figures = {
        "rms": found.rms,
        "points": int(found.used.sum()),
        "left_out": int((~found.used).sum()),
        "centre": found.centre.tolist(),
    }
    if kind != "plane":
        figures |= {"radius": found.radius, "sigma": found.sigma}
    if found.direction is not None:
        up = found.direction * (1 if found.direction[2] >= 0 else -1)
        figures |= {
            "direction": up.tolist(),
            "from_vertical_deg": float(np.degrees(np.arccos(min(abs(up[2]), 1.0)))),
        }
    return figures


def _across(job, point, reach):
    """From the wall touched along its normal to the first wall on either side that faces it."""
    near = patch(job, point, reach)
    wall = fits.fit("plane", near, 0.0005)
    best = None
    for side in (1, -1):
        for step in np.arange(3 * reach, BEAM, reach):
            far = patch(job, point + side * step * wall.direction, reach)
            if len(far) >= 12:
                plane = fits.fit("plane", far, 0.0005)
                if (
                    abs(plane.direction @ wall.direction) > 0.9
                    and plane.used.mean() > 0.7
                    and (best is None or step < best[0])
                ):
                    best = (step, far[plane.used])
                    break
    if best is None:
        raise StateError(
            f"No wall faces this one within {Notation.of(job).length(BEAM)}.",
            "Touch the wall where the other lies opposite.",
        )
    return measures.between_walls(near[wall.used], best[1])


@operation
class TakeMeasure(Operation):
    """Sets a measure down: its points move with their scans, its figures follow."""

    name, title, step = "measure.take", "Measure", "Table"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"measure"})
    bound_to_place = True
    light = True
    Params = MeasureParams

    def run(self, job: Job, params: MeasureParams, progress: Progress) -> Figures:
        touches = [t.model_dump(mode="json") for t in params.points]
        figures = measured(job, params.kind, touches, params.reach)
        number = job.next_number("measure")
        name = name_or(job, "measure", params.name, free_name(job, "measure", number, params.kind))
        job.put(
            "measure", number, {"kind": params.kind, "name": name, "points": touches, "reach": params.reach}
        )
        return {
            "says": f"{name}: {told(Notation.of(job), params.kind, figures)}",
            "measure": number,
        } | figures
