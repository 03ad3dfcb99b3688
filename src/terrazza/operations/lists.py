"""Measures and pins as tables in files."""

import csv
import os
import re

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.files import whole
from terrazza.operations import table
from terrazza.operations.base import Figures, Operation, Params, field, operation
from terrazza.operations.job import Job
from terrazza.operations.notation import Notation

FORMULAS = ("=", "+", "-", "@", "\t", "\r", "\n")
NUMBER = re.compile(r"[+\-−]?[\d.,’'\s\u202f]+")


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
            figures = table.measured(job, record["kind"], record["points"], record["reach"])
            for k, at in enumerate(figures.pop("at")):
                rows.append(
                    [
                        record["name"],
                        record["kind"],
                        k + 1,
                        *(n.number(v) for v in n.ordered(at)),
                        table.listed(n, figures),
                    ]
                )
        return _listed(
            job,
            params.path,
            ["name", "kind", "point", *(f"{c} ({n.short})" for c in n.order.split()), "figures"],
            rows,
            "measures",
            len(job.facts("measure")),
        )


class PinsParams(Params):
    path: str = field("File", "pins.csv", role="write", help="Relative paths land in the job's deliverables.")


@operation
class DeliverPins(Operation):
    """Writes all pins as CSV: name, place, text, link and measure."""

    name, title, step = "deliver.pins", "Pins as CSV", "Table"
    reads, writes = frozenset({"pin", "pose", "frame"}), frozenset({"deliverable"})
    Params = PinsParams

    def run(self, job: Job, params: PinsParams, progress: Progress) -> Figures:
        if not job.facts("pin"):
            raise StateError("There are no pins yet.", "Put one on the table.")
        n = Notation.of(job)
        rows = [
            [
                p["name"],
                *(n.number(v) for v in n.ordered(table.place(job, p["point"]))),
                p["text"],
                p["link"],
                (job.get("measure", p["measure"]) or {}).get("name", ""),
            ]
            for p in job.facts("pin").values()
        ]
        return _listed(
            job,
            params.path,
            ["name", *(f"{c} ({n.short})" for c in n.order.split()), "text", "link", "measure"],
            rows,
            "pins",
            len(rows),
        )


def unformulated(cell: str | int | float) -> str | int | float:
    """A cell that no spreadsheet takes for a formula: text that begins like one, and is no number, gets an
    apostrophe before it.
    """
    text = str(cell)
    return f"'{text}" if text[:1] in FORMULAS and not NUMBER.fullmatch(text) else cell


def _listed(job: Job, path: str, heading: list[str], rows: list[list], what: str, count: int) -> Figures:
    """Write a table as CSV (semicolons where the decimal mark is a comma) and enter it among the
    deliverables.
    """
    full = job.output(path, ".csv")
    with whole(full) as partial, open(partial, "w", encoding="utf-8-sig", newline="") as f:
        out = csv.writer(f, delimiter=";" if Notation.of(job).decimal_mark == "comma" else ",")
        out.writerows([[unformulated(cell) for cell in row] for row in [heading, *rows]])
    job.deliver(full, format="CSV", lines=len(rows))
    return {"says": f"{count} {what} written to {os.path.basename(full)}", "rows": len(rows), "path": full}
