"""Change lines of drawings by hand: their corners, or their shape as a whole."""

from collections.abc import Callable
from typing import Literal

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.draw.hand import changed, found, need_places, places, put_all, put_lines
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import by_hand

ALONE = ("part", "join", "bring")  # what is done to one line at a time
DRAWING, LINE = "Its number.", "Its place in the list, from 1."


class MoveCornersParams(Params):
    drawing: int = field("Drawing", ge=1, help=DRAWING)
    line: int = field("Line", ge=1, help=LINE)
    at: list[Triple] = field(
        "Places",
        list,
        unit="m",
        max_length=100_000,
        help="All its corners, [[E, N, H], …] in the grid (or job frame); none: the line goes.",
    )


@operation
class MoveCorners(Operation):
    """Gives a line other corners (moved, more or fewer), or takes it away."""

    name, title, step = "draw.move_corners", "Change corners", "Draw"
    writes = frozenset({"drawing"})
    bound_to_place = True
    light = True
    Params = MoveCornersParams

    def run(self, job: Job, params: MoveCornersParams, progress: Progress) -> Figures:
        drawing, line = found(job, params.drawing, params.line)
        if not params.at:
            put_lines(job, params.drawing, drawing, params.line, [])
            return {"says": f"{line['name']} taken away"}
        at = need_places(params.at, line["closed"], self.name)
        put_lines(job, params.drawing, drawing, params.line, [new := changed(job, line, at)])
        return {
            "says": f"{line['name']}, {Notation.of(job).length(new['length'])}",
            "length_m": new["length"],
        }


class ReshapeParams(Params):
    drawing: int = field("Drawing", ge=1, help=DRAWING)
    line: int = field("Line", ge=1, help=LINE)
    how: Literal[
        "parallel",
        "square",
        "straight",
        "fewer",
        "close",
        "open",
        "part",
        "join",
        "bring",
        "move",
        "copy",
        "gone",
    ] = field(
        "How",
        help="parallel: another beside it; square: sides along and across its main direction; straight: the "
        "best line; fewer: as few corners as a deviation allows; part: at a corner; join: with another line; "
        "bring: to its crossing with another; move; copy: at a spacing; gone: taken away.",
    )
    by: float = field("By", 0.0, unit="m", ge=-1e4, le=1e4, help="Parallel: to the left; fewer: at most.")
    at: int = field("Corner", 0, ge=0, help="Part: its place in the line, from 1.")
    other: int = field("Other line", 0, ge=0, help="Join, bring: its place in the same drawing, from 1.")
    also: list[int] = field(
        "More lines",
        list,
        max_length=100_000,
        help="Of the same drawing, that the same is done to; 0: all of them.",
    )
    shift: list[float] = field("Shift", list, unit="m", max_length=3, help="Move, copy: E, N, H to the next.")
    count: int = field("Count", 1, ge=1, le=1000, help="Copy: how many.")


@operation
class Reshape(Operation):
    """Makes lines parallel, square or straight, thins, closes, opens, parts or joins them, brings them to a
    crossing, copies them at a spacing or takes them away; one line, or many at once.
    """

    name, title, step = "draw.reshape", "Reshape a line", "Draw"
    writes = frozenset({"drawing"})
    bound_to_place = True
    light = True
    Params = ReshapeParams

    def run(self, job: Job, params: ReshapeParams, progress: Progress) -> Figures:
        drawing, line = found(job, params.drawing, params.line)
        numbers = {params.line, *params.also}
        if 0 in numbers:
            numbers = set(range(1, len(drawing["lines"]) + 1))
        if len(numbers) > 1 and params.how in ALONE:
            raise ParamsError(f"draw.reshape: {params.how} is done to one line.", "Leave the others out.")
        for number in numbers:
            found(job, params.drawing, number)
        lines, made, says = [], 0, ""
        for number, one in enumerate(drawing["lines"], 1):
            if number in numbers:
                instead, told = _reshaped(job, params, one)
                lines += instead
                made, says = made + len(instead), says or told
            elif params.how != "join" or number != params.other:  # the other has become part of the line
                lines.append(one)
        put_all(job, params.drawing, drawing, lines)
        which = line["name"] if len(numbers) == 1 else f"{len(numbers)} lines, the first"
        return {"says": f"{which} {says}", "lines": made}


