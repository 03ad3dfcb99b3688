"""Rooms as lines of a plan at the height of a slab: outlines through openings, faces with gaps, openings,
names.
"""

from dataclasses import dataclass

import numpy as np
from shapely.geometry import Polygon

from terrazza.core.draw.faces import Face
from terrazza.core.draw.openings import Opening
from terrazza.core.draw.rooms import Room, ends_of, partners

SNAP = 0.35  # m: a face that is seen so near to its corner goes on to it
SHORT = 0.05  # m: shorter pieces are left out


@dataclass
class Drawn:
    """A line of the plan: ``vertices`` (n, 2) m, closed or not; ``arcs``: (from, to) vertices that lie on
    one arc; ``rms`` (m) and number of ``points`` behind it; ``guessed``: nothing shows it.
    """

    name: str
    layer: str
    vertices: np.ndarray
    closed: bool = False
    arcs: tuple[tuple[int, int], ...] = ()
    rms: float = 0.0
    points: int = 0
    guessed: bool = False


@dataclass(frozen=True)
class Gap:
    """An opening as the plan has it: ends (2, 2) m on a face, the rooms that it joins (the second None
    outside or unknown), and the measures of the opening.
    """

    ends: np.ndarray
    rooms: tuple[int, int | None]
    opening: Opening

    @property
    def width(self) -> float:
        return float(np.linalg.norm(self.ends[1] - self.ends[0]))


def in_order(rooms: list[Room]) -> list[Room]:
    """Rooms as one reads a plan: from the upper left to the lower right."""
    at = lambda r: Polygon(r.corners).representative_point()
    return sorted(rooms, key=lambda r: (-round(at(r).y / 2.0), at(r).x))


def label_at(room: Room) -> np.ndarray:
    """A place (2,) well within a room, for its name."""
    place = Polygon(room.corners).representative_point()
    return np.array([place.x, place.y])


def gaps_of(rooms: list[Room]) -> list[Gap]:
    """Each opening once: of those that two rooms show, that of the first."""
    other, out = partners(rooms), []
    for i, room in enumerate(rooms):
        for n, (k, opening) in enumerate(room.openings):
            beyond = other.get((i, n))
            if beyond is None or beyond[0] > i:
                out.append(Gap(ends_of(room, k, opening), (i, beyond[0] if beyond else None), opening))
    return out


def lines_of(rooms: list[Room], height: float) -> list[Drawn]:
    """The lines of the plan of a slab at ``height``."""
    out = [_outline(f"Room {n}", room) for n, room in enumerate(rooms, 1)]
    other = partners(rooms)
    for i, room in enumerate(rooms):
        out += _walls(f"Room {i + 1}", i, room, rooms, other, height)
        for pillar in room.pillars:
            ring = _chain(f"Pillar in room {i + 1}", pillar, [[(0.0, f.length)] for f in pillar])
            out += ring
    for n, gap in enumerate(gaps_of(rooms), 1):
        what = "Door" if gap.opening.door else "Window"
        out.append(Drawn(f"{what} {n}", "OPENINGS", gap.ends, guessed=not gap.opening.sure))
    return out


def _outline(name: str, room: Room) -> Drawn:
    parts, arcs, at = [], [], 0
    for face in room.outline:
        way = face.vertices()
        if face.centre is not None:
            arcs.append((at, at + len(way) - 1))
        parts.append(way[:-1])
        at += len(way) - 1
    weight = np.array([f.points for f in room.outline], float)
    rms = np.sqrt(weight @ np.array([f.rms**2 for f in room.outline]) / max(weight.sum(), 1))
    return Drawn(name, "ROOMS", np.concatenate(parts), True, tuple(arcs), float(rms), int(weight.sum()))


