"""Openings in the face of a wall: where beams went through it and nothing lies on it, with jambs, sill and
head.

What stands before the wall shades it, which is no opening. An edge lies between the last point on the wall
and the first beam that went through beside it; where the jamb itself was seen, its points say it better.
"""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from terrazza.core.draw.faces import Face

CELL, SPACINGS, WIDEST = 0.05, 2.5, 0.15  # m: cells of a face, at least so many spacings of its points
ON, BEHIND, BEFORE = 0.012, 0.04, 0.05  # m from the face
LEAST = 0.35, 0.35  # m: width and height of an opening
AREA = 0.2  # m²
FULL = 0.6  # share of its rectangle that has to be open
THROUGH = 0.25  # share of it that beams have to go through; less is a guess
# share of the cells around it in which the wall has to be seen, where beams went through it and where none
# did
FRAMED, FRAMED_WELL = 0.35, 0.8
DOOR = 0.15  # m over the floor: a lower sill is none
INNER, BESIDE = 0.12, 0.3  # m: from corners of the opening, and around an edge, where points tell it
JAMB, DEEP, FEWEST = 0.025, 0.45, 12  # m, m and points of a jamb
UNSEEN = 0.35  # m: a wider gap between points of a face is one


@dataclass(frozen=True)
class Opening:
    """From ``start`` to ``end`` (m along the face), ``sill`` and ``head`` (heights); ``depth`` (m) to which
    the jambs at its start and end were seen (0: not), whether it is a ``door``, and whether beams show it
    (``sure``).
    """

    start: float
    end: float
    sill: float
    head: float
    depth: tuple[float, float]
    door: bool
    sure: bool

    @property
    def width(self) -> float:
        return self.end - self.start


