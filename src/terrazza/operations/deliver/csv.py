"""Deliver drawings as a table of their vertices."""

from terrazza.core.progress import Progress
from terrazza.operations.deliver import shapes
from terrazza.operations.deliver.listing import listed_rows
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation


class CsvParams(Params):
    path: str = field("File", "drawings.csv", role="write", help="Relative paths land in the deliverables.")
    drawings: list[int] = field("Drawings", list, help="Their numbers; empty: all.")


@operation
class DeliverCsv(Operation):
    """Writes the vertices of drawn lines to a table: line, layer, whether it closes, number, coordinates."""

    name, title, step = "deliver.csv", "CSV of drawings", "Deliver"
    reads = frozenset({"drawing", "frame"})
    writes = frozenset({"deliverable"})
    Params = CsvParams

    def run(self, job: Job, params: CsvParams, progress: Progress) -> Figures:
        lines, n = shapes.lines_of(job, params.drawings), Notation.of(job)
        shapes.need_any(lines)
        rows = [
            [
                line.name,
                line.layer,
                "yes" if line.closed else "no",
                k,
                *(n.number(v / n.metres, 4) for v in at),
            ]
            for line in lines
            for k, at in enumerate(line.xyz, 1)
        ]
        head = ["line", "layer", "closed", "vertex", *(f"{axis} ({n.short})" for axis in "ENH")]
        told = listed_rows(job, params.path, head, rows, "vertices", len(rows))
        return told | {"says": f"{len(lines)} lines, {told['says']}", "lines": len(lines)}
