"""Deliver drawings as DXF."""

import os

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.draw.beneath import words
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class DxfParams(Params):
    path: str = field("File", "plan.dxf", role="write", help="Relative paths land in the job's deliverables.")
    drawings: list[int] = field("Drawings", list, help="Their numbers; empty: all.")
    flat: bool = field(
        "Lay sections flat", False, help="Chainage to the right and height up, from 0; else in their place."
    )


@operation
class DeliverDxf(Operation):
    """Writes drawings to DXF R2010, on layers, in metres."""

    name, title, step = "deliver.dxf", "DXF", "Deliver"
    reads = frozenset({"drawing", "frame", "scan", "pose"})
    writes = frozenset({"deliverable"})
    Params = DxfParams

    def run(self, job: Job, params: DxfParams, progress: Progress) -> Figures:
        drawings = {int(k): v for k, v in job.facts("drawing").items()}
        wrong = set(params.drawings) - set(drawings)
        if wrong or not drawings:
            raise StateError(
                f"There is no drawing {min(wrong)}." if wrong else "Nothing is drawn yet.",
                "Draw a plan slab or a section first.",
            )
        chosen = [drawings[k] for k in sorted(params.drawings or drawings)]
        path = write_dxf(job, chosen, params.path, params.flat)
        return {
            "says": f"{sum(len(d['lines']) for d in chosen)} lines",
            "path": path,
            "bytes": os.path.getsize(path),
            "doubt": words(job, params.drawings),
        }
