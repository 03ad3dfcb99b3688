"""Buildings, vegetation, poles, wires and vehicles in the open, from local shape and height over ground.

Roofs and walls are large smooth pieces of surface; plants are rough in every direction; a pole is thin,
upright and bears no crown; a wire is a thin line in the air; a vehicle is a smooth thing of a vehicle's size
that stands on the ground by itself.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from terrazza.core.classify import shape as shapes
from terrazza.core.clean import specks

if TYPE_CHECKING:
    from terrazza.core.classify.shape import Shape


OTHER, GROUND, LOW, MEDIUM, HIGH, BUILDING, WIRE, VEHICLE, POLE = 1, 2, 3, 4, 5, 6, 14, 68, 69
BANDS = ((0.5, LOW), (2.0, MEDIUM), (np.inf, HIGH))  # m over ground

ROOF, EAVES, FACADE = 4.0, 1.8, 2.5  # m²: smallest roof; m: lowest part of one, and least height of a facade
THIN_ROOF = 24  # points of the smallest roof
SHARE = 0.5  # of the surroundings of a rough point that is building, for the point to be
SET_BACK = 0.35  # m: of windows and edges from the face of a wall
PLAN, CHIMNEY = 0.6, 0.9  # m: cells of a footprint, and how far things on a roof stand up
LINE = 0.85  # (λ3 - λ2) / λ3 of what is a line
POLE_TALL, POLE_WIDE = 2.2, 0.5  # m
CROWN = 0.6  # points of leaves around a pole's upper half, by its own, that make it a trunk
WIRE_LOW, WIRE_LONG = 3.0, 3.0  # m over ground, m
VEHICLE_LEAST, VEHICLE_MOST = (1.5, 1.0, 0.9), (9.5, 3.2, 3.9)  # m: length, width, height
SMOOTH = 0.25  # share of smooth points of a vehicle


@dataclass
class OpenAir:
    """Thinned points above the ground with what they are: ``xyz`` (n, 3), ``code`` (n,) u8, ``sure`` (n,)
    f32, 0 to 1.
    """

    xyz: np.ndarray
    code: np.ndarray
    sure: np.ndarray
    cell: float

    def at(self, xyz: np.ndarray, tree: cKDTree) -> tuple[np.ndarray, np.ndarray]:
        """Codes (m,) u8 of places (m, 3), and how sure they are: of the nearest; ``tree`` holds ``xyz``."""
        _, near = tree.query(xyz, workers=1)
        return self.code[near], self.sure[near]


def classify(xyz: np.ndarray, height: np.ndarray, cell: float, many: np.ndarray | None = None) -> OpenAir:
    """What thinned points (n, 3; m, z up, one to a cell of ``cell``) above the ground are.

    ``height`` (n,) over ground, m; ``many`` (n,) says which were one of several returns of a pulse.
    """
    shape = shapes.shape(xyz, cell)
    piece = shapes.pieces(shape)
    code = np.zeros(len(xyz), np.uint8)
    rough = _rough(shape, many)
    built = _built(shape, piece, height, rough)
    code[built] = BUILDING
    _filled(shape, code)
    _beside(shape, code, rough)
    _under(shape, code, rim=False)
    _vehicles(shape, code, height)
    _wires(shape, code, height)
    _poles(shape, code, height)
    _under(shape, code)
    rest = code == 0
    smooth = rest & (rough < 0.4)
    plant = rest & ~smooth
    for top, band in BANDS[::-1]:
        code[plant & (height < top)] = band
    code[smooth] = OTHER
    _smooth_over(shape, code, height)
    sure = np.where(code == BUILDING, 1 - rough, np.where(np.isin(code, (LOW, MEDIUM, HIGH)), rough, 0.6))
    return OpenAir(xyz, code, np.clip(sure, 0, 1).astype(np.float32), cell)


def _rough(shape: shapes.Shape, many: np.ndarray | None) -> np.ndarray:
    """(n,) 0 to 1: how much of the neighbourhood lies on no surface, or let part of the pulse through."""
    off = 1.0 - shape.flat[shape.near].mean(1)
    if many is None:
        return off
    through = many[shape.near].mean(1)
    return np.maximum(off, np.clip(1.6 * through - 0.2, 0, 1))


def _built(shape: "Shape", piece: np.ndarray, height: np.ndarray, rough: np.ndarray) -> np.ndarray:
    """Mask of the points on roofs and facades: large smooth pieces, up in the air or reaching up there."""
    out = np.zeros(len(piece), bool)
    index = np.flatnonzero(piece >= 0)
    if not len(index):
        return out
    number, groups = piece[index], int(piece.max()) + 1
    many = np.bincount(number, minlength=groups)
    lean = np.bincount(number, np.abs(shape.normals[index, 2]), groups) / many
    bumpy = np.bincount(number, rough[index], groups) / many
    area = many * shape.cell**2
    low, high = np.full(groups, np.inf), np.full(groups, -np.inf)
    np.minimum.at(low, number, height[index])
    np.maximum.at(high, number, height[index])
    middle = np.bincount(number, height[index], groups) / many
    steep = lean < 0.35
    roof = ~steep & (middle > EAVES) & (area > ROOF) & (many > THIN_ROOF)
    facade = steep & (high > FACADE) & (high - low > 1.2) & (area > 0.5 * ROOF) & (many > THIN_ROOF)
    good = (roof | facade) & (bumpy < 0.55)
    out[index[good[number]]] = True
    return out


def _filled(shape: "Shape", code: np.ndarray) -> None:
    """What lies among building is building: edges, chimneys, gutters, windows; two rounds, outwards."""
    for _ in range(2):
        rest = np.flatnonzero(code == 0)
        code[rest[(code[shape.near[rest]] == BUILDING).mean(1) > SHARE]] = BUILDING


def _beside(shape: "Shape", code: np.ndarray, rough: np.ndarray) -> None:
    """Points hardly off a roof or wall that runs beside them belong to it, unless all around is leaves."""
    built, rest = np.flatnonzero((code == BUILDING) & shape.flat), np.flatnonzero(code == 0)
    if not len(built) or not len(rest):
        return
    reach = max(SET_BACK * 2, 3 * shape.cell)
    apart, near = cKDTree(shape.xyz[built]).query(
        shape.xyz[rest], k=min(4, len(built)), distance_upper_bound=reach, workers=-1
    )
    near, there = near.reshape(len(rest), -1), np.isfinite(apart.reshape(len(rest), -1))
    owner = built[np.where(there, near, 0)]
    off = np.abs(((shape.xyz[rest][:, None] - shape.xyz[owner]) * shape.normals[owner]).sum(-1))
    close = ((off < SET_BACK) & there).sum(1) >= 2
    code[rest[close & (rough[rest] < 0.85)]] = BUILDING


def _under(shape: "Shape", code: np.ndarray, rim: bool = True) -> None:
    """What lies within the footprint of a roof (and on its rim) and not above it belongs to the building."""
    built = code == BUILDING
    wide = max(PLAN, 1.5 * shape.cell)
    plan = np.floor(shape.xyz[:, :2] / wide).astype(np.int64)
    plan -= plan.min(0) - 2
    roof = built & (np.abs(shape.normals[:, 2]) > 0.35)
    top = np.full(plan.max(0) + 3, -np.inf)
    np.maximum.at(top, tuple(plan[roof].T), shape.xyz[roof, 2])
    top = ndimage.grey_closing(top, 3) if np.isfinite(top).any() else top
    top = ndimage.maximum_filter(top, 3) if rim else top
    below = (code == 0) & (shape.xyz[:, 2] < top[tuple(plan.T)] + CHIMNEY)
    code[below] = BUILDING


def _groups(xyz: np.ndarray, gap: float) -> np.ndarray:
    """(n,) number of the group of points nearer to each other than ``gap`` (m)."""
    edge = gap / 1.5
    low = np.floor(xyz.min(0) / edge) * edge
    code, back = np.unique(specks.codes(specks.plain(xyz, edge, low)), return_inverse=True)
    return specks.clusters(code)[back]


def _spans(xy: np.ndarray) -> tuple[float, float]:
    """Length and width along the main direction of places (n, 2)."""
    away = xy - xy.mean(0)
    _, _, axes = np.linalg.svd(away, full_matrices=False)
    spans = np.ptp(away @ axes.T, axis=0)
    return float(spans.max()), float(spans.min())


def _by_group(index: np.ndarray, xyz: np.ndarray, gap: float) -> Iterator[np.ndarray]:
    if not len(index):
        return
    number = _groups(xyz[index], gap)
    order = np.argsort(number, kind="stable")
    yield from np.split(index[order], np.flatnonzero(np.diff(number[order])) + 1)


def _vehicles(shape: "Shape", code: np.ndarray, height: np.ndarray) -> None:
    """Things of a vehicle's size that stand on the ground by themselves."""
    gap = max(0.3, 2.2 * shape.cell)
    for mine in _by_group(np.flatnonzero((code == 0) & (height < VEHICLE_MOST[2])), shape.xyz, gap):
        if len(mine) < 12 or height[mine].min() > 0.7:
            continue
        size = (*_spans(shape.xyz[mine, :2]), float(np.quantile(height[mine], 0.98)))
        fits = all(a <= s <= b for a, s, b in zip(VEHICLE_LEAST, size, VEHICLE_MOST))
        if fits and size[0] > 1.2 * size[1] and shape.flat[mine].mean() > SMOOTH:
            code[mine] = VEHICLE


