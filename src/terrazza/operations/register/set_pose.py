"""Set a scan by numbers, or by what dragging it came to."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.operations.register.holding import members, need_free, put_pose
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.spine.notation import Notation


class SetPoseParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    x: float = field(
        "X or easting",
        unit="m",
        help="Of the scanner, in the grid where there is one, otherwise in the job frame.",
    )
    y: float = field("Y or northing", unit="m")
    z: float = field("Z or height", unit="m")
    heading_deg: float = field(
        "Heading",
        unit="°",
        help="Plan direction of the scan's x axis, counter-clockwise from X.",
        ge=-360,
        le=360,
    )
    tilt_x_deg: float = field("Tilt about X", 0.0, unit="°", ge=-180, le=180)
    tilt_y_deg: float = field("Tilt about Y", 0.0, unit="°", ge=-180, le=180)
    block: str = field(
        "With its block", "", help="The other scans of this block move along, as one; empty: the scan alone."
    )


@operation
class SetPose(Operation):
    """Sets a scan by numbers, or by what dragging it in plan and slab came to."""

    name, title, step = "register.set_pose", "Set a scan by numbers", "Register"
    reads = frozenset({"scan", "frame"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"pose"})
    bound_to_place = True
    Params = SetPoseParams

    def run(self, job: Job, params: SetPoseParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        tilt = rigid.rotation_from(np.radians([params.tilt_x_deg, params.tilt_y_deg, 0.0]))
        wanted = rigid.make(
            tilt @ rigid.about_z(np.radians(params.heading_deg)), np.array([params.x, params.y, params.z])
        )
        pose = rigid.inverse(job.frame) @ wanted
        moved, turned = rigid.difference(scan.pose, pose) if scan.pose is not None else (None, None)
        along = self._along(job, params, scan)
        need_free(job, [scan, *along])
        moves = pose @ rigid.inverse(scan.pose) if along else np.eye(4)
        for one, place in [(scan, pose), *((s, moves @ s.pose) for s in along)]:
            put_pose(job, one, place, "by hand")
        with_ = f" with {len(along)} more of {params.block}" if along else ""
        return {
            "says": f"Scan {scan.id}{with_} set by hand"
            + (
                f", moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.2f}°"
                if moved is not None
                else ""
            ),
            "moved_m": moved,
            "moved": [scan.id, *(s.id for s in along)],
        }

    @staticmethod
    def _along(job: Job, params: SetPoseParams, scan: Scan) -> list[Scan]:
        """The scans that move along."""
        if not params.block:
            return []
        block = members(job, params.block)
        if scan.id not in {s.id for s in block}:
            raise ParamsError(
                f"register.set_pose: scan {scan.id} is not in block “{params.block}”.", "Name one around it."
            )
        if scan.pose is None:
            raise StateError(f"Scan {scan.id} is not placed yet.", "Set it alone first.")
        return [s for s in block if s.id != scan.id and s.pose is not None]
