"""A ground model: triangles over the points of chosen classes."""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import NotFound, ParamsError, StateError
from terrazza.formats.protocol import Mesh
from terrazza.later import later
from terrazza.operations.draw.hand import need_drawing, places
from terrazza.operations.pieces.counting import thinned
from terrazza.operations.spine.base import Figures, Operation, Pair, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from scipy import spatial

    from terrazza.core.classify import lows
    from terrazza.core.surfaces import ground, kept
    from terrazza.core.surfaces import volume as volumes
    from terrazza.formats import surface_writer as writer

WIDER, FINEST, COARSEST = 3.0, 0.1, 10.0  # usual distances from point to point of a cell; m
FEWEST = 100
COVERED = 0.8  # share of an outline's area in which points lie, below which it is told


class GroundSurfaceParams(Params):
    classes: list[int] = field("Classes", lambda: [2], widget="classes", help="Of the points it lies on.")
    error: float = field(
        "Height error", 0.02, unit="m", gt=0, le=10, help="No cell of points lies farther off the triangles."
    )
    cell: float = field(
        "Cell",
        0.0,
        unit="m",
        ge=0,
        le=100,
        blank="auto",
        help="Points within one give one height; 0: by their spacing.",
    )
    drawings: list[int] = field(
        "Break lines",
        list,
        blank="none",
        help="Numbers of drawings whose lines it keeps as edges, at their heights.",
    )
    outline: list[Pair] = field(
        "Outline",
        list,
        blank="none",
        help="[[E, N], …]: it ends there (grid, or job frame); empty: where the points end.",
        max_length=10_000,
    )
    name: str = field("Name", "", max_length=100)
    path: str = field(
        "File", "", role="write", help="LandXML (.xml), DXF 3D faces (.dxf), OBJ or PLY; empty: none yet."
    )
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class GroundSurface(Operation):
    """Lays triangles over the ground, as few as the height error allows, where there are points."""

    name, title, step = "surface.ground", "Ground model", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "column", "drawing"})
    bound_to_place = True
    writes = frozenset({"surface", "array", "deliverable"})
    Params = GroundSurfaceParams

    @classmethod
    def read_alone(cls, values: dict, figures: dict) -> dict[str, list[str]]:
        return {"drawing": list(map(str, values.get("drawings", [])))}

    def run(self, job: Job, params: GroundSurfaceParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no common ground")
        parts = [
            thinned(job, scans, max(params.cell / 4, FINEST / 4), Part(progress, 0, 0.4), code)
            for code in params.classes
        ]
        xyz = np.concatenate([*parts, np.zeros((0, 3))])
        if len(xyz) < FEWEST:
            raise StateError(
                f"Only {len(xyz)} points are of these classes.",
                "Find the ground first, or choose other classes.",
            )
        cell = params.cell or float(np.clip(WIDER * lows.usual_distance(xyz), FINEST, COARSEST))
        grid = rigid.apply(job.frame, xyz)
        origin = np.round(grid.mean(0))
        progress.advance(0.45, 1, "Thinning")
        found = ground.cells(grid - origin, cell)
        lines = _kept(job, params, origin, found)
        made = ground.model(found, params.error, Part(progress, 0.5, 0.95), lines)
        vertices = made.vertices + origin
        number = job.next_number("surface")
        name, size = params.name or f"Ground {number}", made.areas()
        record = {"name": name, "points": len(xyz), "error": params.error, "sigma": made.sigma, "cell": cell}
        put_surface(job, number, record, vertices, made.triangles)
        if lines is not None:
            job.write_array(f"surface-{number}-kept", _rows(lines, made, origin))
        figures = {
            "says": f"{name}: {len(made.triangles):,} triangles on {len(xyz):,} points, "
            f"{size[0]:,.1f} m² in plan, noise {Notation.of(job).length(made.sigma)}",
            "surface": number,
            "triangles": len(made.triangles),
            "vertices": len(vertices),
            "area_plan_m2": size[0],
            "area_m2": size[1],
            "sigma_mm": made.sigma * 1000,
            "doubt": _doubts(params, lines, made, found),
        }
        if params.path:
            ending = os.path.splitext(params.path)[1].lower()
            path = job.output(params.path, ending if ending in writer.ENDINGS else ".xml")
            writer.write(path, mesh_of(job, str(number)))
            job.deliver(path, format="surface", triangles=len(made.triangles))
            figures["path"] = path
        return figures


def put_surface(job: Job, number: int, record: dict, vertices: np.ndarray, triangles: np.ndarray) -> None:
    """Keep a surface: vertices (n, 3) m in the grid (or job frame) and triangles (m, 3) of their indices."""
    job.put("surface", number, record)
    job.write_array(f"surface-{number}-vertices", vertices)
    job.write_array(f"surface-{number}-triangles", triangles.astype(np.int32))


def _kept(job: Job, params: GroundSurfaceParams, origin: np.ndarray, found):
    """The lines and the outline that the surface keeps, less ``origin``; None where there are none."""
    lines = []
    for number in params.drawings:
        for line in need_drawing(job, number)["lines"]:
            at = places(job, line) - origin
            lines.append(np.concatenate([at, at[:1]]) if line["closed"] else at)
    if params.outline and len(params.outline) < 3:
        raise ParamsError("surface.ground: an outline needs three corners.", "Give more.")
    outline = np.array(params.outline, float) - origin[:2] if params.outline else None
    return kept.noded(lines, outline, found.xyz) if lines or outline is not None else None


def _rows(lines, made, origin: np.ndarray) -> np.ndarray:
    """(n, 4) of what is kept: number of the line, 0 for the outline, and places in the grid."""
    parts = [np.c_[np.full(len(run), k), run] for k, run in enumerate(lines.runs(), 1)]
    if lines.outline is not None:
        inner = lines.outline + (lines.outline.mean(0) - lines.outline) * 1e-9
        z = volumes.heights(inner, made)
        near = spatial.cKDTree(made.vertices[:, :2]).query(lines.outline)[1]
        z = np.where(np.isfinite(z), z, made.vertices[near, 2])
        parts.append(np.c_[np.zeros(len(z)), lines.outline, z])
    return np.concatenate([*parts, np.zeros((0, 4))]) + [0, *origin]


def _doubts(params: GroundSurfaceParams, lines, made, found) -> list[str]:
    """What speaks against break lines and outline."""
    out = []
    if lines is None:
        return out
    if lines.apart > params.error:
        out.append(
            f"Break lines that meet differ in height by up to {lines.apart:.3f} m there: the mean counts."
        )
    if made.lost:
        out.append(f"{made.lost} pieces of break lines, too close to others, are no edges of the surface.")
    if lines.outline is not None:
        seen = len(found.xyz) * found.edge**2 / max(made.areas()[0], 1e-9)
        low, high = lines.outline.min(0), lines.outline.max(0)
        inside = ((found.xyz[:, :2] >= low) & (found.xyz[:, :2] <= high)).mean()
        if seen * inside < COVERED:
            out.append("Of the area within the outline a good part has no points: triangles bridge it.")
    return out


def mesh_of(job: Job, number: str) -> Mesh:
    """A surface by its number as a mesh with its name and what it keeps, in the grid (or job frame)."""
    surface, rows = surface_of(job, number), job.array(f"surface-{number}-kept")
    rows = np.zeros((0, 4)) if rows is None else rows
    breaks = [rows[rows[:, 0] == k, 1:] for k in range(1, int(rows[:, 0].max(initial=0)) + 1)]
    outline = rows[rows[:, 0] == 0, 1:]
    name = job.facts("surface")[number]["name"]
    return Mesh(surface.vertices, surface.triangles, name, breaks, outline if len(outline) else None)


def surface_of(job: Job, which: str):
    """The surface (``ground.Surface``, grid or job frame) of a number or name, the last where none is given;
    NotFound says which there are.
    """
    there = job.facts("surface")
    if not there:
        raise StateError("There is no surface yet.", "Make a ground model first.")
    number = next(
        (k for k, v in there.items() if which in (k, v["name"])), max(there, key=int) if not which else None
    )
    if number is None:
        names = ", ".join(f"{k} {v['name']}" for k, v in there.items())
        raise NotFound(f"There is no surface “{which}”.", f"There are {names}.")
    vertices, triangles = (job.array(f"surface-{number}-{what}") for what in ("vertices", "triangles"))
    return ground.Surface(vertices, triangles.astype(np.int64), there[number]["sigma"])