def _lines(shape: "Shape") -> tuple[np.ndarray, np.ndarray]:
    """(n,) how much of a line each neighbourhood is, and (n, 3) along which direction."""
    spread = shape.spread
    line = (spread[:, 2] - spread[:, 1]) / np.maximum(spread[:, 2], 1e-12)
    away = shape.xyz[shape.near] - shape.xyz[shape.near].mean(1, keepdims=True)
    far = np.take_along_axis(away, np.abs(away).max(2).argmax(1)[:, None, None], 1)[:, 0]
    return line, far / np.maximum(np.linalg.norm(far, axis=1, keepdims=True), 1e-12)


def _wires(shape: "Shape", code: np.ndarray, height: np.ndarray) -> None:
    line, along = _lines(shape)
    some = np.flatnonzero((code == 0) & (line > LINE) & (np.abs(along[:, 2]) < 0.6) & (height > WIRE_LOW))
    for mine in _by_group(some, shape.xyz, max(1.0, 4 * shape.cell)):
        if len(mine) < 6:
            continue
        length, _ = _spans(shape.xyz[mine, :2])
        if length < WIRE_LONG:
            continue
        code[mine] = WIRE


def _poles(shape: "Shape", code: np.ndarray, height: np.ndarray) -> None:
    """Thin upright things that begin near the ground, are narrow all the way and bear no crown."""
    line, along = _lines(shape)
    some = np.flatnonzero((code == 0) & (line > 0.6) & (np.abs(along[:, 2]) > 0.85))
    plan = cKDTree(shape.xyz[:, :2])
    for mine in _by_group(some, shape.xyz, max(0.6, 4 * shape.cell)):
        top, low = height[mine].max(), height[mine].min()
        if top - low < POLE_TALL or low > 1.5 or max(_spans(shape.xyz[mine, :2])) > POLE_WIDE:
            continue
        axis = np.median(shape.xyz[mine, :2], axis=0)
        around = np.array(plan.query_ball_point(axis, 1.5))
        around = around[(code[around] == 0) & (height[around] > low + 0.5 * (top - low))]
        away = np.linalg.norm(shape.xyz[around, :2] - axis, axis=1)
        leaves = (away > POLE_WIDE / 2 + shape.cell) & ~shape.flat[around]
        if leaves.sum() > CROWN * len(mine):
            continue
        beside = np.array(plan.query_ball_point(axis, POLE_WIDE / 2 + shape.cell))
        code[beside[code[beside] == 0]] = POLE


def _smooth_over(shape: "Shape", code: np.ndarray, height: np.ndarray) -> None:
    """A few smooth points among leaves are leaves; a few rough ones on a smooth thing belong to it."""
    plants = np.isin(code, (LOW, MEDIUM, HIGH))
    near = plants[shape.near].mean(1)
    swap = (code == OTHER) & (near > 0.5)
    for top, band in BANDS[::-1]:
        code[swap & (height < top)] = band
