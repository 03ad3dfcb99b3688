"""Bring in lines and surfaces from a file."""

import os

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import InputError
from terrazza.operations.draw.hand import LAYER, row
from terrazza.operations.pieces import reading, sights
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.surface.ground import put_surface

FAR = 1000.0  # m from all scans, beyond which a file is likely in another frame or unit


class BringParams(Params):
    path: str = field(
        "File",
        role="read",
        max_length=400,
        help="DXF, LandXML, GeoJSON, OBJ, STL or PLY, in the grid, in metres.",
    )
    name: str = field("Name", "", max_length=100, help="Empty: that of the file.")
    layer: str = field("Layer", "", max_length=100, blank="as in the file", help="For all of its lines.")


@operation
class Bring(Operation):
    """Reads the lines of a drawing or model as a drawing of the job, and its surfaces as surfaces."""

    name, title, step = "draw.bring", "Bring in a drawing", "Draw"
    reads, writes = frozenset({"frame", "scan", "pose"}), frozenset({"drawing", "surface", "array"})
    Params = BringParams

    def run(self, job: Job, params: BringParams, progress: Progress) -> Figures:
        path = job.input(params.path, "The drawing")
        found = reading.shapes(path)
        lines = [line for line in found.lines if len(line.xyz) > 1]
        places = [line.xyz for line in lines] + [mesh.vertices for mesh in found.meshes]
        if not places:
            raise InputError(
                f"“{os.path.basename(path)}” holds no lines and no surfaces.", "Choose another file."
            )
        if any(not np.isfinite(at[:, :2]).all() for at in places):
            raise InputError(
                f"“{os.path.basename(path)}” holds places that are no numbers.", "Mend the file."
            )
        name = params.name or os.path.splitext(os.path.basename(path))[0]
        figures: Figures = {"lines": len(lines), "surfaces": len(found.meshes), "doubt": _doubts(job, places)}
        if lines:
            figures["drawing"] = job.next_number("drawing")
            layer = lambda line: params.layer or line.layer or LAYER
            rows = [
                row(job, _whole(line.xyz), line.closed, line.name or f"Line {k}", layer(line))
                for k, line in enumerate(lines, 1)
            ]
            job.put("drawing", figures["drawing"], {"name": name, "lines": rows})
        for mesh in found.meshes:
            figures["surface"] = number = job.next_number("surface")
            told = {"name": mesh.name or name, "points": len(mesh.vertices), "error": 0.0}
            told |= {"sigma": 0.0, "cell": 0.0}
            put_surface(job, number, told, np.asarray(mesh.vertices, float), np.asarray(mesh.triangles))
        length = sum(r["length"] for r in rows) if lines else 0.0
        parts = [f"{len(lines)} lines, {Notation.of(job).length(length)}"] if lines else []
        parts += [f"{len(found.meshes)} surface{'s' * (len(found.meshes) != 1)}"] if found.meshes else []
        return figures | {"says": f"{name}: {', '.join(parts)}", "notes": found.notes}


def _whole(xyz: np.ndarray) -> np.ndarray:
    """Places (n, 3); those without a height lie at 0."""
    out = np.zeros((len(xyz), 3))
    out[:, : xyz.shape[1]] = xyz
    return np.nan_to_num(out)


def _doubts(job: Job, places: list[np.ndarray]) -> list[str]:
    """What is said where nothing of a file lies near the scans."""
    if not job.scans(placed=True):
        return []
    low, high = sights.extent(job)
    at = np.concatenate([p[:, :2] for p in places])
    away = np.linalg.norm(np.maximum(np.maximum(low[:2] - at, at - high[:2]), 0), axis=1).min()
    far = Notation.of(job).length(float(away), 0)
    return [f"It lies {far} and more from all scans: is it in another frame or unit?"] if away > FAR else []
