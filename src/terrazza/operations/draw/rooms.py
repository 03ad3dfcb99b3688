"""Draw the rooms of a floor."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.draw.plan_slab import EYE
from terrazza.operations.draw.slab import floor_height, storey_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import floor_plan
    from terrazza.core.draw import rooms as rooms_of
    from terrazza.core.draw import walls as walls_of

GUESSED = 0.1  # share of an outline that no points show, beyond which it is told
LETTERS = 0.15  # m: height of names
SLAB = 0.15  # m: above and below the height of the slab, where outer faces are looked for


class RoomsParams(Params):
    height: float | None = field(
        "Height of the slab",
        None,
        unit="m",
        blank="auto",
        help="Where walls are cut, in the grid or job frame; empty: 1.3 m over the floor under the "
        "first scan. "
        "The floor is the one below it.",
    )
    at: list[float] = field(
        "One room",
        list,
        unit="m",
        max_length=2,
        help="X and Y of a place in it: only this room. Empty: all rooms of the floor.",
    )
    name: str = field("Name", "", max_length=100, help="Empty: “Rooms at” and the height.")
    path: str = field("DXF file", "", role="write", help="Also write the plan to this file; empty: not yet.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Rooms(Operation):
    """Draws the rooms of a floor: outlines through their openings, faces of walls with gaps, openings with
    width, sill and head, names with areas; thickness of partitions, and outer faces where scans from outside
    show them.
    """

    name, title, step = "draw.rooms", "Draw the rooms", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    Params = RoomsParams

    @classmethod
    def automatic(cls, job: Job) -> dict[str, float]:
        """As it would be cut: at eye height over the floor."""
        return {"height": floor_height(job) + EYE} if job.scans(placed=True) else {}

    def run(self, job: Job, params: RoomsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no plan")
        notation = Notation.of(job)
        if params.path:
            job.output(params.path, ".dxf")
        ground = floor_height(job)
        height = params.height if params.height is not None else ground + EYE
        points, who, stations = storey_points(job, scans, height, Part(progress, 0, 0.4))
        floor = ground if 0.2 < height - ground < 2.2 else rooms_of.floor_below(points, height)
        found = rooms_of.find(points, who, stations, floor, Part(progress, 0.4, 0.95))
        found = floor_plan.in_order(found)
        if params.at:
            found = [r for r in found if rooms_of.holds(r, params.at)]
        if not found:
            raise StateError(
                f"No room is closed at {notation.length(height)}: no place with a floor or a ceiling "
                f"and walls "
                "around it.",
                "Choose another height, or draw a plan slab.",
            )
        drawn = floor_plan.lines_of(found, height)
        cut = points[np.abs(points[:, 2] - height) < SLAB, :2]
        outside = [] if params.at else walls_of.outer(cut, found)
        drawn += [_outer(n, face) for n, (face, _) in enumerate(outside, 1)]
        walls = [*walls_of.partitions(found), *(wall for _, wall in outside)]
        number, back = job.next_number("drawing"), rigid.inverse(job.frame)
        drawing = {
            "name": params.name or f"Rooms at {notation.length(height)}",
            "height": height,
            "points": len(points),
            "lines": [_row(line, height, back) for line in drawn],
            "texts": [_text(n, room, height, back, notation) for n, room in enumerate(found, 1)],
        }
        job.put("drawing", number, drawing)
        figures = {"drawing": number, "height_m": height, "floor_m": floor} | _figures(found, notation)
        figures["walls"] = [_wall(w) for w in walls]
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path)
        return figures


def _row(line, height: float, back: np.ndarray) -> dict:
    """A line of the plan as a drawing keeps it, in the job frame."""
    xyz = np.c_[line.vertices, np.full(len(line.vertices), height)]
    around = np.concatenate([xyz, xyz[:1]]) if line.closed else xyz
    return {
        "name": line.name,
        "layer": line.layer,
        "vertices": rigid.apply(back, xyz).tolist(),
        "closed": line.closed,
        "arcs": [list(a) for a in line.arcs],
        "guessed": line.guessed,
        "rms_mm": line.rms * 1000 if line.points > 1 else None,
        "points": line.points,
        "length": float(np.linalg.norm(np.diff(around, axis=0), axis=1).sum()),
    }


def _outer(number: int, face):
    ends = np.array([face.start, face.end])
    return floor_plan.Drawn(f"Outer face {number}", "WALLS", ends, rms=face.rms, points=face.points)


def _wall(wall) -> dict:
    """A wall with both faces: numbers of the rooms from 1, one where it is an outer wall."""
    return {
        "rooms": [k + 1 for k in wall.rooms if k is not None],
        "thickness_m": wall.thickness,
        "sigma_mm": 1000 * wall.sigma,
        "length_m": wall.length,
    }


def _text(number: int, room, height: float, back: np.ndarray, notation: Notation) -> dict:
    at = rigid.apply(back, np.array([[*floor_plan.label_at(room), height]]))[0]
    return {
        "text": f"Room {number}\n{notation.length(room.area, square=True)}",
        "layer": "TEXT",
        "at": at.tolist(),
        "height": LETTERS,
    }


def _figures(found, notation: Notation) -> Figures:
    gaps = floor_plan.gaps_of(found)
    rooms = [
        {
            "name": f"Room {n}",
            "area_m2": room.area,
            "height_m": room.ceiling,
            "corners": len(room.outline),
            "guessed": room.guessed,
        }
        for n, room in enumerate(found, 1)
    ]
    openings = [
        {
            "rooms": [k + 1 for k in gap.rooms if k is not None],
            "width_m": gap.width,
            "sill_m": gap.opening.sill,
            "head_m": gap.opening.head,
            "door": gap.opening.door,
        }
        for gap in gaps
    ]
    doubt = [
        f"{r['name']}: {r['guessed']:.0%} of its outline is guessed, nothing shows it."
        for r in rooms
        if r["guessed"] > GUESSED
    ]
    unsure = sum(not gap.opening.sure for gap in gaps)
    if unsure:
        doubt.append(
            f"{unsure} openings are guessed: nothing lies on the wall there, and no beam went through."
        )
    area = sum(r["area_m2"] for r in rooms)
    return {
        "says": f"{len(rooms)} rooms, {notation.length(area, square=True)}, {len(gaps)} openings",
        "rooms": rooms,
        "openings": openings,
        "area_m2": area,
        "doubt": doubt,
    }
