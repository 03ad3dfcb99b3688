"""Paint on the ground: outlines of what is brighter (or darker) than the ground about it, like a touched one.

Intensity falls with range and incidence by laws of each instrument; compared with the ground within a few
metres, scan by scan, it needs none of them.  Edges lie where the brightness is half way between paint and
ground, found between cells of a picture from above.
"""

from dataclasses import dataclass

import contourpy
import numpy as np
import shapely
from scipy import ndimage

AROUND = 3.0  # m: the ground with which brightness is compared
THIRD = 0.3  # of the values about a place: paint covers less than the rest, so that this is ground
RING = 0.05  # of the logarithm of range
FINEST, COARSEST = 0.01, 0.06  # m: a cell
SMOOTH = 1.2  # cells: of the noise of single points
TOUCHED = 0.25  # m: paint nearer than this was meant
GRAINY = 0.25  # of brightness (natural logarithm): what of the ground itself differs hardly more
STANDS_OUT = 7.0  # times the picture's noise
LEAST = 0.1  # of brightness (natural logarithm): less is no paint
SMALL = 0.004  # m²: specks
ROUGH, OTHERWISE = 0.6, 0.03  # cells of edge, and of its area, by which a stripe may differ from a rectangle
STRIPE = 1.6  # times as long as wide: what has a direction
THINNED = 0.35  # cells: how far an outline may be simplified
ALIKE_WIDTH, ALIKE_AREA = 0.3, 0.6  # of the touched one's: how much others may differ
EDGE = 3  # cells: beyond an outline nothing is left of the mark
WORN = 0.2  # of the touched one's area: the least of a stripe that is partly hidden or worn
ALIKE_TURN = np.radians(12)


@dataclass
class Mark:
    """One painted thing: ``ring`` (n, 2; m) its outline counter-clockwise without the last corner again,
    ``width`` and ``length`` (m) and ``turn`` (rad, 0 to π) of the smallest rectangle about it, ``area`` (m²),
    ``contrast`` (natural logarithm), ``straight``: whether the ring is that rectangle; ``points`` on it.
    """

    ring: np.ndarray
    width: float
    length: float
    turn: float
    area: float
    contrast: float
    straight: bool
    points: int

    @property
    def middle(self) -> np.ndarray:
        return np.asarray(shapely.Polygon(self.ring).centroid.coords[0])


