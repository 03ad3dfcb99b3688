"""Draw a line, an area or an arc by hand."""

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.draw.hand import BY_HAND, LAYER, need_drawing, need_places, row
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import by_hand


class LineParams(Params):
    at: list[Triple] = field(
        "Places", unit="m", help="[[E, N, H], …] in the grid (or job frame).", max_length=100_000
    )
    closed: bool = field("An area", False, help="The last place joins the first.")
    arc: bool = field("An arc", False, help="Through three places.")
    drawing: int = field("Drawing", 0, ge=0, help=f"Its number; 0: the one called “{BY_HAND}”.")
    name: str = field("Name", "", max_length=100, help="Empty: “Line”, “Area” or “Arc” and its number.")
    layer: str = field("Layer", "", max_length=100, help=f"Empty: {LAYER}.")


@operation
class Line(Operation):
    """Puts a line, an area or an arc through touched places into a drawing."""

    name, title, step = "draw.line", "Draw a line", "Draw"
    writes = frozenset({"drawing"})
    bound_to_place = True
    light = True
    Params = LineParams

    def run(self, job: Job, params: LineParams, progress: Progress) -> Figures:
        at, arcs = need_places(params.at, params.closed, self.name), []
        if params.arc:
            if len(at) != 3 or params.closed:
                raise ParamsError("draw.line: an arc goes through three places.", "Give three.")
            try:
                at = by_hand.arc(*at)
            except ValueError as error:
                raise ParamsError(f"draw.line: {error}.", "Touch the middle one farther off.") from error
            arcs = [[0, len(at) - 1]]
        number, drawing = drawing_for(job, params.drawing)
        kind = "Arc" if params.arc else "Area" if params.closed else "Line"
        name = params.name.strip() or f"{kind} {len(drawing['lines']) + 1}"
        line = row(job, at, params.closed, name, params.layer.strip() or LAYER, arcs=arcs, by_hand=True)
        job.put("drawing", number, drawing | {"lines": [*drawing["lines"], line]})
        length = Notation.of(job).length(line["length"])
        return {
            "says": f"{name}, {length}" + (" around" if params.closed else ""),
            "drawing": number,
            "line": len(drawing["lines"]) + 1,
            "length_m": line["length"],
        }


def drawing_for(job: Job, number: int) -> tuple[int, dict]:
    """The drawing of a number, or the one for lines by hand."""
    if number:
        return number, need_drawing(job, number)
    for key, drawing in job.facts("drawing").items():
        if drawing["name"] == BY_HAND:
            return int(key), drawing
    return job.next_number("drawing"), {"name": BY_HAND, "lines": []}