class Wall:
    """A straight face with what lies on it, before and behind it, in coordinates along it and up (m)."""

    def __init__(
        self,
        face: Face,
        near: np.ndarray,
        views: list[tuple[np.ndarray, np.ndarray]],
        floor: float,
        ceiling: float,
    ):
        """``near`` (n, 3): points about the face; ``views``: (station (3,), points (m, 3)) of scans in its
        room.
        """
        self.face, self.floor, self.ceiling = face, floor, ceiling
        tolerance = max(3 * face.rms, ON)
        s, d = self._flat(near)
        on = (np.abs(d) < tolerance) & (s > -0.05) & (s < face.length + 0.05)
        self.on = np.c_[s[on], near[on, 2]]
        through, shade, jambs = [np.zeros((0, 2))], [np.zeros((0, 2))], [np.zeros((0, 3))]
        for station, points in views:
            _, height = self._flat(station[None])
            if height[0] < BEFORE:
                continue
            s, d = self._flat(points)
            crossing = (d < -BEHIND) | ((d > BEFORE) & (d < height[0] - BEFORE))
            t = (height[0] / (height[0] - d[crossing]))[:, None]
            at = station + t * (points[crossing] - station)
            where = np.c_[self._flat(at)[0], at[:, 2]]
            behind = d[crossing] < 0
            through.append(where[behind])
            shade.append(where[~behind])
            deep = (d < -tolerance) & (d > -DEEP) & (s > -JAMB) & (s < face.length + JAMB)
            jambs.append(np.c_[s[deep], points[deep, 2], -d[deep]])
        self.through, self.shade, self.jambs = (np.concatenate(p) for p in (through, shade, jambs))

    def _flat(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        q = points[:, :2] - self.face.start
        return q @ self.face.along, q @ self.face.inward

    def seen(self) -> list[tuple[float, float]]:
        """Stretches (m along the face) that points show at any height."""
        if not len(self.on):
            return []
        s = np.sort(np.clip(self.on[:, 0], 0.0, self.face.length))
        cut = np.flatnonzero(np.diff(s) > UNSEEN)
        return list(zip(s[np.r_[0, cut + 1]].tolist(), s[np.r_[cut, len(s) - 1]].tolist()))

    def openings(self) -> list[Opening]:
        """The openings of the face, along it."""
        tall = self.ceiling - self.floor
        if len(self.on) < 50 or tall < LEAST[1]:
            return []
        spacing = np.sqrt(self.face.length * tall / len(self.on))
        cell = float(np.clip(SPACINGS * spacing, CELL, WIDEST))
        size = int(np.ceil(self.face.length / cell)), int(np.ceil(tall / cell))
        count = lambda p: np.histogram2d(
            p[:, 0], p[:, 1] - self.floor, size, ((0, size[0] * cell), (0, size[1] * cell))
        )[0]
        on, through, shade = count(self.on), count(self.through), count(self.shade)
        passed = (through > 0) & (on == 0)
        vacant = passed | ((on == 0) & (shade == 0))
        label, n = ndimage.label(ndimage.binary_opening(vacant, np.ones((2, 2))))
        found = []
        for k in range(1, n + 1):
            mine = label == k
            if mine.sum() * cell**2 < AREA:
                continue
            box = _rectangle(mine)
            rectangle = mine[box[0] : box[1], box[2] : box[3]]
            sure = float(passed[mine].mean()) > THROUGH
            if rectangle.mean() < FULL or _framed(on > 0, box) < (FRAMED if sure else FRAMED_WELL):
                continue
            if (opening := self._measured([v * cell for v in box], sure)) is not None:
                found.append(opening)
        return sorted(found, key=lambda o: o.start)

    def _measured(self, box: list[float], sure: bool) -> Opening | None:
        """An opening about a rectangle (from, to along; from, to over the floor), its edges found from
        points.
        """
        start, end, low, high = box
        low, high = low + self.floor, high + self.floor
        door = low - self.floor < DOOR
        rows = (low + (0 if door else INNER), high - INNER)
        left, deep_left = self._jamb(start, rows, 1)
        right, deep_right = self._jamb(end, rows, -1)
        columns = (left + INNER, right - INNER)
        head = self._edge(self.on[:, ::-1], self.through[:, ::-1], high, columns, -1)
        sill = self.floor if door else self._edge(self.on[:, ::-1], self.through[:, ::-1], low, columns, 1)
        if right - left < LEAST[0] or head - sill < LEAST[1]:
            return None
        return Opening(left, right, sill, head, (deep_left, deep_right), door, sure)

    def _jamb(self, at: float, rows: tuple[float, float], way: int) -> tuple[float, float]:
        """Where the jamb near ``at`` lies and how deep it was seen; ``way`` 1 where the opening begins
        there.
        """
        edge = self._edge(self.on, self.through, at, rows, way)
        beside = self.jambs[(self.jambs[:, 1] > rows[0]) & (self.jambs[:, 1] < rows[1])]
        beside = beside[np.abs(beside[:, 0] - edge) < JAMB]
        if len(beside) < FEWEST or np.ptp(beside[:, 2]) < BEHIND:
            return edge, 0.0
        return float(np.median(beside[:, 0])), float(np.quantile(beside[:, 2], 0.95))

    def _edge(
        self, on: np.ndarray, through: np.ndarray, at: float, across: tuple[float, float], way: int
    ) -> float:
        """The edge near ``at`` along the first coordinate, in rows of the second within ``across``: between
        the last point on the wall and the first beam through; ``way`` 1 where the opening lies beyond it.
        """
        wall, step = self._last(on, at, across, way)
        beam, _ = self._last(through, at, across, -way)
        if wall is None or beam is None:
            return at if wall is beam else wall if beam is None else beam
        # beams that meet the jamb leave more room than one spacing
        return wall + way * float(np.clip((beam - wall) * way, 0.0, step)) / 2

    @staticmethod
    def _last(
        points: np.ndarray, at: float, across: tuple[float, float], way: int
    ) -> tuple[float | None, float]:
        """How far the rows of points reach towards ``way`` near ``at`` (None: too few), and their spacing
        (m).
        """
        mine = points[(points[:, 1] > across[0]) & (points[:, 1] < across[1])]
        mine = mine[np.abs(mine[:, 0] - at) < BESIDE]
        if len(mine) < 3:
            return None, 0.0
        row = np.floor((mine[:, 1] - across[0]) / CELL).astype(int)
        last = np.full(row.max() + 1, -np.inf)
        np.maximum.at(last, row, way * mine[:, 0])
        step = float(np.ptp(mine[:, 0])) * CELL * len(np.unique(row)) / len(mine)
        return way * float(np.median(last[np.isfinite(last)])), float(np.sqrt(step))


def _framed(on: np.ndarray, box: tuple[int, int, int, int]) -> float:
    """Share of the cells to the left, to the right and above of a rectangle in which the wall was seen; what
    lies beyond the ends of the face is left out, since another wall begins there.
    """
    a, b, c, d = box
    sides = [on[i, c:d] for i in (a - 1, b) if 0 <= i < len(on)]
    sides += [on[a:b, d]] if d < on.shape[1] else []
    return float(np.concatenate(sides).mean()) if sides else 0.0


def _rectangle(mask: np.ndarray) -> tuple[int, int, int, int]:
    """Rows from, to and columns from, to of the rectangle that a mask fills for the most part."""
    columns = mask.sum(0)
    tall = columns > 0.5 * columns.max()
    rows = mask[:, tall].sum(1)
    wide = rows > 0.5 * tall.sum()
    columns = mask[wide].sum(0) > 0.5 * wide.sum()
    (a, *_, b), (c, *_, d) = (np.r_[i, i[-1]] for i in (np.flatnonzero(wide), np.flatnonzero(columns)))
    return int(a), int(b) + 1, int(c), int(d) + 1
