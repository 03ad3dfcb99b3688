"""What is set down while looking: measures, pins and working boxes, and how figures are written."""

import itertools
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from terrazza.core.geometry import box, rigid
from terrazza.core.progress import Progress
from terrazza.errors import NotFound, ParamsError, StateError
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, field, operation
from terrazza.operations.job import Job
from terrazza.operations.notation import Notation
from terrazza.operations.photos import kept

fits = later("terrazza.core.measure.fits")
measures = later("terrazza.core.measure.measures")

GROUND = 2
COUNTS = {
    "point": (1, 1),
    "distance": (2, 2),
    "length": (2, 2000),
    "area": (3, 2000),
    "angle": (3, 3),
    "above ground": (1, 1),
    "plane": (1, 1),
    "cylinder": (1, 1),
    "sphere": (1, 1),
    "wall to wall": (1, 1),
}
FROM_POINTS = {"point", "distance", "length", "area", "angle"}
BEAM = 60.0


class Touch(BaseModel):
    """A touched point: the scan and the coordinates in the scan's own frame (m), so that it moves with its
    scan.
    """

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    scan: int = Field(ge=1)
    at: tuple[float, float, float]


class MeasureParams(Params):
    kind: Literal[
        "point",
        "distance",
        "length",
        "area",
        "angle",
        "above ground",
        "plane",
        "cylinder",
        "sphere",
        "wall to wall",
    ] = field("What", "distance")
    points: list[Touch] = field(
        "Points",
        list,
        help="As touched: scan and coordinates in its own frame.",
        min_length=1,
        max_length=2000,
    )
    name: str = field("Name", "", max_length=100, help="Empty: the kind and a number.")
    reach: float = field(
        "Patch",
        0.15,
        unit="m",
        ge=0.005,
        le=20,
        help="Radius of the patch around the touched point, for planes, cylinders, spheres, walls and "
        "the ground.",
    )


def place(job: Job, touch: dict) -> np.ndarray:
    """Where a touched point is now (grid, or job frame); of a scan that is not placed in its own frame."""
    scan = job.scan(touch["scan"])
    return rigid.apply(job.grid_pose(scan) if scan.pose is not None else np.eye(4), np.array([touch["at"]]))[
        0
    ]


def patch(job: Job, centre: np.ndarray, radius: float, codes=None) -> np.ndarray:
    """Kept points (n, 3) of all placed scans within ``radius`` of a place (grid, or job frame), of some
    classes only where asked.
    """
    found = [np.zeros((0, 3))]
    for scan in job.scans(placed=True):
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        index = cloud.in_ball(rigid.apply(rigid.inverse(pose), centre[None])[0], radius)
        index = index[cloud.pick("cut", index) == 0] if cloud.has("cut") else index
        if codes is not None:
            index = index[np.isin(cloud.pick("class", index), codes)] if cloud.has("class") else index[:0]
        found.append(rigid.apply(pose, cloud.at(index)))
    return np.concatenate(found)


def measured(job: Job, kind: str, touches: list[dict], reach: float) -> dict:
    """The figures of a measure as the scans lie now, with ``at``, the places (n, 3); ParamsError where points
    are too few or their scans not placed together.
    """
    least, most = COUNTS[kind]
    if not least <= len(touches) <= most:
        raise ParamsError(
            f"A measure “{kind}” takes {least if least == most else f'{least} or more'} points, got "
            f"{len(touches)}.",
            "Touch them again.",
        )
    scans = {t["scan"] for t in touches}
    if (len(scans) > 1 or kind not in FROM_POINTS) and any(job.scan(s).pose is None for s in scans):
        raise StateError(
            "A scan that is not placed can only be measured within itself.", "Register it first."
        )
    at = np.array([place(job, t) for t in touches])
    if kind == "point":
        figures = dict(zip("xyz", map(float, at[0])))
    elif kind == "distance":
        figures = measures.distance(*at)
    elif kind in {"length", "area", "angle"}:
        figures = getattr(measures, kind)(at)
    elif kind == "above ground":
        figures = _above(job, at[0], reach)
    elif kind == "wall to wall":
        figures = _across(job, at[0], reach)
    else:
        figures = _shape(job, kind, at[0], reach)
    return figures | {"at": at.tolist()}


