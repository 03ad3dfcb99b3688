"""Pick a target that the search missed, or anything sharp that can serve as one."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.georeference.sightings import free_name
from terrazza.operations.pieces.sharpening import sharpened
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import sharp

TWICE = 0.03  # m: a target nearer to another of its scan is the same
BY_EYE = 0.004  # m: how well a place is touched that nothing sharpens


class PickTargetParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    x: float = field("X", unit="m", help="In the scan's own frame.")
    y: float = field("Y", unit="m")
    z: float = field("Z", unit="m")
    name: str = field("Name", "", help="As the control has it; empty: T and its number.", max_length=60)
    refine: bool = field(
        "Sharpened",
        True,
        help="On: the middle of the board, ball or disc there, or the corner or edge, from all points about "
        "it. Off: the touched place as it is.",
    )


@operation
class PickTarget(Operation):
    """Takes a touched place of a scan as a target that the search missed: a board, ball or disc by its
    middle, or any corner or edge, placed finer than the points lie apart.
    """

    name, title, step = "georeference.pick_target", "Pick a target", "Georeference"
    version = 2
    reads = frozenset({"scan", "pose"})
    writes = frozenset({"target"})
    bound_to_place = True
    Params = PickTargetParams

    @classmethod
    def brought_up(cls, values: dict, version: int) -> dict:
        return values | {"refine": False} if version < 2 else values

    def run(self, job: Job, params: PickTargetParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        touch = np.array([params.x, params.y, params.z])
        if not np.isfinite(touch).all():
            raise ParamsError("georeference.pick_target: the place is not a number.", "Touch a point.")
        name, number = free_name(job, scan.id, params.name), job.next_number("target")
        found = sharpened(job, scan.id, touch) if params.refine else sharp.alone(touch, 2 * BY_EYE)
        centre, flat = found.centre, found.kind != "point"
        for known, other in job.facts("target").items():
            own = other["scan"] == scan.id and not other["dropped"]
            if own and np.linalg.norm(centre - other["centre"]) < TWICE:
                raise StateError(
                    f"Target {known} of scan {scan.id} is there already.", "Name it, or drop it first."
                )
        away = float(np.linalg.norm(centre))
        across = abs(float(found.normal @ centre)) / max(away, 1e-9) if flat else 1.0
        target = {
            "scan": scan.id,
            "kind": found.kind,
            "centre": centre.tolist(),
            "sigma": found.sigma,
            "normal": found.normal.tolist() if flat else [0, 0, 1],
            "range": away,
            "incidence_deg": float(np.degrees(np.arccos(min(across, 1.0)))),
            "fit": found.fit,
            "points": found.points,
            "edge": found.edge,
            "name": name,
            "dropped": False,
            "by_hand": True,
        }
        job.put("target", number, target, scan=scan.id)
        residual, moved = Notation.of(job).residual, float(np.linalg.norm(centre - touch)) * 1000
        told = f"{target['kind']}, σ {residual(found.sigma * 1000)}"
        doubt = []
        if params.refine and not flat:
            doubt.append("Nothing sharp is there: the place is as good as it was touched.")
        if target["kind"] == "edge":
            doubt.append("Only an edge is there: along it the place is as good as it was touched.")
        return {
            "says": f"Target {name or number} picked in scan {scan.id}: {told}",
            "target": number,
            "kind": target["kind"],
            "centre": target["centre"],
            "sigma_mm": found.sigma * 1000,
            "moved_mm": moved,
            "doubt": doubt,
        }
