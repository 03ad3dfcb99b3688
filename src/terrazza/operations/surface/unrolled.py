"""A vault, tunnel or pipe laid flat, with its deviation from the design."""

import os
from dataclasses import dataclass
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.clean.surface import SurfaceParams, found
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import (
    Figures,
    Operation,
    Params,
    Triple,
    field,
    operation,
    scans_field,
    touched_field,
)
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.clean import shells
    from terrazza.core.surfaces import unrolled
    from terrazza.formats import geo_picture

MOST = 100_000_000  # pixels
FULL = 0.975  # quantile of the deviations that has the full colour, where no scale is given
BARE = 0.3  # share of the pixels that points show, below which it is told


class UnrolledParams(Params):
    patches: list[Triple] = touched_field(
        help="On the lining, as for the surface filter: E, N, H (or in the job frame).", blank="none"
    )
    axis: list[Triple] = touched_field(
        "Axis of the design", help="Instead: its places, E, N, H.", blank="none", max_length=10_000
    )
    radius: float = field("Radius of the design", 0.0, unit="m", ge=0, le=1000, help="With an axis.")
    what: Literal["deviation", "intensity"] = field("Picture", "deviation")
    pixel: float = field("Pixel", 0.01, unit="m", ge=0.001, le=10)
    reach: float = field(
        "Reach", 0.3, unit="m", gt=0, le=100, help="What lies farther off is something else."
    )
    scale: float = field(
        "Full colour at",
        0.0,
        unit="m",
        ge=0,
        le=100,
        blank="auto",
        help="Of a PNG: blue outside, red inside.",
    )
    path: str = field(
        "File",
        "unrolled.tif",
        role="write",
        help="TIFF with the numbers (.tif), or a coloured PNG (.png); along the axis to the right, the crown "
        "in the middle.",
    )
    scans: list[int] = scans_field("Empty: all placed scans.")


@dataclass(frozen=True)
class Given:
    """What helpers need."""

    flat: "unrolled.Unrolling"
    what: str
    pixel: float
    reach: float
    shape: tuple[int, int]


@operation
class Unrolled(Operation):
    """Lays a vault, tunnel or pipe flat about its axis, as a picture to scale of its deviation from the round
    design, or of its intensity.
    """

    name, title, step = "surface.unrolled", "Unrolled picture", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "column"})
    writes = frozenset({"deliverable"})
    bound_to_place = True
    Params = UnrolledParams

    def run(self, job: Job, params: UnrolledParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to lay flat")
        ending = os.path.splitext(params.path)[1].lower()
        path = job.output(params.path, ending if ending in geo_picture.ENDINGS else ".tif")
        flat = unrolled.Unrolling(_vault(job, params))
        shape = tuple(int(np.ceil(v / params.pixel - 1e-6)) for v in (2 * np.pi * flat.radius, flat.total))
        if shape[0] * shape[1] > MOST:
            raise ParamsError(
                f"That would be {shape[1]:,} × {shape[0]:,} pixels.", "Choose larger pixels, or a part of it."
            )
        given = Given(flat, params.what, params.pixel, params.reach, shape)
        pieces = [
            (CloudPiece.of(job, s), job.grid_pose(s), *block)
            for s in scans
            for block in job.cloud(s.id).blocks()
        ]
        sizes = [stop - start for *_, start, stop in pieces]
        parts = list(job.fleet.each(_laid, pieces, sizes, progress, "Laying it flat", given, light=True))
        made = unrolled.picture(parts, shape)
        seen = float(np.isfinite(made).mean())
        if not seen:
            raise StateError(
                f"No point lies within {params.reach:g} m of it.", "Give a larger reach, or touch it again."
            )
        return self._written(job, params, flat, made, path, seen)

    @staticmethod
    def _written(job: Job, params: UnrolledParams, flat, made: np.ndarray, path: str, seen: float) -> Figures:
        n, known = Notation.of(job), made[np.isfinite(made)].astype(float)
        picture = made
        if path.lower().endswith(".png"):
            middle = 0.0 if params.what == "deviation" else float(np.median(known))
            scale = params.scale or float(np.quantile(np.abs(known - middle), FULL)) or 1.0
            picture = unrolled.coloured(made - middle, scale)
        corner = np.array([0.0, np.pi * flat.radius])
        paths = geo_picture.write(path, picture, corner, params.pixel, None, "unrolled")
        for one in paths:
            job.deliver(one, format="picture")
        figures = {
            "path": path,
            "paths": paths,
            "width": made.shape[1],
            "height": made.shape[0],
            "seen": seen,
            "length_m": flat.total,
            "radius_m": flat.radius,
            "doubt": [f"Only {seen:.0%} of it is shown by points."] if seen < BARE else [],
        }
        says = f"{n.length(flat.total)} about a radius of {n.length(flat.radius)}, {seen:.0%} of it seen"
        if params.what == "deviation":
            rms = float(np.sqrt((known**2).mean()))
            figures |= {"mean_mm": known.mean() * 1000, "rms_mm": rms * 1000}
            says += f", mean {n.residual(known.mean() * 1000)}, RMS {n.residual(rms * 1000)}"
        return figures | {"says": says}


def _vault(job: Job, params: UnrolledParams):
    """The round design, in the grid (or job frame)."""
    if params.axis:
        if len(params.axis) < 2 or not params.radius:
            raise ParamsError("surface.unrolled: an axis is two places at least, and a radius.", "Give both.")
        axis = np.array(params.axis, float)
        if (np.linalg.norm(np.diff(axis, axis=0), axis=1) < 1e-6).any():
            raise ParamsError("surface.unrolled: two places of the axis are the same.", "Leave one out.")
        return shells.Vault(axis, np.full(len(axis), params.radius))
    if not params.patches:
        raise ParamsError("surface.unrolled: it needs touched points, or an axis with a radius.", "Touch it.")
    return found(job, SurfaceParams(kind="cylinder", patches=params.patches))


def _laid(piece, given: Given, progress: Progress) -> "unrolled.Sums":
    of, pose, start, stop = piece
    cloud = of.open()
    index = np.flatnonzero(cloud.kept(start, stop))
    flat = given.flat.flat(rigid.apply(pose, cloud.xyz(start, stop)[index]))
    if given.what == "deviation":
        values = flat.away
    else:
        values = np.asarray(cloud.values("intensity", 0, start, stop), float)[index]
    values = np.where(np.abs(flat.away) <= given.reach, values, np.nan)
    progress.advance(stop - start, stop - start)
    return unrolled.sums(flat, values, given.pixel, given.shape, given.flat.radius)
