"""Fit one scan to a neighbour."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.pieces.surfaces import pictures, surfaces
from terrazza.operations.register.holding import need_free
from terrazza.operations.register.moving import move, put_tie, told
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import cloud_fit, letting_go, like_points, linking, plan_match

SEARCHED = 0.3  # m: within so wide a search placements beside where a scan stands are tried, too


class FitParams(Params):
    scan: int = field("Scan to move", help="Its number.", ge=1, widget="scan")
    neighbour: int = field("Neighbour that stays", help="Its number.", ge=1, widget="scan")
    width: float = field(
        "Search width at the start",
        0.5,
        unit="m",
        help="How far off the scan may be now; the search narrows to 0.03 m.",
        ge=0.03,
        le=5,
    )


@operation
class FitToNeighbour(Operation):
    """Cloud fit of one scan to a chosen neighbour, from where it stands now."""

    name, title, step = "register.cloud_fit", "Cloud fit to a neighbour", "Register"
    then = "register.adjust"
    reads = frozenset({"scan"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"pose", "tie", "standing"})
    Params = FitParams

    def run(self, job: Job, params: FitParams, progress: Progress) -> Figures:
        if params.scan == params.neighbour:
            raise ParamsError(
                "register.cloud_fit: a scan cannot be fitted to itself.", "Choose another neighbour."
            )
        b, a = job.scan(params.scan), job.scan(params.neighbour)
        need_free(job, [b])
        for scan in (a, b):
            if scan.pose is None:
                raise StateError(
                    f"Scan {scan.id} is not placed yet.", "Place it by numbers or by dragging first."
                )
        faces, seen = (
            surfaces(job, [a, b], Part(progress, 0, 0.6)),
            pictures(job, [a, b], Part(progress, 0.6, 0.8)),
        )
        found = _found(faces, seen, rigid.inverse(a.pose) @ b.pose, params.width)
        if found.fit is None:
            raise StateError(
                f"Scans {a.id} and {b.id} have too little in common where they stand.",
                "Drag the scan nearer, widen the search, or choose another neighbour.",
            )
        tie, pose, n = found.tie(0, 1), a.pose @ found.pose, Notation.of(job)
        put_tie(job, a, b, tie)
        doubt = _doubts(job, a, b, found)
        if not tie.failed:  # a fit that its own verdict refuses moves nothing
            move(job, [b], [pose], f"cloud fit to {a.id}", doubt, [[a.pose @ r for r in found.rivals]])
        moved, turned = rigid.difference(b.pose, pose)
        return {
            "says": f"Scan {b.id} to {a.id}: RMS {n.residual(tie.fit.rms * 1000)}, overlap "
            f"{tie.fit.overlap:.0%}, "
            + (f"not moved: {tie.failed}" if tie.failed else f"moved {n.residual(moved * 1000, 0)}"),
            "rms_mm": tie.fit.rms * 1000,
            "overlap": tie.fit.overlap,
            "used": tie.fit.used,
            "moved_mm": 0.0 if tie.failed else moved * 1000,
            "turned_deg": 0.0 if tie.failed else float(np.degrees(turned)),
            "failed": tie.failed,
            "doubt": doubt,
        }


def _found(faces, seen, start: np.ndarray, width: float) -> "like_points.Found":
    """The second of two scans placed against the first from ``start``: within a small ``width`` (m) by a fit
    alone, within a larger one by what is likely near there.
    """
    if width >= SEARCHED:
        sides = [like_points.Side.of([np.eye(4)], [f], [s]) for f, s in zip(faces, seen)]
        shapes = plan_match.PlanShape(faces[0]), plan_match.PlanShape(faces[1])
        return letting_go.back(*sides, shapes, start, (3 * width, letting_go.REACH[1]))
    widths = tuple(w for w in cloud_fit.WIDTHS if w <= width) or (width,)
    tie = linking.fit_pair(faces, seen, 0, 1, start, widths)
    if tie is None:
        return like_points.Found(start, None, np.zeros(0))
    return like_points.Found(tie.fit.pose, tie.fit, np.zeros(0), width, tie.agree, tie.against, tie.failed)


def _doubts(job: Job, a: Scan, b: Scan, found: "like_points.Found") -> list[str]:
    """Why a scan was not moved, or what else it could be."""
    if found.failed:
        return [
            f"Scan {b.id} was not moved: the fit to {a.id} {found.failed}. Place it nearer, or by like "
            "points."
        ]
    return told(job, found)
