"""Deliver LAZ."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.fleet import inline
from terrazza.later import later
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered, pieces_of
from terrazza.operations.pieces.counting import named_classes
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Portion, Selection
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import las_writer


def _as_laz(portion: Portion, common, progress: Progress) -> "las_writer.Encoded":
    layout, scale, offset, threads = common
    return layout.encoded(portion.chunks(progress, scale=scale, offset=offset), threads)


class LazParams(PointParams):
    path: str = field(
        "File",
        "cloud.laz",
        role="write",
        help="Relative paths land in the job's deliverables; .las writes without compression.",
    )
    scale: float = field(
        "Resolution", 0.0001, unit="m", ge=1e-6, le=0.1, help="Smallest step of a coordinate."
    )


def layout_of(job: Job, chosen: Selection, params: LazParams, packed: bool = True):
    """The layout of a file of some points, its coordinate system in WKT, and metres in its unit.

    ParamsError where the points lie too far apart for the step.
    """
    factor, (low, high) = chosen.target.unit, chosen.bounds()
    if (high - low).max() / 2 + 1 > params.scale * 2**31:
        raise ParamsError(
            f"A resolution of {params.scale:g} m is too fine for points {(high - low).max():.0f} m "
            "apart: LAS counts to 2³¹.",
            "Use 0.0001 m.",
        )
    timed = any(c.has("time") for c in chosen.clouds.values())
    offset = tuple(float(v) for v in np.round((low + high) / 2 / factor))
    colour = any(chosen.colours.values())
    names = named_classes(job)
    low8 = params.depth == "8 bit"
    layout = las_writer.Layout(params.scale / factor, offset, colour, timed, packed, names, low8)
    return layout, chosen.target.wkt, factor


@operation
class DeliverLaz(PointFile):
    """Writes LAS 1.4 or LAZ in the common frame, with the job's coordinate system where it has one; the scan
    number is the point source.
    """

    name, title, step = "deliver.laz", "LAZ", "Deliver"
    reads, writes = frozenset({"scan", "pose", "frame", "crs", "cut", "column"}), frozenset({"deliverable"})
    looks = frozenset({"box"})
    Params = LazParams

    def write(self, job: Job, params: LazParams, progress: Progress) -> Figures:
        path = job.output(params.path, ".las" if params.path.lower().endswith(".las") else ".laz")
        with chosen_of(job, params, progress) as (chosen, rest):
            like, wkt, factor = layout_of(job, chosen, params)
            about = (like.scale, like.offset, like.colour, like.time, wkt, like.classes, like.eight)
            with las_writer.Writer(path, *about) as out:
                offset = np.asarray(like.offset) * factor
                common = (out.layout, params.scale, offset, inline(chosen.points))
                for piece in pieces_of(
                    job,
                    chosen,
                    _as_laz,
                    common,
                    rest,
                    max(job.fleet.points_at_once // las_writer.CHUNK, 1) * las_writer.CHUNK,
                ):
                    out.put(piece)
            return delivered(job, chosen, path, "LAZ", "points", params.scale)
