"""Fit to control."""

from typing import Literal

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.georeference.sightings import find_targets, places
from terrazza.operations.georeference.solving import TOLERANCE, solve, stands_upright
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.units import metres_per

with later():
    from terrazza.core.georef import review

ORDERS = {
    "E N H": (0, 1, 2),
    "N E H": (1, 0, 2),
    "E H N": (0, 2, 1),
    "N H E": (2, 0, 1),
    "H E N": (1, 2, 0),
    "H N E": (2, 1, 0),
}


class ControlParams(Params):
    control: str = field(
        "Control file",
        help="Path of a text file: name, easting, northing, height, and where there, target height and role "
        "(control or check).",
        widget="file",
        role="read",
    )
    unit: Literal["metre", "millimetre", "international foot", "US survey foot", "inch"] = field(
        "Unit of the control file", "metre", help="The two feet cannot be told apart from the data."
    )
    order: Literal["as the file says", "E N H", "N E H", "E H N", "N H E", "H E N", "H N E"] = field(
        "Order of its columns",
        "as the file says",
        help="Without a header line all orders are tried against the targets.",
    )
    check: list[str] = field(
        "Check points", list, help="Names that stay out of the fit, besides those that the file marks."
    )
    tolerance: float = field(
        "Matching tolerance",
        TOLERANCE,
        unit="m",
        help="Largest mismatch of a target and its control point.",
        ge=0.001,
        le=1,
    )
    solution: int = field(
        "Solution",
        1,
        help="Where the points lie nearly symmetrical, several placements explain them: 1 is the best, 2 "
        "the next.",
        ge=1,
        le=9,
    )
    board: float = field(
        "Board edge",
        0.0,
        unit="m",
        blank="any",
        help="Used where targets were not looked for yet; 0: any of 5 to 65 cm.",
        ge=0,
        le=3,
    )


@operation
class Control(Operation):
    """Reads a control file, matches its points to the targets by geometry and fits the job to them at a scale
    of 1.
    """

    name, title, step = "georeference.control", "Fit to control", "Georeference"
    reads, writes = frozenset({"scan", "pose", "network", "array"}), frozenset({"target", "control", "frame"})
    Params = ControlParams

    def run(self, job: Job, params: ControlParams, progress: Progress) -> Figures:
        job.need_scans(placed=True, why=", so targets have no place in a common frame")
        read = reading.control(job.input(params.control, "The control file"))
        if not job.facts("target"):
            find_targets(job, job.scans(), Part(progress, 0, 0.9), sizes={"checkerboard": params.board})
        seen = places(job)
        if len(seen) < 3:
            raise StateError(
                f"{len(seen)} targets were found in the placed scans; georeferencing needs three at least.",
                "Check the board edge, pick targets by hand, or level the job without control.",
            )
        factor = metres_per(params.unit)
        centres, sigma = np.array([p["centre"] for p in seen]), np.array([p["sigma"] for p in seen])
        unknown = sorted(set(params.check) - set(read.names))
        if unknown:
            raise ParamsError(
                f"georeference.control: the file has no point {', '.join(unknown)}.",
                f"Its points are {', '.join(read.names)}.",
            )
        check = np.array([bool(c) or n in params.check for n, c in zip(read.names, read.check)])
        columns, heights = read.columns * factor, read.target_heights * factor
        order = ORDERS[params.order] if params.order in ORDERS else read.order
        found, given, says = review.decide(
            read.names,
            columns,
            heights,
            check,
            order,
            centres,
            sigma,
            params.tolerance,
            stands_upright(job),
            params.solution,
            [p["name"] for p in seen],
        )
        matched = dict(found.pairs)
        says.doubt += _put_points(job, read.names, given.columns, heights, check, matched, seen)
        detectable = dict(
            zip([read.names[i] for i in sorted(matched) if not check[i]], says.detectable.tolist())
        )
        return solve(job, says.doubt, detectable)


def _put_points(job: Job, names, grid, heights, check, matched: dict[int, int], seen) -> list[str]:
    """Keep the control points (``grid`` (n, 3) m) with the targets that they were matched to; doubts where
    the geometry says otherwise than what was matched by hand before.
    """
    before = {n: c for n, c in job.facts("control").items() if c["how"] == "by hand" and c["targets"]}
    doubts = []
    job.clear("control")
    for i, name in enumerate(names):
        targets = seen[matched[i]]["targets"] if i in matched else []
        if name in before and not set(before[name]["targets"]) & set(targets):
            doubts.append(
                f"{name}: by hand it was matched to target {before[name]['targets'][0]}, by geometry it "
                f"is {'target ' + str(targets[0]) if targets else 'none'}. Are names exchanged?"
            )
        point = {
            "grid": grid[i].tolist(),
            "target_height": float(heights[i]),
            "check": bool(check[i]),
            "targets": targets,
            "how": "geometry",
        }
        job.put("control", name, point)
    return doubts
