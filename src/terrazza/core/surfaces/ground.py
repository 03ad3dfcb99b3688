"""A surface of triangles over ground points, as few as a stated height error lets it have.

Cells give their middle point (median height against noise); those that a surface of the ones chosen so far
misses most are added, one a triangle and round, until none is missed by more than the error (greedy
insertion, Garland and Heckbert 1995).
"""

from dataclasses import dataclass

import numpy as np
import shapely
from scipy import ndimage
from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator
from scipy.spatial import Delaunay

from terrazza.core.progress import QUIET, Progress
from terrazza.core.surfaces import kept

ROUNDS = 40
TURNS = 6  # of adding cells and keeping lines, which disturb each other
CLOSED = 2  # cells: holes narrower than this are bridged
SLIVER = 3.0  # cells: a triangle at the rim that is longer, and thinner than one, is none
COVERED = 0.7  # share of a triangle that points have to lie in, holes closed


@dataclass
class Surface:
    """``vertices`` (n, 3) m, ``triangles`` (m, 3) of their indices, upwards; ``sigma`` (m) of a height;
    ``lost``: pieces of lines that could not be kept as edges.
    """

    vertices: np.ndarray
    triangles: np.ndarray
    sigma: float = 0.0
    lost: int = 0

    def areas(self) -> tuple[float, float]:
        """In plan and on the surface, m²."""
        a, b, c = (self.vertices[self.triangles[:, k]] for k in range(3))
        cross = np.cross(b - a, c - a)
        return float(np.abs(cross[:, 2]).sum() / 2), float(np.linalg.norm(cross, axis=1).sum() / 2)


@dataclass
class Cells:
    """One point a cell: ``xyz`` (k, 3) middles with median heights, cells (k, 2), how many points each has,
    and the usual spread of heights in one, m.
    """

    xyz: np.ndarray
    cell: np.ndarray
    many: np.ndarray
    edge: float
    spread: float


def cells(xyz: np.ndarray, edge: float) -> Cells:
    """The cells (of ``edge`` m in plan) of points (n, 3)."""
    place = np.floor(xyz[:, :2] / edge).astype(np.int64)
    order = np.lexsort((xyz[:, 2], place[:, 1], place[:, 0]))
    place, sorted_ = place[order], xyz[order]
    start = np.flatnonzero(np.r_[True, (place[1:] != place[:-1]).any(1)])
    many = np.diff(np.r_[start, len(place)])
    middle = start + many // 2
    mean = np.add.reduceat(sorted_[:, :2], start) / many[:, None]
    # on a slope the median height belongs where the median point lies, not to the mean of the places
    at = np.c_[mean, sorted_[middle, 2]]
    spread = _noise(sorted_, start, many)
    return Cells(at, place[start], many, edge, spread)


def _noise(xyz: np.ndarray, start: np.ndarray, many: np.ndarray) -> float:
    """Standard deviation of heights about a plane in the fuller cells, m."""
    full = np.flatnonzero(many >= 8)[:2000]
    off = []
    for k in full:
        p = xyz[start[k] : start[k] + many[k]]
        p = p - p.mean(0)
        fit = np.linalg.lstsq(np.c_[p[:, :2], np.ones(len(p))], p[:, 2], rcond=None)[0]
        off.append(((p[:, 2] - p[:, :2] @ fit[:2] - fit[2]) ** 2).sum() / (len(p) - 3))
    return float(np.sqrt(np.median(off))) if off else 0.0


def smoothed(found: Cells) -> np.ndarray:
    """(k, 3) the cells' points, each height of a plane through its own and its neighbours' points."""
    out = found.xyz.copy()
    low = found.cell.min(0) - 1
    shape = found.cell.max(0) - low + 2
    index = np.full(shape, -1)
    index[tuple((found.cell - low).T)] = np.arange(len(out))
    near = np.stack([index[tuple((found.cell - low + [i, j]).T)] for i in (-1, 0, 1) for j in (-1, 0, 1)], 1)
    weight = np.where(near >= 0, found.many[near], 0).astype(float)
    away = found.xyz[near] - found.xyz[:, None]
    basis = np.stack([np.ones_like(weight), away[..., 0], away[..., 1]], -1)
    normal = np.einsum("nk,nka,nkb->nab", weight, basis, basis) + 1e-9 * np.eye(3)
    right = np.einsum("nk,nka,nk->na", weight, basis, away[..., 2])
    enough = (weight > 0).sum(1) >= 5
    out[enough, 2] += np.linalg.solve(normal[enough], right[enough][..., None])[:, 0, 0]
    return out


