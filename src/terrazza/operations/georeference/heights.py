"""Shift all heights, by a number or by a grid of the geoid."""

from typing import Literal

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, plain
from terrazza.operations.spine.notation import Notation

with later():
    import pyproj as crs_of

    from terrazza.core.georef import systems

UNEVEN = 0.003  # m that the grid may differ over a job that is shifted as one piece


class HeightsParams(Params):
    by: float = field("Shift", 0.0, unit="m", ge=-10_000, le=10_000, help="Added to every height.")
    grid: str = field(
        "Grid file", "", role="read", help="Heights of the geoid over the ellipsoid: GTX or GeoTIFF."
    )
    to: Literal["ellipsoid", "geoid"] = field("To", "geoid", help="With a grid: what heights count from.")


@operation
class Heights(Operation):
    """Shifts all heights by a number, or by what a grid of the geoid says at the job; told how much that
    differs from one end of the job to the other.  Refused outside the grid.
    """

    name, title, step = "georeference.heights", "Shift heights", "Georeference"
    reads, writes = frozenset({"scan", "pose", "crs"}), frozenset({"frame"})
    Params = HeightsParams

    def run(self, job: Job, params: HeightsParams, progress: Progress) -> Figures:
        frame, doubts, spread = job.get("frame"), [], None
        if frame is None:
            raise StateError("The job has no grid yet.", "Georeference or level it first.")
        if bool(params.by) == bool(params.grid):
            raise ParamsError("georeference.heights: a shift or a grid, not both or none.", "Give one.")
        by = params.by
        if params.grid:
            known = job.get("crs")
            if known is None:
                raise StateError(
                    "A grid is looked up by longitude and latitude, and the job has no coordinate system.",
                    "Say it first (Coordinate system).",
                )
            crs = crs_of.CRS.from_wkt(known["wkt"])
            path = job.input(params.grid, "The grid")
            places = np.array([job.grid_pose(s)[:2, 3] for s in job.need_scans(placed=True)])
            corners = [places.mean(0), *(places[[places @ w == (places @ w).max()]][0] for w in WAYS)]
            metres = known["metres_per_unit"]
            found = [systems.undulation(path, *systems.geographic(crs, *(c / metres))) for c in corners]
            by = found[0] if params.to == "ellipsoid" else -found[0]
            spread = float(np.ptp(found))
            if spread > UNEVEN:
                doubts.append(
                    f"The grid differs by {1000 * spread:.0f} mm over the job, which is shifted as one "
                    "piece: control with heights in the new system does better."
                )
        matrix = np.array(frame["matrix"])
        matrix[2, 3] += by
        job.put("frame", "", frame | {"matrix": plain(matrix)})
        return {
            "says": f"Heights shifted by {Notation.of(job).length(by)}",
            "by": by,
            "spread": spread,
            "doubt": doubts,
        }


WAYS = np.array([[1.0, 0.0], [-1.0, 0.0], [0.0, 1.0], [0.0, -1.0]])
