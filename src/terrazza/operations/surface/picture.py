"""Pictures of the plan, and of the ground's heights, that know where they lie."""

import os
from typing import Literal

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.draw.facing import FacingParams, facing
from terrazza.operations.pieces import sights
from terrazza.operations.spine.base import Figures, Operation, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.surface.ground import surface_of

with later():
    import pyproj

    from terrazza.core.surfaces import volume as volumes
    from terrazza.formats import geo_picture

MOST = 150_000_000  # pixels
ROWS = 1024  # that are gathered at once


class PictureParams(FacingParams):
    what: Literal["walls", "density", "intensity", "height", "ground"] = field(
        "Picture",
        "walls",
        help="The plan toned by walls, density, intensity or height; ground: heights of a surface as "
        "numbers.",
    )
    pixel: float = field("Pixel", 0.02, unit="m", ge=0.001, le=100, help="Its edge on the ground.")
    box: list[float] = field(
        "Area", list, unit="m", max_length=4, help="Lowest E, N and highest E, N; empty: all of it."
    )
    low: float | None = field("From height", None, unit="m", help="Of the plan; empty: no limit.")
    high: float | None = field("To height", None, unit="m", help="Of the plan; empty: no limit.")
    surface: str = field(
        "Surface", "", max_length=100, help="With “ground”: number or name; empty: the last."
    )
    path: str = field(
        "File", "plan.tif", role="write", help="GeoTIFF (.tif), or PNG with a world file (.png)."
    )
    depth: float = field(
        "Depth", 0.5, unit="m", gt=0, le=1000, help="Of a front or free plane: before and behind it."
    )
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Picture(Operation):
    """Writes the plan of the cloud, a front, what lies about a free plane, or heights of the ground, as
    GeoTIFF or as PNG with a world file.
    """

    name, title, step = "surface.picture", "Picture to scale", "Draw"
    reads = frozenset({"scan", "pose", "frame", "crs", "cut", "column", "surface", "array"})
    writes = frozenset({"deliverable"})
    Params = PictureParams

    def run(self, job: Job, params: PictureParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no plan")
        ending = os.path.splitext(params.path)[1].lower()
        path = job.output(params.path, ending if ending in geo_picture.ENDINGS else ".tif")
        surface = surface_of(job, params.surface) if params.what == "ground" else None
        turned, length = np.eye(4), None
        if surface is None and (params.line or params.patches):
            turned, length = facing(job, params, self.name)
        low, high, heights = _extent(job, params, surface, turned, length)
        width, height = (round(float(v) / params.pixel) for v in high - low)
        if width * height > MOST:
            raise ParamsError(
                f"That would be {width:,} × {height:,} pixels.", "Choose larger pixels, or a smaller area."
            )
        corner = np.array([low[0], high[1]])
        if surface is not None:
            made = _heights(surface, corner, params.pixel, width, height, progress)
        else:
            made = _toned(job, scans, params, turned, corner, width, height, heights, progress)
        crs = (job.get("crs") or {}) if np.array_equal(turned, np.eye(4)) else {}  # a front lies in no system
        epsg = pyproj.CRS.from_wkt(crs["wkt"]).to_epsg() if crs.get("wkt") else None
        paths = geo_picture.write(path, made, corner, params.pixel, epsg, crs.get("name", ""))
        for one in paths:
            job.deliver(one, format="picture")
        seen = float(np.isfinite(made).mean() if surface is not None else (made[..., 3] > 0).mean())
        return {
            "says": f"{width:,} × {height:,} pixels of {params.pixel:g} m, {seen:.0%} of them seen",
            "path": path,
            "paths": paths,
            "width": width,
            "height": height,
            "seen": seen,
            "bytes": sum(os.path.getsize(p) for p in paths),
        }


def _extent(job: Job, params: PictureParams, surface, turned: np.ndarray, length: float | None):
    """Lowest and highest corner (2,) m of the picture, on whole pixels, and from where to where (m) what it
    shows lies across it; ``turned`` (4×4) takes the grid to it, ``length`` (m) is that of a front.
    """
    bottom, top = sights.extent(job, turned)
    deep = None
    if not np.array_equal(turned, np.eye(4)):
        deep = -params.depth, params.depth
        for k, height in ((0, params.low), (1, params.high)):
            if height is not None and length is not None:
                (bottom if k == 0 else top)[1] = height
        if length is not None:
            bottom[0], top[0] = 0.0, length
    if params.box:
        low, high = np.array(params.box[:2], float), np.array(params.box[2:], float)
        if len(params.box) != 4 or (high <= low).any():
            raise ParamsError("An area is its lowest E, N and highest E, N.", "Give four numbers.")
    elif surface is not None:
        low, high = surface.vertices[:, :2].min(0), surface.vertices[:, :2].max(0)
    else:
        low, high = bottom[:2], top[:2]
    heights = deep or (
        bottom[2] if params.low is None else params.low,
        top[2] if params.high is None else params.high,
    )
    pixel = params.pixel
    near = 1e-6  # of a pixel, that rounding may be off
    return np.floor(low / pixel + near) * pixel, np.ceil(high / pixel - near) * pixel, heights


def _heights(surface, corner, pixel: float, width: int, height: int, progress: Progress) -> np.ndarray:
    """(rows, columns) f32 heights of a surface at the middles of the pixels, NaN beside it."""
    x = corner[0] + pixel * (np.arange(width) + 0.5)
    out = np.empty((height, width), np.float32)
    step = max(1, 1_000_000 // width)
    for first in range(0, height, step):
        progress.advance(first, height, "Reading heights")
        y = corner[1] - pixel * (np.arange(first, min(first + step, height)) + 0.5)
        places = np.stack(np.meshgrid(x, y), -1).reshape(-1, 2)
        out[first : first + step] = volumes.heights(places, surface).reshape(len(y), width)
    return out


def _toned(
    job: Job, scans, params: PictureParams, turned, corner, width: int, height: int, heights, progress
) -> np.ndarray:
    """(rows, columns, 4) u8 the plan, or a front, gathered in strips."""
    out = np.empty((height, width, 4), np.uint8)
    for first in range(0, height, ROWS):
        progress.advance(first, height, "Gathering points")
        rows = min(ROWS, height - first)
        upper = corner[1] - first * params.pixel
        sheet = sights.from_above.Sheet((corner[0], upper), params.pixel, width, rows)
        low = np.array([corner[0], upper - rows * params.pixel, heights[0]])
        high = np.array([corner[0] + width * params.pixel, upper, heights[1]])
        for scan in scans:
            pose = turned @ job.grid_pose(scan)
            sights.add(sheet, job.cloud(scan.id), scan.record, pose, low, high, heights)
        out[first : first + rows] = sheet.picture(params.what, heights)
    return out