def _above(job, point, reach):
    """Over the ground points around the foot: the nearest circle, doubled up to 3 m, that holds six."""
    radius = reach
    while radius < 3.2:
        column = [np.zeros((0, 3))]
        for scan in job.scans(placed=True):
            cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
            if cloud.has("class"):
                index = cloud.inside(point - [radius, radius, BEAM], point + [radius, radius, BEAM], pose)
                column.append(
                    rigid.apply(
                        pose,
                        cloud.at(
                            index[
                                (cloud.pick("class", index) == GROUND)
                                & (cloud.pick("cut", index) == 0 if cloud.has("cut") else True)
                            ]
                        ),
                    )
                )
        ground = np.concatenate(column)
        if len(ground) >= 6:
            return measures.above(point, ground)
        radius *= 2
    raise StateError(
        f"There is no ground within {Notation.of(job).length(3)} of the foot of this point.",
        "Classify the ground first, or measure elsewhere.",
    )


def _shape(job, kind, point, reach):
    points = patch(job, point, reach)
    found = fits.fit(kind, points, 0.0005)
    figures = {
        "rms": found.rms,
        "points": int(found.used.sum()),
        "left_out": int((~found.used).sum()),
        "centre": found.centre.tolist(),
    }
    if kind != "plane":
        figures |= {"radius": found.radius, "sigma": found.sigma}
    if found.direction is not None:
        up = found.direction * (1 if found.direction[2] >= 0 else -1)
        figures |= {
            "direction": up.tolist(),
            "from_vertical_deg": float(np.degrees(np.arccos(min(abs(up[2]), 1.0)))),
        }
    return figures


def _across(job, point, reach):
    """From the wall touched along its normal to the first wall on either side that faces it."""
    near = patch(job, point, reach)
    wall = fits.fit("plane", near, 0.0005)
    best = None
    for side in (1, -1):
        for step in np.arange(3 * reach, BEAM, reach):
            far = patch(job, point + side * step * wall.direction, reach)
            if len(far) >= 12:
                plane = fits.fit("plane", far, 0.0005)
                if (
                    abs(plane.direction @ wall.direction) > 0.9
                    and plane.used.mean() > 0.7
                    and (best is None or step < best[0])
                ):
                    best = (step, far[plane.used])
                    break
    if best is None:
        raise StateError(
            f"No wall faces this one within {Notation.of(job).length(BEAM)}.",
            "Touch the wall where the other lies opposite.",
        )
    return measures.between_walls(near[wall.used], best[1])


@operation
class TakeMeasure(Operation):
    """Sets a measure down: its points move with their scans, its figures follow."""

    name, title, step = "measure.take", "Measure", "Table"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"measure"})
    bound_to_place = True
    Params = MeasureParams

    def run(self, job: Job, params: MeasureParams, progress: Progress) -> Figures:
        touches = [t.model_dump(mode="json") for t in params.points]
        figures = measured(job, params.kind, touches, params.reach)
        number = job.next_number("measure")
        name = _name(job, "measure", params.name, _free_name(job, "measure", number, params.kind))
        job.put(
            "measure", number, {"kind": params.kind, "name": name, "points": touches, "reach": params.reach}
        )
        return {
            "says": f"{name}: {told(Notation.of(job), params.kind, figures)}",
            "measure": number,
        } | figures


