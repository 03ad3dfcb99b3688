"""Put dimensions into a drawing."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.draw.hand import need_places, row
from terrazza.operations.draw.line import drawing_for
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import by_hand

LAYER = "DIMENSIONS"
WAYS = {"aligned": None, "east": (1.0, 0.0), "north": (0.0, 1.0)}


class DimensionParams(Params):
    at: list[Triple] = field(
        "Places", unit="m", help="[[E, N, H], …]: two, or more for a chain.", max_length=1000
    )
    beside: float = field(
        "Beside", 0.5, unit="m", ge=-1000, le=1000, help="To the left of the way; negative: to the right."
    )
    way: Literal["aligned", "east", "north"] = field(
        "Along", "aligned", help="From place to place, or only what lies east or north."
    )
    height: float = field("Letters", 0.15, unit="m", gt=0, le=100, help="Their height.")
    layer: str = field("Layer", LAYER, min_length=1, max_length=60)
    drawing: int = field("Drawing", 0, ge=0, help="Its number; 0: the one for lines by hand.")


@operation
class Dimension(Operation):
    """Puts dimensions between places into a drawing, in the job's unit: one, or a chain along one line."""

    name, title, step = "draw.dimension", "Dimension", "Draw"
    writes = frozenset({"drawing"})
    bound_to_place = True
    light = True
    Params = DimensionParams

    def run(self, job: Job, params: DimensionParams, progress: Progress) -> Figures:
        at, n = need_places(params.at, False, self.name), Notation.of(job)
        way = WAYS[params.way]
        if way is None and len(at) > 2:  # a chain runs along one line, from its first place to its last
            run = (at[-1] - at[0])[:2]
            way = run / max(float(np.linalg.norm(run)), 1e-12)
        along = None if way is None else np.array(way)
        number, drawing = drawing_for(job, params.drawing)
        lines, texts, lengths = list(drawing["lines"]), list(drawing.get("texts", [])), []
        beside = _level(at, along, params.beside)
        for a, b, off in zip(at, at[1:], beside):
            try:
                made, place, length = by_hand.dimension(a, b, off, along, params.height)
            except ValueError as error:
                raise ParamsError(
                    f"draw.dimension: {error}.", "Choose another way, or other places."
                ) from error
            name = f"Dimension {len(lengths) + 1}"
            which, layer = 1 + max((t.get("dimension") or 0 for t in texts), default=0), params.layer.strip()
            rows = [row(job, line, False, name, layer, by_hand=True) for line in made]
            lines += [r | {"dimension": which} for r in rows]
            own = rigid.apply(rigid.inverse(job.frame), np.array([place, a, b]))
            measures = [*own[1:].tolist(), *rows[0]["vertices"]]
            about = {"text": n.length(length), "layer": layer, "at": own[0].tolist()}
            texts.append(about | {"height": params.height, "dimension": which, "measures": measures})
            lengths.append(length)
        job.put("drawing", number, drawing | {"lines": lines, "texts": texts})
        return {
            "says": f"{len(lengths)} dimensions: {', '.join(map(n.length, lengths[:6]))}"
            if len(lengths) > 1
            else f"Dimension of {n.length(lengths[0])}",
            "drawing": number,
            "lengths_m": lengths,
        }


def _level(at: np.ndarray, along: np.ndarray | None, beside: float) -> list[float]:
    """How far beside each pair its dimension stands, so that all of a chain are on one line."""
    if along is None:
        return [beside] * (len(at) - 1)
    left = at[:, :2] @ np.array([-along[1], along[0]])
    outer = np.maximum if beside >= 0 else np.minimum
    pairs = outer(left[:-1], left[1:])
    return (outer.reduce(left) + beside - pairs).tolist()
