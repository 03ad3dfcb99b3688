"""Areas and volumes of rooms, from their outlines and the points of floor and ceiling."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.deliver.listing import listed_rows
from terrazza.operations.draw.hand import need_drawing, places
from terrazza.operations.draw.plan_slab import EYE
from terrazza.operations.draw.slab import ABOVE, BELOW, box_points, floor_height
from terrazza.operations.spine.base import Figures, Operation, Pair, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.surfaces import room as room_of

LAYER = "ROOMS"
BARE = 0.5  # share of a floor or ceiling that points show, below which it is told
STEPS = 0.5  # m²: of what stands off a level floor, from which on it is told


class RoomVolumesParams(Params):
    drawing: int = field(
        "Drawing of rooms", 0, ge=0, blank="the last", help="Number of a plan with rooms; 0: the last."
    )
    outline: list[Pair] = field(
        "Outline",
        list,
        blank="none",
        help="[[E, N], …]: of one room instead (grid, or job frame).",
        max_length=10_000,
    )
    height: float | None = field(
        "Height in the room",
        None,
        unit="m",
        blank="auto",
        help="With an outline: any between floor and ceiling.",
    )
    path: str = field("CSV file", "", role="write", help="Also write the table to this file; empty: not yet.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class RoomVolumes(Operation):
    """Works out area and volume of rooms, from their outlines and the points of floor and ceiling, sloped and
    stepped ones too; furniture and lamps are passed over.
    """

    name, title, step = "surface.rooms", "Volumes of rooms", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "drawing"})
    writes = frozenset({"deliverable"})
    bound_to_place = True
    Params = RoomVolumesParams

    def run(self, job: Job, params: RoomVolumesParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there are no rooms")
        if params.path:
            job.output(params.path, ".csv")
        outlines, height = _outlines(job, params)
        n, rooms, doubt = Notation.of(job), [], []
        for k, (name, corners) in enumerate(outlines):
            progress.advance(k, len(outlines), name)
            low, high = corners.min(0), corners.max(0)
            xyz = box_points(job, scans, np.r_[low, height - BELOW], np.r_[high, height + ABOVE])
            origin = np.r_[np.round(low), 0.0]
            found = room_of.find(xyz - origin, corners - origin[:2], height)
            if found is None:
                doubt.append(f"{name}: hardly any points lie in it.")
                continue
            rooms.append(_row(name, found))
            doubt += _doubts(name, found, n)
        if not rooms:
            raise StateError("No points show floor and ceiling there.", "Look where the outline lies.")
        figures = {
            "says": f"{len(rooms)} rooms, {n.length(sum(r['area_m2'] for r in rooms), square=True)}, "
            f"{sum(r['volume_m3'] for r in rooms):,.2f} m³",
            "rooms": rooms,
            "volume_m3": sum(r["volume_m3"] for r in rooms),
            "area_m2": sum(r["area_m2"] for r in rooms),
            "doubt": doubt,
        }
        if params.path:
            head = [
                "room",
                "area (m²)",
                "floor (m²)",
                "ceiling (m²)",
                "height (m)",
                "volume (m³)",
                "sigma (m³)",
            ]
            rows = [[r["name"], *(n.number(v) for v in list(r.values())[1:7])] for r in rooms]
            figures |= {"path": listed_rows(job, params.path, head, rows, "rooms", len(rooms))["path"]}
        return figures


def _outlines(job: Job, params: RoomVolumesParams) -> tuple[list[tuple[str, np.ndarray]], float]:
    """Names and corners (n, 2) of the rooms, in the grid (or job frame), and a height that runs through
    them.
    """
    if params.outline:
        if len(params.outline) < 3:
            raise ParamsError("surface.rooms: an outline needs three corners.", "Give more.")
        height = floor_height(job) + EYE if params.height is None else params.height
        return [("Room", np.array(params.outline, float))], height
    number = params.drawing or max(
        (int(k) for k, d in job.facts("drawing").items() if any(x["layer"] == LAYER for x in d["lines"])),
        default=0,
    )
    if not number:
        raise StateError("There is no plan with rooms yet.", "Draw the rooms first, or give an outline.")
    lines = [x for x in need_drawing(job, number)["lines"] if x["layer"] == LAYER and x["closed"]]
    if not lines:
        raise StateError(f"Drawing {number} has no rooms.", "Draw the rooms first, or give an outline.")
    around = [(line["name"], places(job, line)) for line in lines]
    return [(name, at[:, :2]) for name, at in around], float(np.mean([at[0, 2] for _, at in around]))


def _row(name: str, found) -> dict:
    return {
        "name": name,
        "area_m2": found.area,
        "floor_m2": found.floor.area,
        "ceiling_m2": found.ceiling.area,
        "height_m": found.volume / found.area,
        "volume_m3": found.volume,
        "sigma_m3": found.sigma,
        "floor_seen": found.floor.seen,
        "ceiling_seen": found.ceiling.seen,
    }


def _doubts(name: str, found, n: Notation) -> list[str]:
    """What nothing shows, and what is step or furniture."""
    out = []
    for level, what in ((found.floor, "floor"), (found.ceiling, "ceiling")):
        if level.seen < BARE:
            out.append(
                f"{name}: {1 - level.seen:.0%} of its {what} is seen by no scan and taken from beside."
            )
        if level.stepped > STEPS:
            area = n.length(level.stepped, square=True)
            out.append(
                f"{name}: {area} stand off its {what} and count as part of it; cut furniture out first."
            )
    return out
