"""Wall lines in a plan slab: straight pieces fitted to the points, joined into polylines."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.geometry import voxels

RISE, CELL = 0.1, 0.03  # m: between slabs that are compared, and of what they are compared by
THROUGH, NEARLY = (
    0.7,
    0.9,
)  # share of the heights that a wall stands through, and of the walls that a slab shows


@dataclass
class Line:
    """A polyline: ``vertices`` (m, 2) m; ``rms`` (m) of the points about it; ``points`` used."""

    vertices: np.ndarray
    rms: float
    points: int


def fit_lines(
    xy: np.ndarray, least: float = 0.30, width: float = 0.02, gap: float = 0.35, join: float = 0.25
) -> list[Line]:
    """Straight pieces of at least ``least`` metres in a slab's points (n, 2).

    Points grow into one piece while they lie within ``width`` (m) of it and leave no ``gap`` (m); pieces that
    meet within ``join`` (m) are joined at their intersection.
    """
    if len(xy) < 20:
        return []
    thin = xy[voxels.one_per_cell(np.c_[xy, np.zeros(len(xy))], 0.015)]
    tree = cKDTree(thin)
    direction, straight = _directions(thin, tree)
    free, lines = straight.copy(), []
    for seed in np.argsort(-_support(tree, thin)):
        if not free[seed]:
            continue
        members = _grow(thin, tree, direction, free, seed, width, gap)
        if members is None:
            continue
        pieces = list(_pieces(thin, members, gap, least))
        free[members if pieces else seed] = False
        lines += [_extended(piece, thin, tree, width) for piece in pieces]
    return _joined(lines, join)


def _support(tree: cKDTree, thin: np.ndarray) -> np.ndarray:
    return tree.query_ball_point(thin, 0.12, workers=-1, return_length=True)


def _directions(thin: np.ndarray, tree: cKDTree) -> tuple[np.ndarray, np.ndarray]:
    d, i = tree.query(thin, k=min(14, len(thin)), workers=-1)
    q = thin[i] - thin[i].mean(1, keepdims=True)
    cov = np.einsum("nki,nkj->nij", q, q)
    values, vectors = np.linalg.eigh(cov)
    return vectors[:, :, 1], (values[:, 0] < 0.12 * values[:, 1]) & (d[:, -1] < 0.5)


def _grow(
    thin: np.ndarray,
    tree: cKDTree,
    direction: np.ndarray,
    free: np.ndarray,
    seed: int,
    width: float,
    gap: float,
) -> np.ndarray | None:
    """Indices of free points that lie on the straight line through ``seed``, widened and refitted as it
    grows.
    """
    centre, along = thin[seed], direction[seed]
    reach, members = 0.25, None
    for _ in range(9):
        near = np.array(tree.query_ball_point(centre, reach), int)
        near = near[free[near]]
        q = thin[near] - centre
        side = np.abs(q[:, 0] * -along[1] + q[:, 1] * along[0])
        on = near[(side < width) & (np.abs(direction[near] @ along) > 0.92)]
        if len(on) < 8:
            return members
        s = np.sort((thin[on] - centre) @ along)
        middle = np.searchsorted(s, 0.0)
        breaks = np.flatnonzero(np.diff(s) > gap)
        low = breaks[breaks < middle].max() + 1 if (breaks < middle).any() else 0
        high = breaks[breaks >= middle].min() if (breaks >= middle).any() else len(s) - 1
        t = (thin[on] - centre) @ along
        on = on[(t >= s[low] - 1e-9) & (t <= s[high] + 1e-9)]
        if len(on) < 8:
            return members
        m = thin[on].mean(0)
        _, vectors = np.linalg.eigh(np.cov((thin[on] - m).T))
        new = vectors[:, 1] * np.sign(vectors[:, 1] @ along)
        grown = s[high] - s[low]
        members, centre, along = on, m, new
        if grown < 1.2 * reach:
            break
        reach *= 2
    return members


def _pieces(thin: np.ndarray, members: np.ndarray, gap: float, least: float) -> "Iterator[Line]":
    p = thin[members]
    m = p.mean(0)
    _, vectors = np.linalg.eigh(np.cov((p - m).T))
    along, normal = vectors[:, 1], vectors[:, 0]
    t = (p - m) @ along
    order = np.argsort(t)
    for part in np.split(order, np.flatnonzero(np.diff(t[order]) > gap) + 1):
        if len(part) < 8 or t[part].max() - t[part].min() < least:
            continue
        centre = p[part].mean(0)
        _, v = np.linalg.eigh(np.cov((p[part] - centre).T))
        along, normal = v[:, 1], v[:, 0]
        s = (p[part] - centre) @ along
        yield Line(
            centre + np.outer([s.min(), s.max()], along),
            float(np.sqrt(np.mean(((p[part] - centre) @ normal) ** 2))),
            len(part),
        )


def _extended(
    line: Line, thin: np.ndarray, tree: cKDTree, width: float, reach: float = 0.6, step: float = 0.12
) -> Line:
    """The piece carried on at both ends over points near corners, whose own neighbourhood is not straight."""
    a, b = line.vertices
    along = (b - a) / np.linalg.norm(b - a)
    ends = []
    for end, out in ((a, -along), (b, along)):
        q = thin[tree.query_ball_point(end, reach)] - end
        t = np.sort((q @ out)[np.abs(q[:, 0] * along[1] - q[:, 1] * along[0]) < width])
        t = t[t > -step]
        breaks = np.flatnonzero(np.diff(t) > step)
        ends.append(end + out * max(float(t[breaks[0]] if len(breaks) else t[-1]), 0.0) if len(t) else end)
    return Line(np.array(ends), line.rms, line.points)


def _joined(lines: list[Line], join: float) -> list[Line]:
    """Chain straight pieces whose ends meet: each corner moves to the intersection of its two pieces."""
    ends = [(i, e) for i in range(len(lines)) for e in (0, 1)]
    if not ends:
        return []
    places = np.array([lines[i].vertices[-1 if e else 0] for i, e in ends])
    links: dict[tuple[int, int], tuple[int, int]] = {}
    pairs = sorted(
        cKDTree(places).query_pairs(join * 1.5), key=lambda p: np.linalg.norm(places[p[0]] - places[p[1]])
    )
    for a, b in pairs:
        (i, ei), (j, ej) = ends[a], ends[b]
        if i == j or (i, ei) in links or (j, ej) in links:
            continue
        corner = _intersection(lines[i].vertices, lines[j].vertices)
        if (
            corner is None
            or max(np.linalg.norm(corner - places[a]), np.linalg.norm(corner - places[b])) > join
        ):
            continue
        links[(i, ei)], links[(j, ej)] = (j, ej), (i, ei)
    out, seen = [], set()
    for i in range(len(lines)):
        if i not in seen:
            out.append(_chain(lines, links, i, seen))
    return sorted(out, key=lambda line: -np.linalg.norm(np.diff(line.vertices, axis=0), axis=1).sum())


def _intersection(a: np.ndarray, b: np.ndarray) -> np.ndarray | None:
    da, db = a[1] - a[0], b[1] - b[0]
    cross = da[0] * db[1] - da[1] * db[0]
    if abs(cross) < 0.2 * np.linalg.norm(da) * np.linalg.norm(db):
        return None
    t = ((b[0] - a[0])[0] * db[1] - (b[0] - a[0])[1] * db[0]) / cross
    return a[0] + t * da


def _chain(
    lines: "list[Line]", links: dict[tuple[int, int], tuple[int, int]], start: int, seen: set[int]
) -> "Line":
    piece, end = start, 0
    visited = {start}
    while (piece, end) in links and links[(piece, end)][0] not in visited:
        piece, arrived = links[(piece, end)]
        visited.add(piece)
        end = 1 - arrived
    vertices = [lines[piece].vertices[-1 if end else 0]]
    total, squares = 0, 0.0
    end = 1 - end
    first = piece
    while True:
        seen.add(piece)
        total += lines[piece].points
        squares += lines[piece].points * lines[piece].rms ** 2
        nxt = links.get((piece, end))
        if nxt is None or nxt[0] in seen:
            if nxt is not None and nxt[0] == first and len(vertices) > 2:
                corner = _intersection(lines[piece].vertices, lines[first].vertices)
                vertices[0] = corner
                vertices.append(corner)
            else:
                vertices.append(lines[piece].vertices[-1 if end else 0])
            break
        vertices.append(_intersection(lines[piece].vertices, lines[nxt[0]].vertices))
        piece, end = nxt[0], 1 - nxt[1]
    return Line(np.array(vertices), float(np.sqrt(squares / max(total, 1))), total)


def clean_height(xyz: np.ndarray, low: float, high: float, thickness: float) -> float:
    """Height (m) between ``low`` and ``high`` whose slab of a ``thickness`` (m) holds least but what stands
    through all heights between (walls), of points (n, 3): among slabs that show nearly as much of these as
    any does, the one with the smallest share of other things.
    """
    heights = np.arange(low, high + 1e-9, RISE)
    place = np.floor(xyz[:, :2] / CELL).astype(np.int64)
    place -= place.min(0) if len(place) else 0
    code = place[:, 0] * (int(place[:, 1].max(initial=0)) + 1) + place[:, 1]
    there = [np.unique(code[np.abs(xyz[:, 2] - h) <= max(thickness, RISE) / 2]) for h in heights]
    cells, slabs = np.unique(np.concatenate(there), return_counts=True)
    through = cells[slabs >= THROUGH * len(heights)]
    walls = np.array([np.isin(t, through, assume_unique=True).sum() for t in there])
    share = walls / np.maximum([len(t) for t in there], 1)
    share[walls < NEARLY * walls.max()] = -1
    return float(heights[int(np.argmax(share))])
