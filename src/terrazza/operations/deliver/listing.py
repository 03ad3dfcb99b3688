"""Text that no spreadsheet takes for a formula."""

import csv
import os
import re

from terrazza.files import whole
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

FORMULAS = ("=", "+", "-", "@", "\t", "\r", "\n")
NUMBER = re.compile(r"[+\-−]?[\d.,’'\s\u202f]+")


def unformulated(cell: str | int | float) -> str | int | float:
    """A cell that no spreadsheet takes for a formula: text that begins like one, and is no number, gets an
    apostrophe before it.
    """
    text = str(cell)
    return f"'{text}" if text[:1] in FORMULAS and not NUMBER.fullmatch(text) else cell


def table(path: str, heading: list[str], rows: list[list], delimiter: str = ",") -> None:
    """Write a table as CSV that spreadsheets read as text and numbers."""
    with open(path, "w", encoding="utf-8-sig", newline="") as file:
        out = csv.writer(file, delimiter=delimiter)
        out.writerows([[unformulated(cell) for cell in row] for row in [heading, *rows]])


def listed_rows(job: Job, path: str, heading: list[str], rows: list[list], what: str, count: int) -> Figures:
    """Write a table as CSV (semicolons where the decimal mark is a comma) and enter it among the
    deliverables.
    """
    full = job.output(path, ".csv")
    with whole(full) as partial:
        table(partial, heading, rows, ";" if Notation.of(job).decimal_mark == "comma" else ",")
    job.deliver(full, format="CSV", lines=len(rows))
    return {"says": f"{count} {what} written to {os.path.basename(full)}", "rows": len(rows), "path": full}
