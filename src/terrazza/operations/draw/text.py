"""Set a text into a drawing."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.operations.draw.line import drawing_for
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation
from terrazza.operations.spine.job import Job


class TextParams(Params):
    text: str = field("Text", min_length=1, max_length=500)
    at: Triple = field("Touched", unit="m", help="[E, N, H] of its middle.")
    height: float = field("Letters", 0.25, unit="m", gt=0, le=100, help="Their height.")
    layer: str = field("Layer", "TEXT", min_length=1, max_length=60)
    drawing: int = field("Drawing", 0, ge=0, help="Its number; 0: the one for lines by hand.")


@operation
class Text(Operation):
    """Sets a text into a drawing."""

    name, title, step = "draw.text", "Text", "Draw"
    writes = frozenset({"drawing"})
    bound_to_place = True
    light = True
    Params = TextParams

    def run(self, job: Job, params: TextParams, progress: Progress) -> Figures:
        number, drawing = drawing_for(job, params.drawing)
        at = rigid.apply(rigid.inverse(job.frame), np.array([params.at]))[0].tolist()
        text = {"text": params.text, "layer": params.layer.strip(), "at": at, "height": params.height}
        job.put("drawing", number, drawing | {"texts": [*drawing.get("texts", []), text]})
        return {"says": f"“{params.text}” set", "drawing": number}