def model(found: Cells, error: float, progress: Progress = QUIET, lines: kept.Kept | None = None) -> Surface:
    """The surface through as few cells as keep every one within ``error`` (m) of it, with the edges of
    ``lines``; cells that these run through have no say, since both sides are in them.
    """
    every = found
    if lines is not None and len(lines.pieces):
        found, own = _beside(found, lines)
    at = smoothed(found)
    chosen = np.zeros(len(at), bool)
    chosen[_first(at)] = True
    if lines is None or not len(lines.pieces):
        chosen, _ = _inserted(at, chosen, error, progress)
        which = np.flatnonzero(chosen)
        near = at[which[0], :2]
        net = Delaunay(at[which, :2] - near)
        made = Surface(at[which], net.simplices, found.spread)
        return _trimmed(made, found, _bare(net, at[:, :2] - near))
    fixed, pieces = lines.xyz.copy(), lines.pieces
    bare = np.isnan(fixed[:, 2])
    fixed[bare, 2] = NearestNDInterpolator(at[:, :2], at[:, 2])(fixed[bare, :2])
    inner = LinearNDInterpolator(at[:, :2], at[:, 2])(fixed[bare, :2])
    fixed[bare, 2] = np.where(np.isfinite(inner), inner, fixed[bare, 2])
    for _ in range(TURNS):
        mine = np.r_[np.ones(len(fixed), bool), chosen]
        mine, more = _inserted(np.concatenate([fixed, at]), mine, error, progress)
        chosen = mine[len(fixed) :]
        vertices, pieces, lost = kept.conforming(np.concatenate([fixed, at[chosen]]), pieces)
        added = vertices[len(fixed) + chosen.sum() :]
        pieces = np.where(pieces >= len(fixed) + chosen.sum(), pieces - chosen.sum(), pieces)
        fixed = np.concatenate([fixed, added])
        if not len(added) and not more:
            break
    vertices = np.concatenate([fixed, at[chosen]])
    net = Delaunay(vertices[:, :2] - vertices[0, :2])
    made = Surface(vertices, net.simplices, found.spread, lost)
    return _trimmed(made, every, _bare(net, at[:, :2] - vertices[0, :2]), own)


def _bare(net: Delaunay, xy: np.ndarray) -> np.ndarray:
    """Triangles (m,) of a net in which none of some places (n, 2) lies."""
    return np.bincount(net.find_simplex(xy) + 1, minlength=len(net.simplices) + 1)[1:] == 0


def _beside(found: Cells, lines: kept.Kept) -> tuple[Cells, shapely.Geometry | None]:
    """Cells that no line runs through, within the outline, and the area of that, None where there is none."""
    mine, hit = ((cell[:, 0] << 32) + cell[:, 1] for cell in (found.cell, kept.crossed(lines, found.edge)))
    away = ~np.isin(mine, hit)
    own = None
    if lines.outline is not None:
        own = shapely.make_valid(shapely.Polygon(lines.outline))
        shapely.prepare(own)
        away &= shapely.contains_xy(own, *found.xyz[:, :2].T)
    return Cells(found.xyz[away], found.cell[away], found.many[away], found.edge, found.spread), own


def _first(at: np.ndarray) -> np.ndarray:
    """The points (indices) that a surface begins with: its corners and rim."""
    low, span = at[:, :2].min(0), np.maximum(np.ptp(at[:, :2], axis=0), 1e-6)
    corners = [
        int(np.argmin(np.abs(at[:, :2] - low - span * c).sum(1))) for c in ((0, 0), (1, 0), (0, 1), (1, 1))
    ]
    return np.unique(np.r_[corners, _hull(at[:, :2])])


def _inserted(at: np.ndarray, chosen: np.ndarray, error: float, progress: Progress) -> tuple[np.ndarray, int]:
    """Which points (n,) are chosen when every other lies within ``error`` (m), and how many were added."""
    chosen, before = chosen.copy(), int(chosen.sum())
    own = at[:, :2] - at[:, :2].min(0)
    for turn in range(ROUNDS):
        progress.advance(turn, ROUNDS, "Laying triangles")
        which = np.flatnonzero(chosen)
        net = Delaunay(own[which])
        triangle = net.find_simplex(own)
        off = np.abs(at[:, 2] - _heights(net, at[which, 2], own, triangle))
        off[chosen | (triangle < 0)] = 0
        worst = np.lexsort((-off, triangle))
        first = worst[np.r_[True, triangle[worst][1:] != triangle[worst][:-1]]]
        new = first[off[first] > error]
        if not len(new):
            break
        chosen[new] = True
    return chosen, int(chosen.sum()) - before


