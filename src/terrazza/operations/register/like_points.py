"""Place a scan by points touched in it and in a neighbour."""

from typing import Annotated

import numpy as np
from pydantic import Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.pieces.sharpening import sharpened
from terrazza.operations.register.holding import need_free
from terrazza.operations.register.moving import (
    companions,
    move,
    put_tie,
    side,
    told,
)
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import like_points

Pair = Annotated[list[Triple], Field(min_length=2, max_length=2)]


class LikePointsParams(Params):
    scan: int = field("Scan to place", help="Its number.", ge=1, widget="scan")
    neighbour: int = field("Neighbour that stays", help="Its number.", ge=1, widget="scan")
    pairs: list[Pair] = field(
        "Like points",
        unit="m",
        help="Each pair: x, y, z in the scan to place and x, y, z in its neighbour, each in its own "
        "frame. One "
        "suffices where the scan's heading is known, two where both were set up level.",
        min_length=1,
        max_length=100,
    )
    sharpen: bool = field(
        "Sharpened",
        True,
        help="Touched places go to the board, ball, disc, corner or edge there, where both scans show one.",
    )


@operation
class LikePoints(Operation):
    """Places a scan by one to three points or more that were touched in it and in a neighbour, and fits it
    from there; scans that already hang on it come along.
    """

    name, title, step = "register.like_points", "Place by like points", "Register"
    then = "register.adjust"
    reads = frozenset({"scan", "standing"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"pose", "tie", "standing"})
    bound_to_place = True
    Params = LikePointsParams

    def run(self, job: Job, params: LikePointsParams, progress: Progress) -> Figures:
        if params.scan == params.neighbour:
            raise ParamsError(
                "register.like_points: a scan cannot be placed against itself.", "Choose another neighbour."
            )
        scan, neighbour = job.scan(params.scan), job.scan(params.neighbour)
        if neighbour.pose is None:
            if job.scans(placed=True):
                raise StateError(
                    f"Scan {neighbour.id} is not placed yet.", "Place it first, or choose a placed neighbour."
                )
            move(job, [neighbour], [np.eye(4)], "first")
            neighbour.pose = np.eye(4)
        need_free(job, [scan])
        group, own = companions(job, scan)
        pairs = np.array(params.pairs, float)
        kinds = _sharpen(job, scan.id, neighbour.id, pairs) if params.sharpen else []
        pairs[:, 0] = rigid.apply(own[group.index(scan.id)], pairs[:, 0])
        given = rigid.inverse(neighbour.pose) @ scan.pose if scan.pose is not None else None
        found = like_points.place(
            side(job, [neighbour.id], [np.eye(4)], Part(progress, 0, 0.3)),
            side(job, group, own, Part(progress, 0.3, 0.7)),
            like_points.rough(pairs[:, 0], pairs[:, 1], given),
            pairs,
        )
        base = neighbour.pose @ found.pose
        doubt = told(job, found)
        move(
            job,
            [job.scan(k) for k in group],
            [base @ p for p in own],
            "like points",
            doubt,
            [[neighbour.pose @ r @ p for r in found.rivals] for p in own],
        )
        if found.fit is not None and len(group) == 1:
            put_tie(job, neighbour, scan, found.tie(0, 1))
        n = Notation.of(job)
        rest = f" with {len(group) - 1} that hang on it" if len(group) > 1 else ""
        fitted = (
            f"RMS {n.residual(found.fit.rms * 1000)}, overlap {found.fit.overlap:.0%}"
            if found.fit is not None
            else "not fitted"
        )
        return {
            "says": f"Scan {scan.id}{rest} placed against {neighbour.id} by {len(pairs)} "
            f"pair{'s' * (len(pairs) > 1)}: {fitted}",
            "moved": group,
            "residuals_mm": (found.residuals * 1000).tolist(),
            "rms_mm": found.fit.rms * 1000 if found.fit is not None else None,
            "overlap": found.fit.overlap if found.fit is not None else None,
            "width": found.width,
            "sharpened": kinds,
            "doubt": doubt,
        }


def _sharpen(job: Job, scan: int, neighbour: int, pairs: np.ndarray) -> list[str]:
    """Put touched places (n, 2, 3, changed in place) on what is sharp there, where both sides show the
    same kind; returns each pair's kind, “point” where it stays as touched.
    """
    kinds = []
    for pair in pairs:
        mine, theirs = sharpened(job, scan, pair[0]), sharpened(job, neighbour, pair[1])
        alike = mine.kind == theirs.kind and mine.kind != "point"
        if alike:
            pair[0], pair[1] = mine.centre, theirs.centre
        kinds.append(mine.kind if alike else "point")
    return kinds
