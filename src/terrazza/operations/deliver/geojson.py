"""Deliver drawings as GeoJSON."""

import os

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.files import whole
from terrazza.later import later
from terrazza.operations.deliver import shapes
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

with later():
    import pyproj

    from terrazza.formats import geojson_writer as writer

DEGREES = 9  # decimals: a tenth of a millimetre on the ground


class GeoJsonParams(Params):
    path: str = field("File", "job.geojson", role="write", help="Relative paths land in the deliverables.")
    drawings: list[int] = field("Drawings", list, help="Their numbers; empty: all.")
    degrees: bool = field(
        "Longitude and latitude",
        False,
        help="As the standard has it (WGS 84, degrees); off: in the grid, as surveys exchange it.",
    )


@operation
class DeliverGeoJson(Operation):
    """Writes the lines and areas of drawings and control points to GeoJSON, and reads the file back."""

    name, title, step = "deliver.geojson", "GeoJSON", "Deliver"
    reads = frozenset({"drawing", "frame", "control", "crs"})
    writes = frozenset({"deliverable"})
    Params = GeoJsonParams

    def run(self, job: Job, params: GeoJsonParams, progress: Progress) -> Figures:
        lines, points = shapes.lines_of(job, params.drawings), shapes.points_of(job)
        shapes.need_any(lines, points)
        system, decimals, step = (job.get("crs") or {}).get("name", ""), 4, shapes.STEP
        if params.degrees:
            turned = _to_degrees(job)
            for line in lines:
                line.xyz = turned(line.xyz)
            points = [(n, turned(np.array([at]))[0], more) for n, at, more in points]
            system, decimals, step = "", DEGREES, 1e-4
        path = job.output(params.path, ".geojson")
        with whole(path) as partial:
            writer.write(partial, lines, points, system, decimals)
        told = shapes.read_back(path, lines, [], step)
        job.deliver(path, format="GeoJSON", lines=len(lines), read_back=True)
        return {
            "says": f"{len(lines)} lines, {len(points)} points, read back",
            "path": path,
            "bytes": os.path.getsize(path),
            "verified": told,
        }


def _to_degrees(job: Job):
    """What brings places (n, 3) of the grid to longitude and latitude (degrees); heights stay."""
    known = job.get("crs")
    if not known or not job.georeferenced and job.facts("control"):
        raise StateError(
            "The coordinate system is not known, so there are no degrees.", "Say it under Georeference."
        )
    to = pyproj.Transformer.from_crs(known["wkt"], "EPSG:4326", always_xy=True)

    def turned(xyz: np.ndarray) -> np.ndarray:
        scale = known.get("metres_per_unit") or 1.0
        return np.c_[np.stack(to.transform(xyz[:, 0] / scale, xyz[:, 1] / scale), 1), xyz[:, 2]]

    return turned