def _hull(xy: np.ndarray) -> np.ndarray:
    """The outermost point of every row and column of coarse cells: a rim that follows the points."""
    low, span = xy.min(0), np.maximum(np.ptp(xy, axis=0), 1e-6)
    out = []
    for axis in (0, 1):
        row = np.minimum(((xy[:, 1 - axis] - low[1 - axis]) / span[1 - axis] * 60).astype(int), 59)
        order = np.lexsort((xy[:, axis], row))
        ends = np.flatnonzero(np.r_[True, row[order][1:] != row[order][:-1]])
        out += [order[ends], order[np.r_[ends[1:], len(order)] - 1]]
    return np.concatenate(out)


def _heights(net: Delaunay, z: np.ndarray, xy: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """(n,) heights of a net with vertex heights ``z`` at places in its triangles."""
    change = net.transform[triangle]
    share = np.einsum("nij,nj->ni", change[:, :2], xy - change[:, 2])
    share = np.c_[share, 1 - share.sum(1)]
    return (share * z[net.simplices[triangle]]).sum(1)


def _trimmed(
    surface: Surface, found: Cells, bare: np.ndarray, own: shapely.Geometry | None = None
) -> Surface:
    """Without the triangles that lie where no points are, all facing up; with an outline, those within it."""
    if own is not None:
        middle = surface.vertices[surface.triangles][:, :, :2].mean(1)
        return _upright(surface, surface.triangles[shapely.contains_xy(own, *middle.T)])
    low = found.cell.min(0) - CLOSED - 1
    there = np.zeros(found.cell.max(0) - low + CLOSED + 2, bool)
    there[tuple((found.cell - low).T)] = True
    there = ndimage.binary_closing(there, np.ones((3, 3)), CLOSED)
    corners = surface.vertices[surface.triangles][:, :, :2]
    held = np.zeros(len(corners))
    weights = [(4, 1, 1), (1, 4, 1), (1, 1, 4), (1, 1, 1), (2, 2, 1), (1, 2, 2), (2, 1, 2)]
    for w in weights:
        place = (corners * np.array(w)[:, None]).sum(1) / sum(w)
        at = np.floor(place / found.edge).astype(np.int64) - low
        held += there[tuple(np.clip(at, 0, np.array(there.shape) - 1).T)]
    held_in = held / len(weights) >= COVERED
    sound = _without_slivers(surface.vertices[:, :2], surface.triangles[held_in], bare[held_in], found.edge)
    return _upright(surface, sound)


def _upright(surface: Surface, keep: np.ndarray) -> Surface:
    """Some triangles of a surface, all facing up, and the vertices that they use."""
    a, b, c = (surface.vertices[keep[:, k]] for k in range(3))
    down = np.cross(b - a, c - a)[:, 2] < 0
    keep[down] = keep[down][:, [0, 2, 1]]
    used, back = np.unique(keep, return_inverse=True)
    return Surface(surface.vertices[used], back.reshape(keep.shape), surface.sigma, surface.lost)


def _without_slivers(xy: np.ndarray, triangles: np.ndarray, bare: np.ndarray, cell: float) -> np.ndarray:
    """Triangles without the long thin ones at the rim that are ``bare`` (m,) of points; as many layers
    as there are.
    """
    while len(triangles):
        corners = xy[triangles]
        sides = np.linalg.norm(corners - np.roll(corners, -1, 1), axis=2)
        u, v = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        tall = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / np.maximum(sides.max(1), 1e-12)
        edges = np.sort(np.stack([triangles, np.roll(triangles, -1, 1)], -1), -1).reshape(-1, 2)
        _, back, many = np.unique(edges, axis=0, return_inverse=True, return_counts=True)
        rim = (many[back.ravel()] == 1).reshape(-1, 3).any(1)
        thin = rim & bare & (tall < cell) & (sides.max(1) > SLIVER * cell)
        if not thin.any():
            break
        triangles, bare = triangles[~thin], bare[~thin]
    return triangles
