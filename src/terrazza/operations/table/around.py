"""A working box around what an outline selects."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.operations.clean.filtering import limited
from terrazza.operations.clean.outline import Outline, OutlineParams
from terrazza.operations.spine.base import Figures, Operation, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table.boxes import put_box

FINE = 0.05  # m between the points that are looked at, and the room left around them
EVERYWHERE = 1e7


class AroundParams(OutlineParams):
    name: str = field("Name", "", max_length=100, help="Empty: “box” and a number.")
    heading_deg: float = field(
        "Turned", 0.0, unit="°", ge=-360, le=360, help="Counter-clockwise about the vertical."
    )


@operation
class Around(Operation):
    """Puts a working box around the points inside an outline, with 5 cm of room."""

    name, title, step = "boxes.around", "Box around a selection", "Table"
    reads, writes = frozenset({"scan", "pose", "column"}), frozenset({"box"})
    Params = AroundParams

    def run(self, job: Job, params: AroundParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True)
        args, common = Outline.judged(job, scans, params, Part(progress, 0, 0.3))
        turn = rigid.about_z(np.radians(params.heading_deg))
        low, high = np.full(3, np.inf), np.full(3, -np.inf)
        for done, scan in enumerate(scans):
            progress.advance(done, len(scans), "Looking through the points")
            cloud = job.cloud(scan.id)
            for start, stop, _ in cloud.even(
                np.full(3, -EVERYWHERE), np.full(3, EVERYWHERE), scan.pose, FINE
            ):
                mask = limited(cloud, start, stop, args[scan.id], common) & cloud.kept(start, stop)
                if mask.any():
                    own = rigid.apply(job.grid_pose(scan), cloud.xyz(start, stop)[mask]) @ turn
                    low, high = np.minimum(low, own.min(0)), np.maximum(high, own.max(0))
        if not np.isfinite(low).all():
            raise StateError("No point lies inside the outline.", "Draw it around some.")
        size = high - low + 2 * FINE
        notation = Notation.of(job)
        number, name = put_box(job, params.name, turn @ ((low + high) / 2), size, params.heading_deg, False)
        return {
            "says": f"Box “{name}” of {notation.number(size[0])} × {notation.number(size[1])} × "
            f"{notation.number(size[2])} {notation.short} put around the selection",
            "box": number,
        }
