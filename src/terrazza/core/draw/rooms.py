"""Rooms of a storey: outlines through their openings, faces of walls with gaps, openings with width, sill
and head.

Walls are fitted under the ceiling, where little furniture stands and walls go on over doors and windows; what
is open is looked for from the floor up.
"""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy import ndimage
from shapely.geometry import Point, Polygon

from terrazza.core.draw import faces, storey
from terrazza.core.draw.openings import Opening, Wall
from terrazza.core.progress import QUIET, Progress

UPPER, LOW = 0.9, 1.5  # m under the ceiling, and over the floor at least: where faces are fitted
HOLE = 0.05  # m²: smaller things that stand in a room are none
PILLAR = 8.0  # m around: larger holes are not of a room
ENOUGH = 150_000  # points of a room's walls that faces are fitted to
MOST = 450_000  # points of a scan that openings are looked for with
ACROSS, BESIDE, PARALLEL = (
    0.7,
    0.25,
    np.cos(np.radians(6)),
)  # m, m, cosine: openings of two faces that are one
DOUBT = 0.1  # share of a room's outline that is guessed, beyond which it is told


@dataclass
class Room:
    """``outline``: faces around it, counter-clockwise; ``pillars``: those of what stands in it; ``walls``:
    by face of the outline what of it was seen; ``openings``: (face, opening).
    """

    outline: list[faces.Face]
    pillars: list[list[faces.Face]]
    ceiling: float
    walls: dict[int, list[tuple[float, float]]] = field(default_factory=dict)
    openings: list[tuple[int, Opening]] = field(default_factory=list)

    @property
    def corners(self) -> np.ndarray:
        """(n, 2) m around the room, arcs by many."""
        return np.concatenate([f.vertices()[:-1] for f in self.outline])

    @property
    def area(self) -> float:
        return abs(float(Polygon(self.corners).area))

    @property
    def guessed(self) -> float:
        """Share of the outline that no points show."""
        length = sum(f.length for f in self.outline)
        return sum(f.length for f in self.outline if not f.points) / max(length, 1e-9)


def find(
    points: np.ndarray,
    scan: np.ndarray,
    stations: np.ndarray,
    floor: float,
    progress: Progress = QUIET,
) -> list[Room]:
    """Rooms of a storey by ``points`` (n, 3) m in a level frame, the ``scan`` (n,) that saw each (index) and
    the ``stations`` (k, 3) of scans, over a floor at height ``floor``.
    """
    middle = np.r_[np.floor(points[:, :2].mean(0)), 0.0] if len(points) else np.zeros(3)
    points, stations = points - middle, stations - middle
    plan = storey.find(points, floor, stations)
    home = plan.label[plan.cells(stations[:, :2])] if len(stations) else np.zeros(0, int)
    seen = {i: _thinned(points[scan == i], MOST) for i in np.flatnonzero(home)}
    lie = _Lie.of(plan, points)
    rooms = []
    for k in range(1, plan.count + 1):
        progress.advance(k, plan.count, f"Room {k}")
        near, away, cells = lie.about(k)
        room = _room(plan, k, near, away, cells)
        if room is not None:
            views = [(stations[i], seen[i]) for i in np.flatnonzero(home == k)]
            _open(room, near, views, floor)
            rooms.append(_moved(room, middle[:2]))
    return rooms


@dataclass
class _Lie:
    """Points in the order of their rows on a raster of rooms, so that those about a room are soon at hand."""

    plan: storey.Storey
    points: np.ndarray
    row: np.ndarray
    column: np.ndarray

    @classmethod
    def of(cls, plan: storey.Storey, points: np.ndarray) -> "_Lie":
        row, column = plan.cells(points[:, :2])
        order = np.argsort(row, kind="stable")
        return cls(plan, points[order], row[order], column[order])

    def about(self, k: int) -> tuple[np.ndarray, np.ndarray, tuple[np.ndarray, np.ndarray]]:
        """Points in and about room ``k``, how far (m) each lies from its cells, and their own cells."""
        part, mask, away = _box(self.plan, k)
        first, last = np.searchsorted(self.row, (part[0].start, part[0].start + mask.shape[0]))
        column = self.column[first:last] - part[1].start
        index = first + np.flatnonzero((column >= 0) & (column < mask.shape[1]))
        gap = away[self.row[index] - part[0].start, self.column[index] - part[1].start]
        index, gap = index[gap < 2 * faces.NEAR], gap[gap < 2 * faces.NEAR]
        return self.points[index], gap, (self.row[index], self.column[index])


