"""Level without control."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.pieces.surfaces import surfaces
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, plain

with later():
    from terrazza.core.georef import level


class LevelParams(Params):
    scan: int = field(
        "Scan to level by",
        0,
        widget="scan",
        blank="the first placed one",
        help="A scan that stands on a floor; 0: the first placed one.",
        ge=0,
    )
    turn: bool = field("Turn by the longest wall", True, help="The longest wall then runs along an axis.")
    origin: list[float] = field(
        "Origin",
        list,
        unit="m",
        help="A picked point in the job frame as X, Y, Z; empty: the scan's place on its floor.",
        widget="point",
    )


@operation
class Level(Operation):
    """A frame without control: level by the floor, turn by the longest wall, origin at a picked point."""

    name, title, step = "georeference.level", "Level without control", "Georeference"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"frame"})
    Params = LevelParams

    def run(self, job: Job, params: LevelParams, progress: Progress) -> Figures:
        scans = job.need_scans([params.scan] if params.scan else None, placed=True)
        if params.origin and len(params.origin) != 3:
            raise ParamsError(
                f"georeference.level: “origin” needs three numbers, got {len(params.origin)}.",
                "Give X, Y and Z.",
            )
        scan = scans[0]
        face = surfaces(job, [scan], progress)[0]
        xyz, normals = rigid.apply(scan.pose, face.xyz), face.normals @ scan.pose[:3, :3].T
        up = level.level(level.floor_normal(xyz, normals, face.flat))
        heading = level.wall_heading(xyz @ up.T, normals @ up.T, face.flat) if params.turn else 0.0
        turn = rigid.about_z(-heading) @ up
        if params.origin:
            origin = np.array(params.origin, float)
        else:
            below = (
                face.flat
                & (normals[:, 2] > 0.99)
                & (np.linalg.norm(face.xyz[:, :2], axis=1) < 4)
                & (face.xyz[:, 2] < 0)
            )
            origin = scan.pose[:3, 3] + [0, 0, float(np.median(face.xyz[below, 2])) if below.any() else 0.0]
        tilt = float(np.degrees(np.arccos(np.clip(up[2, 2], -1, 1))))
        says = f"Levelled by {tilt:.3f}°, turned by {np.degrees(-heading):.3f}°"
        job.put(
            "frame",
            "",
            {
                "matrix": plain(rigid.make(turn, -turn @ origin)),
                "how": "level",
                "rows": [],
                "warnings": [],
                "says": says,
                "covariances": {},
            },
        )
        return {"says": says, "tilt_deg": tilt, "turn_deg": float(np.degrees(-heading))}
