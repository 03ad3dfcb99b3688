"""A ground model: triangles over the points of chosen classes."""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import NotFound, StateError
from terrazza.later import later
from terrazza.operations.pieces.counting import thinned
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

ground = later("terrazza.core.surfaces.ground")
lows = later("terrazza.core.classify.lows")
writer = later("terrazza.formats.surface_writer")

WIDER, FINEST, COARSEST = 3.0, 0.1, 10.0  # usual distances from point to point of a cell; m
FEWEST = 100


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
    name: str = field("Name", "", max_length=100)
    path: str = field(
        "File", "", role="write", help="LandXML (.xml), DXF 3D faces (.dxf) or OBJ; empty: none yet."
    )
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class GroundSurface(Operation):
    """Lays triangles over the ground, as few as the height error allows, where there are points."""

    name, title, step = "surface.ground", "Ground model", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "column"})
    writes = frozenset({"surface", "array", "deliverable"})
    Params = GroundSurfaceParams

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
        made = ground.model(found, params.error, Part(progress, 0.5, 0.95))
        vertices = made.vertices + origin
        number = job.next_number("surface")
        name, size = params.name or f"Ground {number}", made.areas()
        record = {"name": name, "points": len(xyz), "error": params.error, "sigma": made.sigma, "cell": cell}
        job.put("surface", number, record)
        job.write_array(f"surface-{number}-vertices", vertices)
        job.write_array(f"surface-{number}-triangles", made.triangles.astype(np.int32))
        figures = {
            "says": f"{name}: {len(made.triangles):,} triangles on {len(xyz):,} points, "
            f"{size[0]:,.1f} m² in plan, noise {Notation.of(job).length(made.sigma)}",
            "surface": number,
            "triangles": len(made.triangles),
            "vertices": len(vertices),
            "area_plan_m2": size[0],
            "area_m2": size[1],
            "sigma_mm": made.sigma * 1000,
            "doubt": [],
        }
        if params.path:
            ending = os.path.splitext(params.path)[1].lower()
            path = job.output(params.path, ending if ending in writer.ENDINGS else ".xml")
            writer.write(path, vertices, made.triangles, name)
            job.deliver(path, format="surface", triangles=len(made.triangles))
            figures["path"] = path
        return figures


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
