"""Both sides of walls: how thick partitions are, and the outer faces that scans from outside show."""

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry import Polygon

from terrazza.core.draw import faces
from terrazza.core.draw.rooms import Room

PARALLEL = np.radians(2.0)  # between the two faces of a wall, at most
THINNEST, THICKEST = 0.02, 0.8  # m
SHARED = 0.3  # m along which both faces run, at least
CLOSING, OFF = 0.4, 0.05  # m: half of what lies between rooms at most, and where outer faces may begin
ALIKE = 0.1  # m along a face within which its points are off together: plaster, furniture cut off


@dataclass(frozen=True)
class Wall:
    """Two faces of one wall: of a room and of another, None for the open; its ``thickness`` in the middle of
    what both share, the standard deviation ``sigma`` of that, and the ``length`` shared (m).
    """

    rooms: tuple[int, int | None]
    thickness: float
    sigma: float
    length: float


def between(a: faces.Face, b: faces.Face) -> tuple[float, float, float] | None:
    """Thickness, its standard deviation and the length shared (m) of straight faces, the second behind the
    first; None where they are not of one wall.
    """
    if a.centre is not None or b.centre is not None or not (a.points and b.points):
        return None
    if abs(float(a.along @ b.along)) < np.cos(PARALLEL):
        return None
    ends = np.array([b.start, b.end])
    along, behind = (ends - a.start) @ a.along, -((ends - a.start) @ a.inward)
    start, stop = max(0.0, float(along.min())), min(a.length, float(along.max()))
    if stop - start < SHARED:
        return None
    middle = (start + stop) / 2
    thickness = float(np.interp(middle, *(v[np.argsort(along)] for v in (along, behind))))
    if not THINNEST < thickness < THICKEST:
        return None
    levers = middle - a.length / 2, middle - float(along.mean())
    alike = [max(min(f.points, f.length / ALIKE), 1) for f in (a, b)]
    variance = sum(f.rms**2 / n + (f.turn * lever) ** 2 for f, n, lever in zip((a, b), alike, levers))
    return thickness, float(np.sqrt(variance)), stop - start


def partitions(rooms: list[Room]) -> list[Wall]:
    """Walls between two rooms, each pair of faces once."""
    out = []
    for i, room in enumerate(rooms):
        for j in range(i + 1, len(rooms)):
            pairs = (between(a, b) for a in room.outline for b in rooms[j].outline if a.along @ b.along < 0)
            out += [Wall((i, j), *found) for found in pairs if found]
    return out


def outer(points: np.ndarray, rooms: list[Room]) -> list[tuple[faces.Face, Wall]]:
    """Faces on the outside of the rooms' outer walls, in the points (n, 2) m of a slab, each with the wall
    that it makes with a face within.
    """
    inside = shapely.union_all([Polygon(r.corners).buffer(CLOSING) for r in rooms]).buffer(-CLOSING)
    band = inside.buffer(THICKEST).difference(inside.buffer(OFF))
    near = points[shapely.contains_xy(band, points[:, 0], points[:, 1])]
    out = []
    for face in faces.straight(near) if len(near) else ():
        walls = [
            Wall((i, None), *found)
            for i, room in enumerate(rooms)
            for a in room.outline
            if (found := between(a, face))
        ]
        if walls:
            out.append((face, max(walls, key=lambda w: w.length)))
    return out
