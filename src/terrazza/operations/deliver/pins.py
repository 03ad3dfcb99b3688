"""Deliver pins."""

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.deliver.listing import listed_rows
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table import touch


class PinsParams(Params):
    path: str = field("File", "pins.csv", role="write", help="Relative paths land in the job's deliverables.")


@operation
class DeliverPins(Operation):
    """Writes all pins as CSV: name, place, text, link and measure."""

    name, title, step = "deliver.pins", "Pins as CSV", "Table"
    reads, writes = frozenset({"pin", "pose", "frame", "measure"}), frozenset({"deliverable"})
    Params = PinsParams

    def run(self, job: Job, params: PinsParams, progress: Progress) -> Figures:
        if not job.facts("pin"):
            raise StateError("There are no pins yet.", "Put one on the table.")
        n = Notation.of(job)
        rows = [
            [
                p["name"],
                *(n.number(v) for v in n.ordered(touch.place(job, p["point"]))),
                p["text"],
                p["link"],
                (job.get("measure", p["measure"]) or {}).get("name", ""),
            ]
            for p in job.facts("pin").values()
        ]
        return listed_rows(
            job,
            params.path,
            ["name", *(f"{c} ({n.short})" for c in n.order.split()), "text", "link", "measure"],
            rows,
            "pins",
            len(rows),
        )