def lower(group: np.ndarray, value: np.ndarray, share: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of each group of values (n,) the one that ``share`` of them are below: the groups that there are (k,),
    these values, and how many each has.
    """
    order = np.lexsort([value, group])
    starts = np.r_[0, np.flatnonzero(np.diff(group[order])) + 1]
    counts = np.diff(np.r_[starts, len(group)])
    return group[order][starts], value[order][starts + (counts * share).astype(int)], counts


def contrasts(
    xy: np.ndarray, tone: np.ndarray, away: np.ndarray | None = None, dark: bool = False
) -> np.ndarray:
    """(n,) how much brighter (natural logarithm) points (n, 2) of one scan are than the ground within
    ``AROUND``; with ``dark`` how much darker.  ``away`` (n,) are ranges (m) from the scanner, where it had
    one place: near it brightness changes within less than that.
    """
    value = np.log(np.maximum(np.asarray(tone, float), 1.0)) * (-1 if dark else 1)
    if away is not None:
        value = value - _by_range(value, np.log(np.maximum(away, 0.1)))
    low = xy.min(0)
    cell = np.floor((xy - low) / AROUND).astype(int)
    rows, columns = cell.max(0) + 1
    flat = cell[:, 0] * columns + cell[:, 1]
    ground = np.full((rows, columns), np.nan)
    there, level, _ = lower(flat, value, THIRD)
    ground.reshape(-1)[there] = level
    known = np.isfinite(ground)
    weight = ndimage.gaussian_filter(known.astype(float), 0.7)
    even = ndimage.gaussian_filter(np.where(known, ground, 0), 0.7) / np.maximum(weight, 1e-9)
    at = ((xy - low) / AROUND - 0.5).T
    out = value - ndimage.map_coordinates(even, at, order=1, mode="nearest")
    for _ in range(3):  # the lower third is darker than the ground's middle by its grain
        out -= np.median(out[np.abs(out) < GRAINY])
    return out


def _by_range(value: np.ndarray, away: np.ndarray) -> np.ndarray:
    """The ground's brightness by the logarithm of range: lower thirds of narrow rings, joined."""
    ring = np.floor((away - away.min()) / RING).astype(int)
    there, level, counts = lower(ring, value, THIRD)
    full = counts >= np.minimum(50, counts.max())
    middle = (there[full] + 0.5) * RING + away.min()
    return np.interp(away, middle, level[full])


@dataclass
class Picture:
    """Contrast from above: (rows along y, columns along x), cells of ``cell`` (m) from ``low`` (x, y);
    ``value`` is smoothed, ``plain`` is not, ``count`` are points.
    """

    value: np.ndarray
    plain: np.ndarray
    count: np.ndarray
    low: np.ndarray
    cell: float

    @classmethod
    def of(cls, xy: np.ndarray, contrast: np.ndarray) -> "Picture":
        """From places (n, 2) m and how far each stands out of the ground about it (n,)."""
        spans = np.ptp(xy, axis=0)
        taken = np.unique(np.floor(xy / 0.25).astype(np.int64), axis=0)
        cell = float(np.clip(np.sqrt(len(taken) * 0.0625 / max(len(xy), 1)), FINEST, COARSEST))
        low = xy.min(0) - 2 * cell
        columns, rows = (np.ceil(spans / cell) + 5).astype(int)
        at = np.floor((xy - low) / cell).astype(int)
        flat = at[:, 1] * columns + at[:, 0]
        count = np.bincount(flat, minlength=rows * columns).reshape(rows, columns)
        total = np.bincount(flat, contrast, minlength=rows * columns).reshape(rows, columns)
        weight = ndimage.gaussian_filter(count.astype(float), SMOOTH)
        value = ndimage.gaussian_filter(total, SMOOTH) / np.maximum(weight, 1e-9)
        value[weight < 0.05] = 0.0
        return cls(value, np.where(count > 0, total / np.maximum(count, 1), value), count, low, cell)

    @property
    def noise(self) -> float:
        """Standard deviation of the ground's cells: by those darker than its middle, which no paint is."""
        below = self.value[(self.count > 0) & (self.value < 0)]
        return float(1.4826 * np.median(-below)) if len(below) else 0.0

    def places(self, row_column: np.ndarray) -> np.ndarray:
        """(n, 2) x, y of places given in columns and rows."""
        return self.low + (row_column + 0.5) * self.cell


def found(picture: Picture, at: np.ndarray) -> tuple[Mark | None, list[Mark]]:
    """The touched mark (None: nothing painted lies there), and all others that are as bright. ``at`` (2,) m,
    in the picture's plane.
    """
    row, column = ((np.asarray(at, float)[::-1] - picture.low[::-1]) / picture.cell).astype(int)
    reach = int(np.ceil(TOUCHED / picture.cell))
    if not (0 <= row < picture.value.shape[0] and 0 <= column < picture.value.shape[1]):
        return None, []
    near = picture.value[max(row - reach, 0) : row + reach + 1, max(column - reach, 0) : column + reach + 1]
    bright = np.quantile(near, 0.95) if near.size else 0.0
    if bright < max(LEAST, STANDS_OUT * picture.noise):
        return None, []
    level = bright / 2
    label, count = ndimage.label(picture.value > level, np.ones((3, 3)))
    if not count:
        return None, []
    away, (rows, columns) = ndimage.distance_transform_edt(label == 0, return_indices=True)
    touched = label[rows[row, column], columns[row, column]]
    if away[row, column] * picture.cell > TOUCHED:
        return None, []
    inside = ndimage.binary_erosion(label == touched)
    core = picture.value[inside if inside.any() else label == touched]
    level = float(np.median(core)) / 2
    marks, mine = [], None
    for polygon in _outlines(picture, level):
        mark = _mark(picture, polygon)
        if mark is None:
            continue
        if polygon.buffer(2 * picture.cell).contains(shapely.Point(at)) or (
            mine is None and polygon.distance(shapely.Point(at)) < TOUCHED
        ):
            mine = mark if mine is None or polygon.contains(shapely.Point(at)) else mine
        marks.append(mark)
    return mine, [m for m in marks if m is not mine]


def _outlines(picture: Picture, level: float) -> list[shapely.Polygon]:
    """Polygons of what is brighter than a level; small holes belong to them."""
    made = contourpy.contour_generator(z=picture.value, fill_type=contourpy.FillType.OuterOffset)
    out = []
    for points, offsets in zip(*made.filled(level, np.inf)):
        rings = [picture.places(points[a:b]) for a, b in zip(offsets[:-1], offsets[1:])]
        polygon = shapely.Polygon(rings[0], [r for r in rings[1:] if shapely.Polygon(r).area > 4 * SMALL])
        polygon = polygon if polygon.is_valid else shapely.make_valid(polygon)
        parts = polygon.geoms if hasattr(polygon, "geoms") else [polygon]
        out += [p for p in parts if p.geom_type == "Polygon" and p.area > SMALL]
    return out


def _true(picture: Picture, polygon: shapely.Polygon) -> shapely.Polygon:
    """An outline moved out or in until it holds as much as the unsmoothed picture shows: smoothing lowers
    narrow marks, and half of less is farther out.
    """
    cell = picture.cell
    for inner in (1.5, 0.75):
        core = polygon.buffer(-inner * cell)
        if not core.is_empty:
            break
    else:
        return polygon
    wide = polygon.buffer(EDGE * cell)
    low = np.floor((np.array(wide.bounds[:2]) - picture.low) / cell).astype(int).clip(0)
    high = np.ceil((np.array(wide.bounds[2:]) - picture.low) / cell).astype(int)
    part = picture.plain[low[1] : high[1], low[0] : high[0]]
    y, x = (np.indices(part.shape) + 0.5) * cell + (picture.low + low * cell)[::-1, None, None]
    plateau = part[shapely.contains_xy(core, x, y)]
    if len(plateau) < 20 or plateau.mean() <= 0:
        return polygon
    area = part[shapely.contains_xy(wide, x, y)].sum() * cell**2 / plateau.mean()
    moved = polygon.buffer(
        float(np.clip((area - polygon.area) / polygon.length, -cell, cell)), join_style="mitre"
    )
    return moved if moved.geom_type == "Polygon" and not moved.is_empty else polygon


def _mark(picture: Picture, polygon: shapely.Polygon) -> Mark | None:
    box = shapely.minimum_rotated_rectangle(polygon)
    if box.geom_type != "Polygon":
        return None
    corners = np.asarray(box.exterior.coords)[:4]
    sides = np.diff(np.vstack([corners, corners[:1]]), axis=0)[:2]
    along = sides[np.linalg.norm(sides, axis=1).argmax()]
    ring = _rectangle(polygon, np.arctan2(along[1], along[0]))
    other = shapely.Polygon(ring).symmetric_difference(polygon).area
    straight = other < ROUGH * picture.cell * polygon.length + OTHERWISE * polygon.area
    polygon = _true(picture, polygon)
    if straight:
        ring = _rectangle(polygon, np.arctan2(along[1], along[0]))
        sides = np.diff(ring[:3], axis=0)
        along = sides[np.linalg.norm(sides, axis=1).argmax()]
    else:
        ring = np.asarray(polygon.simplify(THINNED * picture.cell).exterior.coords)[:-1]
    if not shapely.Polygon(ring).exterior.is_ccw:
        ring = ring[::-1]
    width, length = sorted(np.linalg.norm(sides, axis=1))
    cells = ((np.asarray(polygon.bounds).reshape(2, 2) - picture.low) / picture.cell).astype(int) + [[0], [1]]
    part = picture.count[cells[0, 1] : cells[1, 1], cells[0, 0] : cells[1, 0]]
    at = ((np.asarray(polygon.representative_point().coords[0]) - picture.low) / picture.cell).astype(int)
    return Mark(
        ring,
        float(width),
        float(length),
        float(np.arctan2(along[1], along[0]) % np.pi),
        float(polygon.area),
        float(picture.value[at[1], at[0]]),
        bool(straight),
        int(part.sum() * polygon.area / max(part.size * picture.cell**2, 1e-9)),
    )


def _rectangle(polygon: shapely.Polygon, turn: float) -> np.ndarray:
    """The rectangle of a stripe: sides by the middles of its edges, not by their farthest points."""
    edge = np.asarray(shapely.segmentize(polygon.exterior, 0.01).coords)[:-1]
    for _ in range(3):
        c, s = np.cos(turn), np.sin(turn)
        own = edge @ np.array([[c, -s], [s, c]])
        low, high = own.min(0), own.max(0)
        size = high - low
        inner = (own[:, 0] > low[0] + 0.15 * size[0]) & (own[:, 0] < high[0] - 0.15 * size[0])
        upper, lower = (inner & (own[:, 1] > own[:, 1].mean())), (inner & (own[:, 1] < own[:, 1].mean()))
        if upper.sum() < 4 or lower.sum() < 4:
            break
        lean = np.mean([np.polyfit(own[side, 0], own[side, 1], 1)[0] for side in (upper, lower)])
        turn += np.arctan(lean)
    c, s = np.cos(turn), np.sin(turn)
    own = edge @ np.array([[c, -s], [s, c]])
    low, high = own.min(0), own.max(0)
    size, middle = high - low, (low + high) / 2
    sides = []
    for axis in (0, 1):
        inner = np.abs(own[:, 1 - axis] - middle[1 - axis]) < 0.3 * size[1 - axis]
        for sign in (-1, 1):
            end = 0.15 * size[axis]
            if size[axis] > size[1 - axis]:  # of the long way only what lies at its ends
                end = size[axis] / 2 - min(end, 0.5 * size[1 - axis])
            mine = inner & (sign * (own[:, axis] - middle[axis]) > end)
            sides.append(np.median(own[mine, axis]) if mine.any() else (low, high)[sign > 0][axis])
    (left, right), (bottom, top) = sides[:2], sides[2:]
    corners = np.array([[left, bottom], [right, bottom], [right, top], [left, top]])
    return corners @ np.array([[c, s], [-s, c]])


def alike(one: Mark, others: list[Mark]) -> list[Mark]:
    """Marks of the touched one's width and direction; of what has no direction those of its size."""
    out = []
    for mark in others:
        if abs(mark.width - one.width) > ALIKE_WIDTH * one.width + 0.01:
            continue
        if one.length > STRIPE * one.width:
            turn = abs((mark.turn - one.turn + np.pi / 2) % np.pi - np.pi / 2)
            if mark.length < STRIPE * mark.width or turn > ALIKE_TURN or mark.area < WORN * one.area:
                continue
        elif abs(mark.area - one.area) > ALIKE_AREA * one.area:
            continue
        out.append(mark)
    return out


def crossing(marks: list[Mark]) -> tuple[np.ndarray | None, float | None]:
    """Stripes side by side at one spacing: the rectangle (4, 2) about them, and that spacing (m); nothing of
    fewer than three.
    """
    if len(marks) < 3 or marks[0].length < STRIPE * marks[0].width:
        return None, None
    turn = marks[0].turn
    across = np.array([-np.sin(turn), np.cos(turn)])
    along = np.array([np.cos(turn), np.sin(turn)])
    beside = [m for m in marks if abs((m.middle - marks[0].middle) @ along) < 0.3 * marks[0].length]
    place = np.sort([m.middle @ across for m in beside])
    gaps = np.diff(place)
    if len(gaps) < 2:
        return None, None
    gap = float(np.median(gaps))
    regular = np.abs(gaps / gap - np.maximum(np.rint(gaps / gap), 1)) < 0.2
    if gap > 4 * marks[0].width + marks[0].length or regular.mean() < 0.7:
        return None, None
    box = shapely.minimum_rotated_rectangle(shapely.MultiPoint(np.vstack([m.ring for m in beside])))
    return np.asarray(box.exterior.coords)[:4], gap
