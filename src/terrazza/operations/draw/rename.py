"""Rename a drawing."""

from terrazza.core.progress import Progress
from terrazza.operations.draw.hand import found, need_drawing
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


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
    light = True
    Params = RenameParams

    def run(self, job: Job, params: RenameParams, progress: Progress) -> Figures:
        number = params.drawing
        drawing = found(job, number, params.line)[0] if params.line else need_drawing(job, number)
        lines = [dict(line) for line in drawing["lines"]]
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
