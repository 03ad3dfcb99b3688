"""Put a box, and the box that work is limited to."""

import re

import numpy as np

from terrazza.core.geometry import box, rigid
from terrazza.core.progress import Progress
from terrazza.errors import NotFound, ParamsError
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.table.naming import free_name

with later():
    from terrazza.core.clean import outline

HEIGHTS = re.compile(r"(-?\d+(?:\.\d+)?) to (-?\d+(?:\.\d+)?)")


class BoxParams(Params):
    name: str = field("Name", "", max_length=100, help="Empty: “box” and a number.")
    centre: list[float] = field(
        "Centre", list, unit="m", help="E, N, H in the grid (or job frame).", min_length=3, max_length=3
    )
    size: list[float] = field(
        "Size", list, unit="m", help="Length, width and height.", min_length=3, max_length=3
    )
    heading_deg: float = field(
        "Turned", 0.0, unit="°", ge=-360, le=360, help="Counter-clockwise about the vertical."
    )
    outside: bool = field("Inside out", False, help="Show what lies outside.")


@operation
class PutBox(Operation):
    """Sets up a working box, or changes the one of that name: what it hides is not picked, cut or delivered
    unless asked.
    """

    name, title, step = "boxes.put", "Set up a box", "Table"
    reads, writes = frozenset({"frame"}), frozenset({"box"})
    bound_to_place = True
    light = True
    Params = BoxParams

    def run(self, job: Job, params: BoxParams, progress: Progress) -> Figures:
        if min(params.size) <= 0:
            raise ParamsError("boxes.put: “size” has a side that is not above 0.", "Give three lengths.")
        there = any(b["name"] == " ".join(params.name.split()) for b in job.facts("box").values())
        number, name = put_box(
            job, params.name, params.centre, params.size, params.heading_deg, params.outside
        )
        sides = f"{params.size[0]:.2f} × {params.size[1]:.2f} × {params.size[2]:.2f} m"
        turned = ", inside out" if params.outside else ""
        return {
            "says": f"{name}: {sides}{turned}{'; it replaces the box of that name' if there else ''}",
            "box": number,
            "replaced": there,
        }


def put_box(job: Job, name: str, centre, size, heading_deg: float, outside: bool) -> tuple[int, str]:
    """Put a box given in the grid (or job frame), in place of one of the same name; returns its number and
    name.
    """
    own, name = rigid.inverse(job.frame), " ".join(name.split())
    number = int(
        next((k for k, b in job.facts("box").items() if b["name"] == name and name), job.next_number("box"))
    )
    name = name or free_name(job, "box", number)
    job.put(
        "box",
        number,
        {
            "name": name,
            "centre": rigid.apply(own, np.array([centre], float))[0].tolist(),
            "size": [float(v) for v in size],
            "heading_deg": float(np.degrees(rigid.heading(own)) + heading_deg),
            "outside": outside,
        },
    )
    return number, name


def limit_of(job: Job, words: str):
    """What ``holds`` points (grid, or job frame) that work keeps to: a box of the table or a drawn area by
    its name, or heights, as “1.2 to 1.4”; None for no words; NotFound says what there is.
    """
    between = HEIGHTS.fullmatch(words.strip())
    if between:
        return outline.Heights(*sorted(float(v) for v in between.groups()))
    names = {b["name"] for b in job.facts("box").values()}
    if words and words not in names:
        for drawing in job.facts("drawing").values():
            for line in drawing["lines"]:
                if line["closed"] and line["name"] == words:
                    return outline.Area(rigid.apply(job.frame, np.array(line["vertices"], float))[:, :2])
    return working_box(job, words)


def working_box(job: Job, name: str) -> box.Box | None:
    """The box of that name for points in the grid (or job frame); None for an empty name; NotFound says which
    there are.
    """
    if not name:
        return None
    for record in job.facts("box").values():
        if record["name"] == name:
            made = box.turned(
                record["centre"], record["size"], np.radians(record["heading_deg"]), record["outside"]
            )
            return box.Box(made.low, made.high, made.frame @ rigid.inverse(job.frame), made.outside)
    raise NotFound(
        f"There is no box “{name}”.",
        f"Boxes are {', '.join(b['name'] for b in job.facts('box').values()) or 'none yet'}.",
    )