def floor_below(points: np.ndarray, height: float) -> float:
    """Height of the floor under a slab: the fullest 5 cm of heights under it. ``points`` (n, 3) m."""
    z = points[points[:, 2] < height - 0.3, 2]
    if len(z) < 50:
        return float(points[:, 2].min()) if len(points) else height
    counts, edges = np.histogram(z, np.arange(z.min(), height, 0.05))
    k = int(counts.argmax())
    return float(np.median(z[(z >= edges[k]) & (z <= edges[k + 1])]))


def holds(room: Room, place: list[float]) -> bool:
    """Whether a place (x, y) m lies in a room."""
    return bool(Polygon(room.corners).contains(Point(*place)))


def _box(plan: storey.Storey, k: int) -> tuple[tuple[Any, Any], np.ndarray, np.ndarray]:
    """The part of the raster about a room, its mask there, and how far (m) each cell lies from the room,
    negative within it.
    """
    rows, columns = ndimage.find_objects(plan.label)[k - 1]
    pad = int(np.ceil(2 * faces.NEAR / storey.CELL))
    part = (
        slice(max(rows.start - pad, 0), rows.stop + pad),
        slice(max(columns.start - pad, 0), columns.stop + pad),
    )
    mask = plan.label[part] == k
    away = ndimage.distance_transform_edt(~mask) - ndimage.distance_transform_edt(mask)
    return part, mask, away * storey.CELL


def _room(
    plan: storey.Storey, k: int, points: np.ndarray, away: np.ndarray, cells: tuple[np.ndarray, np.ndarray]
) -> Room | None:
    """Faces about room ``k`` by the points near it, each ``away`` (m) from its cells."""
    part, mask, _ = _box(plan, k)
    ceiling = float(np.median(plan.ceiling[part][mask]))
    under = plan.ceiling[cells] - points[:, 2]
    zone = (under > storey.CLEAR) & (under < UPPER) & (np.abs(away) < faces.NEAR)
    zone &= points[:, 2] > min(plan.floor + LOW, ceiling - storey.UNDER)
    xy = _thinned(points[zone][:, :2], ENOUGH)
    pieces = faces.straight(xy)
    corner = plan.corner + storey.CELL * np.array([part[0].start, part[1].start])
    borders = [corner + storey.CELL * loop for loop in storey.loops(mask)]
    outline = faces.around(borders[0], pieces, xy)
    if len(outline) < 3:
        return None
    pillars = []
    for border in borders[1:]:
        if HOLE < abs(Polygon(border).area) and len(border) * storey.CELL < PILLAR:
            found = faces.around(border, pieces, xy)
            if len(found) > 2 and all(f.points for f in found):
                pillars.append(found)
    return Room(outline, pillars, ceiling)


def _thinned(points: np.ndarray, most: int) -> np.ndarray:
    return points[:: -(-len(points) // most)] if len(points) else points


def _open(room: Room, near: np.ndarray, views: list[tuple[np.ndarray, np.ndarray]], floor: float) -> None:
    """Find what of each face was seen, and its openings."""
    for k, face in enumerate(room.outline):
        if face.centre is not None or not face.points:
            room.walls[k] = [(0.0, face.length)] if face.points else []
            continue
        wall = Wall(face, near, views, floor, room.ceiling)
        room.walls[k] = wall.seen()
        room.openings += [(k, o) for o in wall.openings()]


def _moved(room: Room, by: np.ndarray) -> Room:
    move = lambda f: faces.replace(
        f, start=f.start + by, end=f.end + by, centre=None if f.centre is None else f.centre + by
    )
    room.outline = [move(f) for f in room.outline]
    room.pillars = [[move(f) for f in p] for p in room.pillars]
    return room


def ends_of(room: Room, k: int, opening: Opening) -> np.ndarray:
    """The ends (2, 2) of an opening on its face."""
    face = room.outline[k]
    return face.start + np.outer([opening.start, opening.end], face.along)


def partners(rooms: list[Room]) -> dict[tuple[int, int], tuple[int, int]]:
    """By (room, number of its opening) the same of the other face of the opening, where both were found."""
    known = [
        (i, n, ends_of(room, k, o)) for i, room in enumerate(rooms) for n, (k, o) in enumerate(room.openings)
    ]
    out: dict[tuple[int, int], tuple[int, int]] = {}
    for i, n, a in known:
        for j, m, b in known:
            along = (a[1] - a[0]) / np.linalg.norm(a[1] - a[0])
            other = (b[1] - b[0]) / np.linalg.norm(b[1] - b[0])
            off = b.mean(0) - a.mean(0)
            if (
                i != j
                and along @ other < -PARALLEL
                and abs(off @ along) < BESIDE
                and abs(along[0] * off[1] - along[1] * off[0]) < ACROSS
            ):
                out[i, n] = j, m
    return out
