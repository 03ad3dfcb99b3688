"""Deliver measures as a list."""

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.deliver.listing import listed_rows
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table import measure, words


class MeasuresParams(Params):
    path: str = field(
        "File", "measures.csv", role="write", help="Relative paths land in the job's deliverables."
    )


@operation
class DeliverMeasures(Operation):
    """Writes all measures as CSV: name, kind, figures, and the points in the job's notation."""

    name, title, step = "deliver.measures", "Measures as CSV", "Table"
    reads, writes = frozenset({"measure", "pose", "frame"}), frozenset({"deliverable"})
    Params = MeasuresParams

    def run(self, job: Job, params: MeasuresParams, progress: Progress) -> Figures:
        if not job.facts("measure"):
            raise StateError("Nothing is measured yet.", "Take a measure on the table and keep it.")
        n, rows = Notation.of(job), []
        for record in job.facts("measure").values():
            figures = measure.measured(job, record["kind"], record["points"], record["reach"])
            for k, at in enumerate(figures.pop("at")):
                rows.append(
                    [
                        record["name"],
                        record["kind"],
                        k + 1,
                        *(n.number(v) for v in n.ordered(at)),
                        words.listed(n, figures),
                    ]
                )
        return listed_rows(
            job,
            params.path,
            ["name", "kind", "point", *(f"{c} ({n.short})" for c in n.order.split()), "figures"],
            rows,
            "measures",
            len(job.facts("measure")),
        )
