"""Take out what lies inside an outline."""

from typing import Annotated

import numpy as np
from pydantic import Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.clean.taking import take_out
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.table.boxes import working_box
from terrazza.store.cloud import Cloud

outline = later("terrazza.core.clean.outline")

Row4 = Annotated[list[float], Field(min_length=4, max_length=4)]
Pair = Annotated[list[float], Field(min_length=2, max_length=2)]


class OutlineParams(Params):
    view: list[Row4] = field(
        "View",
        help="4×4, row by row: job frame to the screen the outline was drawn on.",
        min_length=4,
        max_length=4,
    )
    polygon: list[Pair] = field(
        "Outline",
        help="Its corners in screen units (−1 to 1), at least three.",
        min_length=3,
        max_length=5000,
    )
    outside: bool = field("Take the outside", False, help="Off: what lies inside goes.")
    slab: list[float] = field(
        "Slab",
        list,
        unit="m",
        help="Lowest and highest height (in the grid where there is one) that may be touched; empty: all.",
        max_length=2,
    )
    within: str = field(
        "Working box",
        "",
        max_length=100,
        help="Name of a box of the table: only what it shows may be touched; empty: everything.",
    )
    scans: list[int] = scans_field("Empty: all placed scans.")
    classes: list[int] = field("Classes", list, help="Only points of these classes; empty: all.")


@operation
class Outline(Operation):
    """Takes what lies inside (or outside) an outline drawn on a view, limited by the slab when
    one is shown.
    """

    name, title, step = "clean.outline", "Outline", "Clean"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"column", "cut"})
    looks = frozenset({"box"})
    bound_to_place = True
    Params = OutlineParams

    def run(self, job: Job, params: OutlineParams, progress: Progress) -> Figures:
        view, polygon = np.array(params.view), np.array(params.polygon)
        slab = tuple(sorted(params.slab)) if len(params.slab) == 2 else None
        scans = job.need_scans(params.scans, placed=True)
        figures = take_out(
            job,
            scans,
            outlined,
            {s.id: s.pose for s in scans},
            progress,
            "Looking through the points",
            (view, polygon, slab, job.frame, params.outside, params.classes, working_box(job, params.within)),
        )
        return figures | {
            "says": f"{figures['points']:,} points {'outside' if params.outside else 'inside'} the outline "
            "taken out"
        }


def outlined(cloud: Cloud, start: int, stop: int, pose, common):
    """Mask of a stretch of points that an outline takes; ``common`` is (view, polygon, slab,
    frame, outside, classes, working box).
    """
    view, polygon, slab, frame, outside, classes, box = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    mask = outline.select(xyz, view, polygon, None, outside)
    if slab is not None:
        height = rigid.apply(frame, xyz)[:, 2]
        mask &= (height >= slab[0]) & (height <= slab[1])
    if box is not None:
        mask &= box.holds(rigid.apply(frame, xyz))
    if classes:
        mask &= np.isin(cloud.values("class", 0, start, stop), classes)
    return mask
