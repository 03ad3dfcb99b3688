"""Set a scan by numbers, or by what dragging it came to."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, plain
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


@operation
class SetPose(Operation):
    """Sets a scan by numbers, or by what dragging it in plan and slab came to."""

    name, title, step = "register.set_pose", "Set a scan by numbers", "Register"
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
        job.put(
            "pose",
            scan.id,
            {"matrix": plain(pose), "how": "by hand", "covariance": None, "bias": 0.0, "fixed": False},
            scan=scan.id,
        )
        return {
            "says": f"Scan {scan.id} set by hand"
            + (
                f", moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.2f}°"
                if moved is not None
                else ""
            ),
            "moved_m": moved,
        }