def _walls(
    name: str,
    i: int,
    room: Room,
    rooms: list[Room],
    other: dict[tuple[int, int], tuple[int, int]],
    height: float,
) -> list[Drawn]:
    """What of a room's faces stands in the slab, with the jambs of its openings."""
    pieces: list[list[tuple[float, float]]] = []
    jambs: list[Drawn] = []
    for k, face in enumerate(room.outline):
        open_here = [
            (n, o)
            for n, (at, o) in enumerate(room.openings)
            if at == k and o.sill < height < o.head and o.sure
        ]
        pieces.append(_without(_snapped(room.walls.get(k, []), face.length), [o for _, o in open_here]))
        for n, o in open_here:
            beyond = other.get((i, n))
            if beyond is None or beyond[0] > i:
                jambs += _jambs(name, face, o, _thick(face, rooms, beyond))
    return _chain(name, room.outline, pieces) + jambs


def _snapped(seen: list[tuple[float, float]], length: float) -> list[tuple[float, float]]:
    return [(0.0 if a < SNAP else a, length if length - b < SNAP else b) for a, b in seen]


def _without(seen: list[tuple[float, float]], gaps: list[Opening]) -> list[tuple[float, float]]:
    """Stretches less the openings in them."""
    for gap in gaps:
        cut = []
        for a, b in seen:
            cut += [(a, min(b, gap.start)), (max(a, gap.end), b)]
        seen = [(a, b) for a, b in cut if b - a > 1e-6]
    return [(a, b) for a, b in seen if b - a > SHORT]


def _thick(face: Face, rooms: list[Room], beyond: tuple[int, int] | None) -> float | None:
    """How far (m) the other face of an opening lies behind this one; None where it was not seen."""
    if beyond is None:
        return None
    k, opening = rooms[beyond[0]].openings[beyond[1]]
    middle = ends_of(rooms[beyond[0]], k, opening).mean(0)
    return float(abs((middle - face.start) @ face.inward))


def _jambs(name: str, face: Face, opening: Opening, thick: float | None) -> list[Drawn]:
    out = []
    for at, deep in zip((opening.start, opening.end), opening.depth):
        if deep:
            edge = face.start + at * face.along
            way = np.array([edge, edge - (deep if thick is None else thick) * face.inward])
            out.append(Drawn(f"Jamb, {name.lower()}", "WALLS", way, points=1))
    return out


def _chain(name: str, faces: list[Face], pieces: list[list[tuple[float, float]]]) -> list[Drawn]:
    """Stretches of faces as polylines that go on around corners."""
    runs: list[list[tuple[int, float, float]]] = []
    for k, there in enumerate(pieces):
        for a, b in there:
            last = runs[-1][-1] if runs else None
            if last and last[0] == k - 1 and last[2] >= faces[k - 1].length - 1e-6 and a <= 1e-6:
                runs[-1].append((k, a, b))
            else:
                runs.append([(k, a, b)])
    closed = False
    if runs and runs[0][0][0] == 0 and runs[0][0][1] <= 1e-6:
        k, _, b = runs[-1][-1]
        if k == len(faces) - 1 and b >= faces[k].length - 1e-6:
            closed = len(runs) == 1
            if not closed:
                runs[0] = runs.pop() + runs[0]
    return [_polyline(name, faces, run, closed) for run in runs]


def _polyline(name: str, faces: list[Face], run: list[tuple[int, float, float]], closed: bool) -> Drawn:
    parts, arcs, at = [], [], 0
    for k, a, b in run:
        face = faces[k]
        way = face.vertices() if face.centre is not None else face.start + np.outer([a, b], face.along)
        if face.centre is not None:
            arcs.append((at, at + len(way) - 1))
        parts.append(way[:-1])
        at += len(way) - 1
        end = way[-1:]
    used = [faces[k] for k, *_ in run]
    points = sum(f.points for f in used)
    rms = float(np.sqrt(sum(f.points * f.rms**2 for f in used) / max(points, 1)))
    vertices = np.concatenate(parts if closed else [*parts, end])
    return Drawn(f"Walls of {name.lower()}", "WALLS", vertices, closed, tuple(arcs), rms, points)