def _reshaped(job: Job, params: ReshapeParams, line: dict) -> tuple[list[dict], str]:
    """What takes a line's place, and what is said of it."""
    try:
        return _SHAPES[params.how](job, params, line)
    except ValueError as error:
        wrong = f"draw.reshape, {line['name']}: {error}."
        raise ParamsError(wrong, "Choose another way, or other corners.") from error


def _parallel(job: Job, params: ReshapeParams, line: dict):
    if not params.by:
        raise ValueError("a parallel line needs a distance")
    beside = changed(job, line, by_hand.parallel(places(job, line), line["closed"], params.by))
    side = "left" if params.by > 0 else "right"
    far = Notation.of(job).length(abs(params.by))
    return [line, beside | {"name": f"{line['name']} {side}"}], f"drawn once more, {far} to the {side}"


def _square(job: Job, params: ReshapeParams, line: dict):
    at, moved = by_hand.square(places(job, line), line["closed"])
    return [changed(job, line, at)], f"square: corners moved by {Notation.of(job).length(moved)} at most"


def _straight(job: Job, params: ReshapeParams, line: dict):
    if line["closed"]:
        raise ValueError("an area has no best line")
    at, off = by_hand.straight(places(job, line))
    return [changed(job, line, at)], f"straight: its corners lay {Notation.of(job).length(off)} off at most"


def _fewer(job: Job, params: ReshapeParams, line: dict):
    at = by_hand.fewer(places(job, line), line["closed"], abs(params.by))
    return [changed(job, line, at)], f"has {len(at)} corners of {len(line['vertices'])}"


def _closed(close: bool) -> Callable:
    def act(job: Job, params: ReshapeParams, line: dict):
        if close and len(line["vertices"]) < 3:
            raise ValueError("an area needs three corners")
        return [changed(job, line | {"closed": close}, places(job, line))], "closed" if close else "opened"

    return act


def _part(job: Job, params: ReshapeParams, line: dict):
    if not 1 <= params.at <= len(line["vertices"]):
        raise ValueError(f"it has {len(line['vertices'])} corners, there is no corner {params.at}")
    parts = by_hand.parted(places(job, line), line["closed"], params.at - 1)
    names = [line["name"]] if len(parts) == 1 else [f"{line['name']} {k}" for k in (1, 2)]
    opened = line | {"closed": False}
    return [changed(job, opened, at) | {"name": n} for at, n in zip(parts, names)], "parted"


def _join(job: Job, params: ReshapeParams, line: dict):
    other = _other(job, params, line)
    return [changed(job, line, by_hand.joined(places(job, line), places(job, other)))], "joined"


def _bring(job: Job, params: ReshapeParams, line: dict):
    if line["closed"]:
        raise ValueError("an area has no end to bring")
    _, other = found(job, params.drawing, params.other)
    ring = places(job, other)
    ring = np.r_[ring, ring[:1]] if other["closed"] else ring
    return [changed(job, line, by_hand.brought(places(job, line), ring))], f"brought to {other['name']}"


def _shift(params: ReshapeParams) -> np.ndarray:
    if len(params.shift) != 3 or not any(params.shift):
        raise ValueError("a shift of E, N and H is needed")
    return np.array(params.shift)


def _move(job: Job, params: ReshapeParams, line: dict):
    shift = _shift(params)
    far = Notation.of(job).length(float(np.linalg.norm(shift)))
    return [changed(job, line, places(job, line) + shift)], f"moved by {far}"


def _copy(job: Job, params: ReshapeParams, line: dict):
    shift, at = _shift(params), places(job, line)
    copies = [
        changed(job, line, at + k * shift) | {"name": f"{line['name']} {k + 1}"}
        for k in range(1, params.count + 1)
    ]
    return [line, *copies], f"copied {params.count} times"


def _gone(job: Job, params: ReshapeParams, line: dict):
    return [], "taken away"


def _other(job: Job, params: ReshapeParams, line: dict) -> dict:
    _, other = found(job, params.drawing, params.other)
    if other is line or params.other == params.line or other["closed"] or line["closed"]:
        raise ValueError("two lines with ends are joined")
    return other


_SHAPES = {
    "parallel": _parallel,
    "square": _square,
    "straight": _straight,
    "fewer": _fewer,
    "close": _closed(True),
    "open": _closed(False),
    "part": _part,
    "join": _join,
    "bring": _bring,
    "move": _move,
    "copy": _copy,
    "gone": _gone,
}
