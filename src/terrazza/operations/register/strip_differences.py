"""How far strips lie apart where they overlap, as a map of heights."""

import os

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.later import later
from terrazza.operations.register.flying import FlightParams, flight_of, flown
from terrazza.operations.register.strips import apart, sized, surfaces
from terrazza.operations.spine.base import Figures, Operation, field, operation
from terrazza.operations.spine.job import Job

with later():
    import pyproj

    from terrazza.formats import geo_picture

STEEP = 0.5  # of a normal, upwards: a wall says nothing of heights
MOST = 100_000_000  # pixels


class DifferencesParams(FlightParams):
    path: str = field(
        "File", "strips.tif", role="write", help="GeoTIFF of height differences in m; nothing is NaN."
    )


@operation
class Differences(Operation):
    """Writes a map of the height differences between strips as they lie now, the largest of each place, with
    misfits in plan and height and a histogram for each pair of passes.
    """

    name, title, step = "register.strip_differences", "Differences of strips", "Register"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "crs", "column"}), frozenset({"deliverable"})
    Params = DifferencesParams

    def run(self, job: Job, params: DifferencesParams, progress: Progress) -> Figures:
        scans = flown(job, params)
        path = job.output(params.path, ".tif")
        given, _, _, cover = flight_of(job, scans, params)
        given = sized(job, scans, given, Part(progress, 0, 0.7))
        found, pairs = surfaces(job, scans, given, Part(progress, 0.7, 1))
        a, b = found.at[pairs.a], found.at[pairs.b]
        normal = found.normal[pairs.a] + found.normal[pairs.b]
        normal /= np.linalg.norm(normal, axis=1)[:, None]
        off = ((a - b) * normal).sum(1)
        level = normal[:, 2] > STEEP
        height, at = off[level] / normal[level, 2], (a[level, :2] + b[level, :2]) / 2 + given.origin[:2]
        made, corner, pixel = mapped(at, height, given.cell)
        crs = job.get("crs") or {}
        epsg = pyproj.CRS.from_wkt(crs["wkt"]).to_epsg() if crs.get("wkt") else None
        for one in geo_picture.write(path, made, corner, pixel, epsg, crs.get("name", "")):
            job.deliver(one, format="picture")
        median, most = (float(np.quantile(np.abs(height), q)) * 1000 for q in (0.5, 0.95))
        return {
            "says": f"{len(height):,} places in common: {median:.0f} mm in the median, "
            f"95 % under {most:.0f} mm, {os.path.basename(path)}",
            "path": path,
            "median_mm": median,
            "most_mm": most,
            "cover": cover.figures,
            "doubt": cover.doubts,
        } | apart(found, pairs, off)


def mapped(at: np.ndarray, height: np.ndarray, pixel: float) -> tuple[np.ndarray, np.ndarray, float]:
    """Picture (rows, columns) f32 of signed differences (n,) at places (n, 2), the largest of each pixel,
    NaN for none; its upper left corner and the edge of its pixels, which grow where they would be too many.
    """
    low, high = at.min(0), at.max(0)
    while np.prod(np.ceil((high - low) / pixel) + 1) > MOST:
        pixel *= 2
    columns, rows = (np.ceil((high - low) / pixel) + 1).astype(int)
    corner = np.array([low[0], high[1]])
    j, i = np.floor((at - corner) * [1, -1] / pixel).astype(int).T
    made = np.full((rows, columns), np.nan, np.float32)
    order = np.argsort(np.abs(height))
    made[i[order], j[order]] = height[order]
    return made, corner, float(pixel)
