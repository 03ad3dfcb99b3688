"""Contours of a surface."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.surface.ground import surface_of

with later():
    from terrazza.core.surfaces import contours as lines_of

BOLD = 5  # every so many lines lie on a layer of their own
LAYERS = ("CONTOURS", "CONTOURS-MAIN")
MOST = 200_000  # lines


class ContoursParams(Params):
    step: float = field("Step", 0.5, unit="m", gt=0, le=1000, help="From line to line.")
    surface: str = field("Surface", "", max_length=100, help="Its number or name; empty: the last.")
    path: str = field("File", "", role="write", help="DXF; empty: none yet.")


@operation
class Contours(Operation):
    """Draws the lines of one height on a surface, each a polyline at its height."""

    name, title, step = "surface.contours", "Contours", "Draw"
    reads, writes = frozenset({"surface", "array", "frame"}), frozenset({"drawing", "deliverable"})
    Params = ContoursParams

    def run(self, job: Job, params: ContoursParams, progress: Progress) -> Figures:
        surface = surface_of(job, params.surface)
        span = np.ptp(surface.vertices[:, 2])
        if span / params.step > MOST:
            raise StateError("There would be too many lines.", "Choose a larger step.")
        found = lines_of.contours(surface, params.step)
        if not found:
            height = Notation.of(job).length(float(span))
            raise StateError(f"No line: the surface rises by {height} only.", "Choose a smaller step.")
        back, rows, length = rigid.inverse(job.frame), [], 0.0
        for number, (height, places, closed) in enumerate(found, 1):
            xyz = np.c_[places, np.full(len(places), height)]
            run = float(np.linalg.norm(np.diff(np.r_[xyz, xyz[:1]] if closed else xyz, axis=0), axis=1).sum())
            length += run
            main = round(height / params.step) % BOLD == 0
            rows.append(
                {
                    "name": f"{Notation.of(job).length(height)} #{number}",
                    "layer": LAYERS[main],
                    "vertices": rigid.apply(back, xyz).tolist(),
                    "closed": closed,
                    "length": run,
                }
            )
        drawing = {"name": f"Contours {Notation.of(job).length(params.step)}", "lines": rows}
        number = job.next_number("drawing")
        job.put("drawing", number, drawing)
        figures = {
            "says": f"{len(rows):,} lines, {Notation.of(job).length(length)}",
            "drawing": number,
            "lines": len(rows),
            "length_m": length,
            "heights": sorted({h for h, *_ in found}),
            "doubt": [],
        }
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path)
        return figures