def told(n: Notation, kind: str, f: dict) -> str:
    """A measure's main figures in the job's notation."""
    deg, one = lambda v: f"{n.number(v, 2)}°", lambda v: n.length(v)  # noqa: E731
    if kind == "point":
        return n.coordinate([f["x"], f["y"], f["z"]])
    if kind == "distance":
        return (
            f"{one(f['distance'])} · level {one(f['level'])} · height {one(f['height'])} · slope "
            f"{deg(f['slope_deg'])}"
        )
    if kind == "length":
        return f"{one(f['length'])} · level {one(f['level'])} · height {one(f['height'])}"
    if kind == "area":
        return (
            f"{n.length(f['area'], True)} · level {n.length(f['level_area'], True)} · round "
            f"{one(f['perimeter'])}"
        )
    if kind == "angle":
        return f"{deg(f['angle_deg'])} · level {deg(f['level_angle_deg'])}"
    if kind == "above ground":
        return f"{one(f['height_above_ground'])} over {f['ground_points']} ground points"
    if kind == "wall to wall":
        return f"{one(f['distance'])} · {deg(f['not_parallel_deg'])} from parallel"
    start = "" if kind == "plane" else f"radius {one(f['radius'])} ± {n.residual(f['sigma'] * 1000)} · "
    lean = f" · {deg(f['from_vertical_deg'])} from the vertical" if "from_vertical_deg" in f else ""
    return f"{start}RMS {n.residual(f['rms'] * 1000)} over {f['points']} points{lean}"


def listed(n: Notation, figures: dict) -> str:
    """All single figures of a measure with their names, in the job's notation."""

    def written(name, value):
        if isinstance(value, int):
            return str(value)
        if name.endswith("_deg"):
            return f"{n.number(value, 3)}°"
        return (
            n.residual(value * 1000, 2)
            if name in {"rms", "sigma"}
            else n.length(value, name.endswith("area"))
        )

    return "; ".join(
        f"{name.removesuffix('_deg').replace('_', ' ')} {written(name, value)}"
        for name, value in figures.items()
        if isinstance(value, (int, float))
    )


def _name(job: Job, kind: str, wanted: str, otherwise: str) -> str:
    name = " ".join(wanted.split()) or otherwise
    if any(v["name"] == name for v in job.facts(kind).values()):
        raise ParamsError(f"There is a {kind} “{name}” already.", "Choose another name.")
    return name


def _there(job: Job, kind: str, number: int) -> dict:
    found = job.get(kind, number)
    if found is None:
        raise NotFound(f"There is no {kind} {number}.", f"There are {', '.join(job.facts(kind)) or 'none'}.")
    return found


class PinParams(Params):
    points: list[Touch] = field("Place", list, help="The touched point.", min_length=1, max_length=1)
    name: str = field("Name", "", max_length=100, help="Empty: “pin” and a number.")
    text: str = field("Text", "", max_length=4000)
    link: str = field("Link", "", max_length=1000, help="An address to go with it.")
    picture: str = field(
        "Picture",
        "",
        max_length=200,
        role="read",
        help="Name of a picture file in the job's inbox; it is kept with the job.",
    )
    measure: int = field("Measure", 0, ge=0, help="Number of a measure it speaks of; 0: none.")


@operation
class PutPin(Operation):
    """Puts a note at a place: text, a link, a picture, a measure."""

    name, title, step = "pins.put", "Put a pin", "Table"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"pin", "photo"})
    bound_to_place = True
    Params = PinParams

    def run(self, job: Job, params: PinParams, progress: Progress) -> Figures:
        if params.link and not params.link.lower().startswith(("http://", "https://")):
            raise ParamsError("A link begins with http:// or https://.", "Write the whole address.")
        if params.measure:
            _there(job, "measure", params.measure)
        number = job.next_number("pin")
        name = _name(job, "pin", params.name, _free_name(job, "pin", number))
        touch = params.points[0].model_dump(mode="json")
        at = place(job, touch)
        job.put(
            "pin",
            number,
            {
                "name": name,
                "text": params.text,
                "link": params.link,
                "measure": params.measure,
                "point": touch,
                "picture": kept(job, params.picture, f"pin.{number}")[0] if params.picture else "",
            },
        )
        return {"says": f"{name} at {Notation.of(job).coordinate(at)}", "pin": number, "at": at.tolist()}


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
    name = name or _free_name(job, "box", number)
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


