"""Fit one scan to a neighbour."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.pieces.surfaces import pictures, surfaces
from terrazza.operations.register.holding import need_free, put_pose
from terrazza.operations.register.moving import put_tie
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import cloud_fit, linking


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
    writes = frozenset({"pose", "tie"})
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
        widths = tuple(w for w in (5, 2, 1, *cloud_fit.WIDTHS) if w <= params.width) or (params.width,)
        tie = linking.fit_pair(faces, seen, 0, 1, rigid.inverse(a.pose) @ b.pose, widths)
        if tie is None:
            raise StateError(
                f"Scans {a.id} and {b.id} have too little in common where they stand.",
                "Drag the scan nearer, widen the search, or choose another neighbour.",
            )
        pose = a.pose @ tie.fit.pose
        put_tie(job, a, b, tie)
        if not tie.failed:  # a fit that its own verdict refuses moves nothing
            put_pose(job, b, pose, f"cloud fit to {a.id}")
        moved, turned = rigid.difference(b.pose, pose)
        residual = Notation.of(job).residual
        return {
            "says": f"Scan {b.id} to {a.id}: RMS {residual(tie.fit.rms * 1000)}, overlap "
            f"{tie.fit.overlap:.0%}, "
            + (f"not moved: {tie.failed}" if tie.failed else f"moved {residual(moved * 1000, 0)}"),
            "rms_mm": tie.fit.rms * 1000,
            "overlap": tie.fit.overlap,
            "used": tie.fit.used,
            "moved_mm": 0.0 if tie.failed else moved * 1000,
            "turned_deg": 0.0 if tie.failed else float(np.degrees(turned)),
            "failed": tie.failed,
            "doubt": [
                f"Scan {b.id} was not moved: the fit to {a.id} {tie.failed}. Place it nearer, or by "
                f"like points."
            ]
            if tie.failed
            else [],
        }
