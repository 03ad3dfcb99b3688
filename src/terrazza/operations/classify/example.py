"""Examples of classes, given by outlines, and their removal."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import NotFound, StateError
from terrazza.operations.clean.filtering import limited
from terrazza.operations.clean.outline import Outline, OutlineParams, corners
from terrazza.operations.pieces import portions
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.store.cloud import Cloud


class ExampleParams(OutlineParams):
    to: str = field("Class", pattern=r"^\d{1,3}$", help="The class that its points are examples of.")
    name: str = field("Set", "examples", max_length=100, help="Examples of one name are learned together.")


@operation
class Example(Operation):
    """Marks what lies inside an outline as an example of a class, for “By example”; no point changes."""

    name, title, step = "classify.example", "Example", "Classify"
    reads = frozenset({"scan", "pose"})
    writes = frozenset({"example"})
    looks = frozenset({"box", "drawing", "column", "cut"})
    bound_to_place = True
    Params = ExampleParams

    def run(self, job: Job, params: ExampleParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True)
        code = int(params.to)
        if code > 255:
            raise StateError(f"A class code lies between 0 and 255, got {code}.", "Give one of those.")
        args, common = Outline.judged(job, scans, params, progress)
        found = portions.rewrite(job, scans, "class", _counted, args, progress, "Looking inside", common)
        points = int(sum(sum(t) for t in found.values()))
        if not points:
            raise StateError("No point lies inside the outline.", "Draw it around what is an example.")
        number, polygon = job.next_number("example"), corners(params.shape, np.array(params.polygon, float))
        job.put(
            "example",
            number,
            {
                "name": params.name,
                "code": code,
                "view": params.view,
                "polygon": polygon.tolist(),
                "slab": sorted(params.slab),
                "frame": job.frame.tolist(),
                "outside": params.outside,
                "around": params.around,
                "depth": sorted(params.depth),
                "points": points,
            },
        )
        return {
            "says": f"{points:,} points are an example of {class_namer(job)(code)}",
            "points": points,
            "example": number,
            "class": code,
        }


def _counted(cloud: Cloud, start: int, stop: int, args, common):
    mine = limited(cloud, start, stop, args, common) & cloud.kept(start, stop)
    return None, int(mine.sum())


class DropExampleParams(Params):
    example: int = field("Example", help="Its number.", ge=1)


@operation
class DropExample(Operation):
    """Takes an example away."""

    name, title, step = "classify.drop_example", "Drop an example", "Classify"
    writes = frozenset({"example"})
    light = True
    Params = DropExampleParams

    def run(self, job: Job, params: DropExampleParams, progress: Progress) -> Figures:
        record = job.get("example", params.example)
        if record is None:
            there = ", ".join(job.facts("example")) or "none yet"
            raise NotFound(f"There is no example {params.example}.", f"There are {there}.")
        job.put("example", params.example, None)
        of = class_namer(job)(record["code"])
        return {"says": f"An example of {of} with {record['points']:,} points dropped"}
