"""Write targets as a control file for the next job."""

import csv
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import NotFound, StateError
from terrazza.files import whole
from terrazza.operations.georeference.sightings import places
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.units import metres_per

UNITS = Literal["metre", "international foot", "US survey foot"]


class WriteControlParams(Params):
    path: str = field(
        "File", "control.csv", role="write", help="Relative paths land in the job's deliverables."
    )
    unit: UNITS = field("Unit", "metre")
    decimals: int = field("Decimals", 4, ge=0, le=8)
    targets: list[str] = field("Targets", list, help="Names (or T and a number); empty: all.")


@operation
class WriteControl(Operation):
    """Writes the targets, where all scans together see them in the grid, as a control file."""

    name, title, step = "georeference.write_control", "Write a control file", "Georeference"
    reads, writes = frozenset({"scan", "pose", "target", "control", "frame"}), frozenset({"deliverable"})
    Params = WriteControlParams

    def run(self, job: Job, params: WriteControlParams, progress: Progress) -> Figures:
        if not job.georeferenced:
            raise StateError("The job has no grid yet.", "Georeference it first.")
        rows = named_targets(job)
        if not rows:
            raise StateError("The job has no targets.", "Find targets first, or pick some.")
        wrong = set(params.targets) - set(rows)
        if wrong:
            raise NotFound(f"There is no target “{min(wrong)}”.", f"Targets are {', '.join(rows)}.")
        chosen = {n: p for n, p in rows.items() if not params.targets or n in params.targets}
        per, path = metres_per(params.unit), job.output(params.path, ".csv")
        with whole(path) as partial, open(partial, "w", newline="", encoding="utf-8") as file:
            out = csv.writer(file)
            out.writerow(["name", "easting", "northing", "height"])
            for name, place in chosen.items():
                out.writerow([name, *(f"{v / per:.{params.decimals}f}" for v in place)])
        job.deliver(path, what="control", points=len(chosen))
        return {
            "says": f"{len(chosen)} targets written in {params.unit}, {params.decimals} decimals",
            "points": len(chosen),
            "rows": [{"name": n, "at": p.tolist()} for n, p in chosen.items()],
        }


def named_targets(job: Job) -> dict[str, np.ndarray]:
    """Places (3,) of the targets in the grid by name: that of their control point, their own, or T and a
    number.
    """
    by = {t: n for n, c in job.facts("control").items() for t in c["targets"]}
    out: dict[str, np.ndarray] = {}
    for number, group in enumerate(places(job), 1):
        name = next((by[t] for t in group["targets"] if t in by), group["name"] or f"T{number}")
        if name not in out:
            out[name] = rigid.apply(job.frame, np.asarray(group["centre"])[None])[0]
    return out