def _free_name(job: Job, kind: str, number: int, word: str = "") -> str:
    """The default name of something new: a word (its kind) and its number, or the next one that nothing there
    is called by.
    """
    taken = {v["name"] for v in job.facts(kind).values()}
    return next(name for n in itertools.count(number) if (name := f"{word or kind} {n}") not in taken)


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


class TakeAwayParams(Params):
    kind: Literal["measure", "pin", "box", "view"] = field("What", "measure")
    number: int = field("Number", ge=1)


@operation
class TakeAway(Operation):
    """Takes a measure, pin, box or kept view off the table; undo puts it back."""

    name, title, step = "table.take_away", "Take off the table", "Table"
    writes = frozenset({"measure", "pin", "box", "view"})
    bound_to_place = True
    Params = TakeAwayParams

    def run(self, job: Job, params: TakeAwayParams, progress: Progress) -> Figures:
        name = _there(job, params.kind, params.number)["name"]
        job.put(params.kind, params.number, None)
        return {"says": f"{name} taken off the table"}


class RenameParams(TakeAwayParams):
    name: str = field("Name", min_length=1, max_length=100)


@operation
class Rename(Operation):
    """Gives a measure, pin, box or kept view another name."""

    name, title, step = "table.rename", "Rename on the table", "Table"
    writes = frozenset({"measure", "pin", "box", "view"})
    bound_to_place = True
    Params = RenameParams

    def run(self, job: Job, params: RenameParams, progress: Progress) -> Figures:
        record = _there(job, params.kind, params.number)
        name = _name(job, params.kind, params.name, record["name"])
        job.put(params.kind, params.number, record | {"name": name})
        return {"says": f"{record['name']} is now {name}"}


class ViewParams(Params):
    name: str = field("Name", min_length=1, max_length=100)
    address: str = field(
        "View", min_length=1, max_length=4000, help="What the table's address says after the #."
    )


@operation
class KeepView(Operation):
    """Keeps a view of the table under a name: where one looks, slab, box, colouring."""

    name, title, step = "table.keep_view", "Keep a view", "Table"
    writes = frozenset({"view"})
    bound_to_place = True
    Params = ViewParams

    def run(self, job: Job, params: ViewParams, progress: Progress) -> Figures:
        number = job.next_number("view")
        job.put("view", number, {"name": _name(job, "view", params.name, ""), "address": params.address})
        return {"says": f"View “{params.name}” kept", "view": number}


class NotationParams(Params):
    unit: Literal["metre", "millimetre", "international foot", "US survey foot", "inch"] = field(
        "Unit of lengths", "metre"
    )
    decimals: int = field("Decimals", 3, ge=0, le=6)
    decimal_mark: Literal["point", "comma"] = field("Decimal mark", "point")
    thousands: Literal["none", "thin space", "comma", "point", "apostrophe"] = field("Thousands", "none")
    order: Literal["E N H", "N E H"] = field("Order of coordinates", "E N H")


@operation
class SetNotation(Operation):
    """Sets how lengths and coordinates of the job are written: unit, decimals, marks and order."""

    name, title, step = "table.notation", "How figures are written", "Table"
    writes = frozenset({"notation"})
    Params = NotationParams

    def run(self, job: Job, params: NotationParams, progress: Progress) -> Figures:
        if {params.decimal_mark, params.thousands} in ({"comma"}, {"point"}):
            raise ParamsError(
                "The decimal mark and the thousands mark are the same.", "Choose another for one of them."
            )
        job.put("notation", "", params.model_dump())
        return {
            "says": f"Lengths in {Notation(params.unit).plural}, {params.decimals} decimals, {params.order}"
        }
