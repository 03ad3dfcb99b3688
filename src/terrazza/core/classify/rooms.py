"""Floors, ceilings, walls and furniture of rooms, from the smooth pieces of surface that a cloud consists of.

A floor is what looks up and has nothing large that looks up under it or beside it a little lower; a ceiling
is the same, seen upside down.  A wall stands upright and reaches the ceiling; so do its parts above and below
openings, which lie in its plane, and the reveals, which lie behind its face.  The rest is furniture.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.classify import shape as shapes

if TYPE_CHECKING:
    from terrazza.core.classify.shape import Shape


FLOOR, CEILING, WALL, FURNITURE = 64, 65, 66, 67

PLAN = 0.15  # m: cells of the plan in which surfaces are compared
BESIDE = 0.75  # m: how far to the side something lower counts
STEP = 0.22  # m: what is higher than its surroundings by less is a step of the floor
STOREY = 2.2  # m: what is higher by more is another storey
LEAST = 0.6  # m²: of a floor or ceiling that others follow
ROUND_ABOUT = 2.5  # m: to the nearest floor or ceiling that tells the height at a place
LIES_IN = 0.03  # m: off a floor, ceiling or wall that a piece beside it may lie
UNDER = 0.3  # m: that a wall may end below the ceiling
TALL, TALLEST = 0.35, 1.8  # share of the room's height that a wall covers, and m where there is no ceiling
WIDE = 0.25  # m: least length of a wall
THICK = 0.6  # m: most of a wall
ALONG = 1.6  # m: to a wall in whose plane a piece lies
HEAD = 1.6  # m: least room between floor and ceiling


@dataclass
class Rooms:
    """Thinned points ``xyz`` (n, 3), their ``normals``, which are ``flat``, and ``code`` (n,) u8."""

    xyz: np.ndarray
    normals: np.ndarray
    flat: np.ndarray
    code: np.ndarray
    cell: float
    height: float  # m, median room height, NaN without a ceiling

    def at(self, xyz: np.ndarray, tree: cKDTree) -> tuple[np.ndarray, np.ndarray]:
        """Codes (m,) u8 of places (m, 3): of the surface that passes nearest, and how sure they are (m,) f32,
        0 to 1: the share of the points around that are the same; ``tree`` holds ``xyz``.
        """
        k = min(6, len(self.xyz))
        apart, near = tree.query(xyz, k=k, workers=1)
        apart, near = apart.reshape(len(xyz), k), near.reshape(len(xyz), k)
        off = np.abs(np.einsum("nka,nka->nk", xyz[:, None] - self.xyz[near], self.normals[near]))
        cost = np.where(self.flat[near], off, apart) + 0.15 * apart
        out = self.code[near[np.arange(len(xyz)), cost.argmin(1)]]
        alike = (self.code[near] == out[:, None]).mean(1)
        by = apart[:, 0] < 4 * self.cell
        return np.where(by, out, FURNITURE).astype(np.uint8), np.where(by, alike, 0).astype(np.float32)


def classify(xyz: np.ndarray, cell: float, facing: np.ndarray) -> Rooms:
    """What thinned points (n, 3; m, z up, one to a cell of ``cell``) of rooms are; ``facing`` (n, 3) points
    to the scanner of each, zero where that is not known.
    """
    shape = shapes.shape(xyz, cell, facing)
    _turn_unknown(shape, facing)
    piece = shapes.pieces(shape)
    up = shape.level & (shape.normals[:, 2] > 0)
    down = shape.level & (shape.normals[:, 2] < 0)
    code = np.zeros(len(xyz), np.uint8)
    floor = _lowest(xyz, up, piece, cell)
    code[floor] = FLOOR
    over = _Heights(xyz[floor])
    roof = _lowest(xyz * [1, 1, -1], down & ~(over.gap(xyz) < HEAD), piece, cell)
    code[roof & (code == 0)] = CEILING
    under = _Heights(xyz[code == CEILING])
    walls = _walls(shape, piece, over, under)
    code[walls & (code == 0)] = WALL
    _in_plane(shape, code, over, under)
    _behind(shape, code)
    _edges(shape, code)
    tops = under.of(xyz[floor], above=True) - xyz[floor, 2]
    return Rooms(
        xyz,
        shape.normals,
        shape.flat,
        code,
        cell,
        float(np.nanmedian(tops)) if np.isfinite(tops).any() else np.nan,
    )


def _turn_unknown(shape: shapes.Shape, facing: np.ndarray) -> None:
    """Turn the normals of level surfaces whose scanner is not known: a piece looks where most of it does."""
    lost = shape.level & ~facing.any(1)
    if not lost.any():
        return
    level = np.flatnonzero(shape.level)
    shape.normals[lost & (shape.normals[:, 2] < 0)] *= -1
    piece = shapes.pieces(shape)[level]
    way = np.bincount(piece, shapes.outward(shape.xyz, level))[piece]
    down = level[(way < 0) & lost[level]]
    shape.normals[down] *= -1


class _Heights:
    """Heights of floors or ceilings round about: (n, 3) points of them."""

    def __init__(self, xyz: np.ndarray):
        self.xyz = xyz
        self.tree = cKDTree(xyz * [1, 1, 1]) if len(xyz) else None
        _, first = np.unique(np.floor(xyz / [PLAN, PLAN, 0.5]).astype(np.int64), axis=0, return_index=True)
        self.some = xyz[first]
        self.flat = cKDTree(self.some[:, :2]) if len(first) else None

    def of(self, xyz: np.ndarray, above: bool) -> np.ndarray:
        """(m,) height of the nearest in plan above (or below) each place, NaN where there is none."""
        out = np.full(len(xyz), np.nan)
        if self.flat is None:
            return out
        k = min(12, len(self.some))
        apart, near = self.flat.query(xyz[:, :2], k=k, distance_upper_bound=ROUND_ABOUT, workers=-1)
        apart, near = apart.reshape(len(xyz), k), near.reshape(len(xyz), k)
        z = np.r_[self.some[:, 2], np.nan][near]
        with np.errstate(invalid="ignore"):
            good = (z > xyz[:, 2:] - 0.1) if above else (z < xyz[:, 2:] + 0.1)
        first = good.argmax(1)
        rows = np.flatnonzero(good.any(1))
        out[rows] = z[rows, first[rows]]
        return out

    def gap(self, xyz: np.ndarray) -> np.ndarray:
        """(m,) height (m) over the nearest below, infinite where there is none."""
        found = xyz[:, 2] - self.of(xyz, above=False)
        return np.where(np.isnan(found), np.inf, found)


def _lowest(xyz: np.ndarray, mask: np.ndarray, piece: np.ndarray, cell: float) -> np.ndarray:
    """Mask of the level points that have no large level piece below and beside them within the storey."""
    index = np.flatnonzero(mask & (piece >= 0))
    out = np.zeros(len(xyz), bool)
    if not len(index):
        return out
    _, number = np.unique(piece[index], return_inverse=True)
    area = np.bincount(number) * cell * cell
    plan = np.floor(xyz[index, :2] / PLAN).astype(np.int64)
    plan -= plan.min(0)
    cells, _, inverse = np.unique(np.c_[number, plan], axis=0, return_index=True, return_inverse=True)
    height = np.bincount(inverse.ravel(), xyz[index, 2]) / np.bincount(inverse.ravel())
    large = area >= LEAST
    good = np.zeros(len(area), bool)
    tree = cKDTree(cells[:, 1:].astype(float))
    order = np.argsort(np.bincount(cells[:, 0], height) / np.bincount(cells[:, 0]))  # from below
    spans = np.searchsorted(cells[:, 0], np.arange(len(area) + 1))
    for k in order:
        mine = slice(spans[k], spans[k + 1])
        if not large[k]:
            continue
        around = tree.query_ball_point(cells[mine, 1:].astype(float), BESIDE / PLAN, workers=-1)
        lower, close = np.zeros(len(area)), False
        for own, near in zip(height[mine], around):
            near = np.array(near)
            rise = own - height[near]
            np.maximum.at(lower, cells[near[(rise > STEP) & (rise < STOREY)], 0], 1)
        rivals = np.flatnonzero((lower > 0) & good)
        close = len(rivals) and area[rivals].max() > 0.4 * area[k]
        good[k] = not close
    out[index[good[number]]] = True
    return _joined(xyz, index, number, area, good, out)


def _joined(
    xyz: np.ndarray,
    index: np.ndarray,
    number: np.ndarray,
    area: np.ndarray,
    good: np.ndarray,
    out: np.ndarray,
) -> np.ndarray:
    """Small pieces at the height of a floor beside them, between the legs of a table, belong to it."""
    if not out.any():
        return out
    for _ in range(12):
        tree = cKDTree(xyz[out])
        rest = index[~good[number]]
        if not len(rest):
            break
        some = np.isin(number, np.flatnonzero(~good))
        _, near = tree.query(xyz[index[some]], distance_upper_bound=ROUND_ABOUT, workers=-1)
        z = np.r_[xyz[out][:, 2], np.inf][near]
        flat = np.hypot(*(xyz[index[some], :2] - np.r_[xyz[out][:, :2], [[np.inf, np.inf]]][near]).T)
        rise = np.abs(xyz[index[some], 2] - z)
        with np.errstate(invalid="ignore"):
            fits = (rise < LIES_IN) | (
                (flat < 0.2) & (rise < STEP) & (rise > 0.1) & (area[number[some]] > 0.12)
            )
        share = np.bincount(number[some], fits, len(area)) / np.maximum(
            np.bincount(number[some], minlength=len(area)), 1
        )
        step = np.bincount(number[some], fits & (rise > 0.1), len(area))
        new = ~good & ((share > 0.5) | ((step > 2) & (share > 0.1)))
        if not new.any():
            break
        good |= new
        out[index[good[number]]] = True
    return out


def _walls(shape: shapes.Shape, piece: np.ndarray, over: _Heights, under: _Heights) -> np.ndarray:
    """Mask of the upright pieces that are as tall as walls and reach the ceiling."""
    index = np.flatnonzero(shape.upright & (piece >= 0))
    out = np.zeros(len(piece), bool)
    if not len(index):
        return out
    _, number = np.unique(piece[index], return_inverse=True)
    xyz = shape.xyz[index]
    many = np.bincount(number)
    spans = {}
    for axis in range(3):
        low, high = np.full(len(many), np.inf), np.full(len(many), -np.inf)
        np.minimum.at(low, number, xyz[:, axis])
        np.maximum.at(high, number, xyz[:, axis])
        spans[axis] = low, high
    length = np.hypot(spans[0][1] - spans[0][0], spans[1][1] - spans[1][0])
    ceiling, floor = under.of(xyz, above=True), over.of(xyz, above=False)
    to_top, room = ceiling - xyz[:, 2], ceiling - floor
    at_top = np.bincount(number, np.nan_to_num(to_top, nan=9.0) < UNDER)
    known = np.bincount(number, np.isfinite(to_top)) > 0.2 * many
    rooms = np.bincount(number, np.nan_to_num(room)) / np.maximum(np.bincount(number, np.isfinite(room)), 1)
    tall = spans[2][1] - spans[2][0]
    # as long at the ceiling as it is wide, or so: a cupboard's side that touches it somewhere is not
    reaches = at_top * shape.cell**2 > 0.4 * UNDER * np.minimum(length, 1.0) * 0.6
    good = np.where(known, reaches & (tall > np.minimum(TALL * rooms, UNDER + 0.1)), tall > TALLEST)
    good &= (length > WIDE) & (many * shape.cell**2 > 0.1)
    out[index[good[number]]] = True
    return out


def _near_walls(
    shape: shapes.Shape, code: np.ndarray, which: np.ndarray, reach: float
) -> tuple[np.ndarray, np.ndarray]:
    """For places of indices ``which``: plan offsets (m, k, 2) from walls near them and these walls' normals;
    (infinite where there are none).  Walls are thinned in plan.
    """
    walls = np.flatnonzero((code == WALL) & shape.upright)
    key = np.c_[
        np.floor(shape.xyz[walls, :2] / 0.08),
        np.round(shape.normals[walls, :2]),
        np.floor(shape.xyz[walls, 2:] / 3.0),
    ]
    _, first = np.unique(key.astype(np.int64), axis=0, return_index=True)
    walls = walls[first]
    k = min(40, len(walls))
    _, near = cKDTree(shape.xyz[walls] * [1, 1, 0.1]).query(
        shape.xyz[which] * [1, 1, 0.1], k=k, distance_upper_bound=reach, workers=-1
    )
    near = near.reshape(len(which), k)
    there = near < len(walls)
    near = walls[np.where(there, near, 0)]
    away = shape.xyz[which][:, None, :2] - shape.xyz[near][:, :, :2]
    return np.where(there[..., None], away, np.inf), shape.normals[near][:, :, :2]


def _chunks(index: np.ndarray, size: int = 100_000) -> Iterator[Any]:
    return (index[a : a + size] for a in range(0, len(index), size))


def _in_plane(shape: "Shape", code: np.ndarray, over: "_Heights", under: "_Heights") -> None:
    """Upright points in the plane of a wall near them belong to it."""
    if not (code == WALL).any():
        return
    rest = np.flatnonzero((code == 0) & shape.upright)
    for which in _chunks(rest):
        away, normals = _near_walls(shape, code, which, ALONG)
        with np.errstate(invalid="ignore"):
            off = np.abs((away * normals).sum(-1))
            same = (shape.normals[which][:, None, :2] * normals).sum(-1) > 0.97
        code[which[((off < LIES_IN) & same).any(1)]] = WALL


def _behind(shape: "Shape", code: np.ndarray) -> None:
    """Points behind the face of a wall and not before another belong to it: reveals, sills, heads."""
    if not (code == WALL).any():
        return
    rest = np.flatnonzero(code == 0)
    for which in _chunks(rest):
        away, normals = _near_walls(shape, code, which, THICK + 0.3)
        with np.errstate(invalid="ignore"):
            out = (away * normals).sum(-1)
            side = np.abs(away[..., 0] * normals[..., 1] - away[..., 1] * normals[..., 0])
            behind = (out < -0.005) & (out > -THICK) & (side < 0.35)
            before = (out > 0.01) & (out < THICK) & (side < 0.35)
        code[which[behind.any(1) & ~before.any(1)]] = WALL


def _edges(shape: "Shape", code: np.ndarray) -> None:
    """Points where surfaces meet have no plane of their own: each goes to the surface that passes nearest."""
    rough = np.flatnonzero((code == 0) & ~shape.flat)
    near, apart = shape.near[rough], shape.apart[rough]
    off = np.abs(np.einsum("nka,nka->nk", shape.xyz[rough][:, None] - shape.xyz[near], shape.normals[near]))
    usable = shape.flat[near]
    cost = np.where(usable, off + 0.1 * apart, np.inf)
    best = cost.argmin(1)
    rows = np.arange(len(rough))
    close = usable[rows, best] & (off[rows, best] < 0.6 * shape.cell)
    code[rough[close]] = code[near[rows, best]][close]
    code[code == 0] = FURNITURE
