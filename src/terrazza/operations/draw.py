"""Step 7, Draw: wall lines from a plan slab, named and written to DXF."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import NotFound, ParamsError, StateError
from terrazza.formats import dxf
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.job import Job
from terrazza.operations.notation import Notation

fitting = later("terrazza.core.draw.lines")

EYE = 1.3
EVEN = 0.03  # m; points this far apart show where a floor lies as well as all of them do


def floor_height(job: Job) -> float:
    """Height (m, grid or job frame) of the floor under the first placed scan: the fullest 5 cm below the
    instrument within 4 m, where points are spread evenly.
    """
    scan = job.need_scans(placed=True)[0]
    cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
    near = _around(cloud, EVEN)
    near = near if len(near) >= 1000 else _around(cloud, 0.0)
    if len(near) < 50:
        return float(rigid.apply(pose, np.array([scan.record["bounds"][0]]))[0, 2])
    z = rigid.apply(pose, near)[:, 2]
    z = z[z < pose[2, 3] - 0.3] if (z < pose[2, 3] - 0.3).any() else z
    counts, edges = np.histogram(z, bins=np.arange(z.min(), z.max() + 0.1, 0.05))
    k = int(np.argmax(counts))
    return float(np.median(z[(z >= edges[k]) & (z <= edges[k + 1])]))


def _around(cloud, spacing: float) -> np.ndarray:
    """(n, 3) kept points within 4 m of the scanner in plan (scan's frame), those of coarse nodes only where a
    spacing (m) is given.
    """
    index = cloud.inside([-4.0, -4.0, -1e6], [4.0, 4.0, 1e6], spacing=spacing)
    index = index[cloud.pick("cut", index) == 0] if cloud.has("cut") else index
    xyz = cloud.at(index)
    return xyz[np.linalg.norm(xyz[:, :2], axis=1) < 4]


def slab_points(job: Job, scans, low: float, high: float, progress: Progress) -> np.ndarray:
    """(n, 3) kept points between two heights, grid (or job) frame, read through the octree."""
    box_low, box_high = np.array([-1e9, -1e9, low]), np.array([1e9, 1e9, high])
    parts = [np.zeros((0, 3))]
    for n, scan in enumerate(scans):
        progress.advance(n, len(scans), f"Cutting the slab from {scan.name}")
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        index = cloud.inside(box_low, box_high, pose)
        index = index[cloud.pick("cut", index) == 0] if cloud.has("cut") else index
        parts.append(rigid.apply(pose, cloud.at(index)))
    return np.concatenate(parts)


class SlabParams(Params):
    height: float | None = field(
        "Height of the slab",
        None,
        unit="m",
        blank="auto",
        help="Of its middle, in the grid or job frame; empty: 1.3 m over the floor under the first scan.",
    )
    thickness: float = field(
        "Thickness",
        0.05,
        unit="m",
        ge=0.005,
        le=5,
        help="Thin slabs give sharp lines, thick ones more of them.",
    )
    least: float = field(
        "Shortest line", 0.30, unit="m", ge=0.05, le=100, help="Shorter straight pieces are left out."
    )
    width: float = field(
        "Straightness",
        0.02,
        unit="m",
        ge=0.002,
        le=0.5,
        help="Points within this distance belong to one line.",
    )
    gap: float = field(
        "Largest gap", 0.35, unit="m", ge=0.01, le=10, help="A line ends where its points leave a wider gap."
    )
    join: float = field(
        "Joining distance",
        0.25,
        unit="m",
        ge=0.0,
        le=5,
        help="Lines whose ends meet within this become one polyline with a corner.",
    )
    name: str = field("Name", "", max_length=100, help="Empty: “Plan at” and the height.")
    path: str = field("DXF file", "", role="write", help="Also write the lines to this file; empty: not yet.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class PlanSlab(Operation):
    """Cuts a plan slab and fits its wall lines as polylines."""

    name, title, step = "draw.plan_slab", "Draw a plan slab", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    Params = SlabParams

    @classmethod
    def automatic(cls, job: Job) -> dict[str, float]:
        """As it would be cut: at eye height over the floor."""
        return {"height": floor_height(job) + EYE} if job.scans(placed=True) else {}

    def run(self, job: Job, params: SlabParams, progress: Progress) -> Figures:
        scans, notation = (
            job.need_scans(params.scans, placed=True, why=", so there is no plan"),
            Notation.of(job),
        )
        height = params.height if params.height is not None else floor_height(job) + EYE
        points = slab_points(
            job, scans, height - params.thickness / 2, height + params.thickness / 2, progress
        )
        if len(points) < 20:
            raise StateError(
                f"The slab at {notation.length(height)} holds only {len(points)} points.",
                "Choose another height or a thicker slab.",
            )
        centre = points[:, :2].mean(0)
        progress.advance(0.6, 1.0, "Fitting lines")
        found = fitting.fit_lines(points[:, :2] - centre, params.least, params.width, params.gap, params.join)
        number = job.next_number("drawing")
        back = rigid.inverse(job.frame)
        rows = [_line(n, line, centre, height, back) for n, line in enumerate(found, 1)]
        drawing = {
            "name": params.name or f"Plan at {notation.length(height)}",
            "height": height,
            "thickness": params.thickness,
            "points": len(points),
            "lines": rows,
        }
        job.put("drawing", number, drawing)
        length = sum(r["length"] for r in rows)
        figures = {
            "says": f"{len(rows)} lines, {notation.length(length)}, from {len(points):,} points at "
            f"{notation.length(height)}",
            "drawing": number,
            "lines": len(rows),
            "length_m": length,
            "points": len(points),
            "height_m": height,
            "rms_mm": float(
                np.sqrt(np.average([r["rms_mm"] ** 2 for r in rows], weights=[r["points"] for r in rows]))
            )
            if rows
            else None,
        }
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path)
        return figures


def _line(number, line, centre, height, back):
    xy = line.vertices + centre
    closed = len(xy) > 3 and bool(np.linalg.norm(xy[0] - xy[-1]) < 1e-6)
    xy = xy[:-1] if closed else xy
    around = np.concatenate([xy, xy[:1]]) if closed else xy
    job_frame = rigid.apply(back, np.c_[xy, np.full(len(xy), height)])
    return {
        "name": f"Line {number}",
        "layer": "WALLS",
        "vertices": job_frame.tolist(),
        "closed": closed,
        "rms_mm": line.rms * 1000,
        "points": line.points,
        "length": float(np.linalg.norm(np.diff(around, axis=0), axis=1).sum()),
    }


def write_dxf(job: Job, drawings: list[dict], path: str) -> str:
    """Write drawings (kept in the job frame) to a DXF in the grid; returns its full path."""
    full = job.output(path, ".dxf")
    lines = []
    for drawing in drawings:
        for line in drawing["lines"]:
            grid = rigid.apply(job.frame, np.array(line["vertices"]))
            lines.append(
                {
                    "vertices": grid[:, :2].tolist(),
                    "layer": line["layer"],
                    "name": line["name"],
                    "closed": line["closed"],
                    "elevation": float(grid[:, 2].mean()),
                }
            )
    dxf.write(full, lines)
    job.deliver(full, format="DXF", lines=len(lines))
    return full


class RenameParams(Params):
    drawing: int = field("Drawing", help="Its number.", ge=1)
    line: int = field("Line", 0, help="Its place in the list, from 1; 0: the drawing itself.", ge=0)
    name: str = field("New name", min_length=1, max_length=100)
    layer: str = field("Layer", "", max_length=100, help="Empty: unchanged; for a drawing: of all its lines.")


@operation
class Rename(Operation):
    """Renames a drawing or one of its lines, and sets layers."""

    name, title, step = "draw.rename", "Rename a line", "Draw"
    writes = frozenset({"drawing"})
    bound_to_place = True
    Params = RenameParams

    def run(self, job: Job, params: RenameParams, progress: Progress) -> Figures:
        drawing = job.get("drawing", params.drawing)
        if drawing is None:
            raise NotFound(
                f"There is no drawing {params.drawing}.",
                f"Drawings are {', '.join(job.facts('drawing')) or 'none yet'}.",
            )
        lines = [dict(line) for line in drawing["lines"]]
        if params.line > len(lines):
            raise ParamsError(
                f"draw.rename: drawing {params.drawing} has {len(lines)} lines, there is no line "
                f"{params.line}.",
                "Choose one of the list.",
            )
        layer = {"layer": params.layer.strip()} if params.layer.strip() else {}
        if params.line:
            lines[params.line - 1] |= {"name": params.name.strip()} | layer
            drawing = drawing | {"lines": lines}
        else:
            drawing = drawing | {"name": params.name.strip(), "lines": [line | layer for line in lines]}
        job.put("drawing", params.drawing, drawing)
        return {
            "says": f"Named “{params.name.strip()}”" + (f" on layer {params.layer.strip()}" if layer else "")
        }
