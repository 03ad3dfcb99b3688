"""Lines and outlines that a surface of triangles keeps as edges: crossings found, heights given, and
vertices added on them until every piece is an edge of the Delaunay triangulation (a conforming one; Ruppert
1995 shows when splitting ends).
"""

from dataclasses import dataclass

import numpy as np
import shapely
from scipy.spatial import Delaunay

SAME = 1e-4  # m: places nearer than this are one
ROUNDS, SHORTEST = 60, 0.002  # of splitting; m: no piece is split to less than twice that


@dataclass
class Kept:
    """``xyz`` (n, 3) m, heights NaN where none was given; ``pieces`` (m, 2) of their indices; ``rim`` (m,)
    which are of the outline alone; ``apart`` (m): by how much lines that meet differ in height at most.
    """

    xyz: np.ndarray
    pieces: np.ndarray
    rim: np.ndarray
    apart: float
    outline: np.ndarray | None = None

    def runs(self) -> list[np.ndarray]:
        """The lines with heights as chains (each (n, 3)), from end to end or crossing to crossing."""
        own = self.pieces[~self.rim]
        if not len(own):
            return []
        whole = shapely.linestrings(self.xyz[own])
        merged = shapely.get_parts(shapely.line_merge(shapely.multilinestrings(whole)))
        return [shapely.get_coordinates(g, include_z=True) for g in merged]


def noded(lines: list[np.ndarray], outline: np.ndarray | None, points: np.ndarray | None = None) -> Kept:
    """Lines (each (n, 3)) within an outline (n, 2), cut where they meet; without an outline, as far as the
    convex hull of ``points`` (k, 2 or 3) reaches, and without these all of them.
    """
    lines = [line for line in lines if len(line) > 1]
    flat = given = [shapely.LineString(line[:, :2]) for line in lines]
    ring = shapely.Polygon(outline) if outline is not None else None
    if ring is not None:
        ring = shapely.make_valid(ring)
        flat = [shapely.intersection(line, ring) for line in flat]
    elif points is not None:
        hull = shapely.MultiPoint(points[:, :2]).convex_hull
        flat = [shapely.intersection(line, hull) for line in flat]
    parts = [*flat, ring.boundary] if ring is not None else flat
    whole = shapely.node(shapely.set_precision(shapely.union_all(parts), SAME))
    single = [g for g in shapely.get_parts(whole) if g.length > SAME]
    runs = [shapely.get_coordinates(g) for g in single]
    ends = np.concatenate([np.stack([r[:-1], r[1:]], 1) for r in runs] or [np.zeros((0, 2, 2))])
    places, back = np.unique(
        np.round(ends.reshape(-1, 2) / SAME).astype(np.int64), axis=0, return_inverse=True
    )
    pieces = np.unique(np.sort(back.reshape(-1, 2), 1), axis=0)
    pieces = pieces[pieces[:, 0] != pieces[:, 1]]
    xy = places * SAME
    z, apart = _heights(xy, lines)
    middle = shapely.points(xy[pieces].mean(1))
    rim = np.ones(len(pieces), bool)
    if flat:
        tree = shapely.STRtree(given)
        rim[np.unique(tree.query(middle, "dwithin", 3 * SAME)[0])] = False
    return Kept(np.c_[xy, z], pieces, rim, apart, outline)


def _heights(xy: np.ndarray, lines: list[np.ndarray]) -> tuple[np.ndarray, float]:
    """(n,) heights of places on lines, NaN on none, the mean where several meet; and how far these differ."""
    if not lines:
        return np.full(len(xy), np.nan), 0.0
    a, b = (np.concatenate([line[part] for line in lines]) for part in (slice(-1), slice(1, None)))
    tree = shapely.STRtree(shapely.linestrings(np.stack([a[:, :2], b[:, :2]], 1)))
    place, piece = tree.query(shapely.points(xy), "dwithin", 3 * SAME)
    run = b[piece, :2] - a[piece, :2]
    share = ((xy[place] - a[piece, :2]) * run).sum(1) / np.maximum((run**2).sum(1), 1e-12)
    z = a[piece, 2] + np.clip(share, 0, 1) * (b[piece, 2] - a[piece, 2])
    many = np.bincount(place, minlength=len(xy))
    mean = np.bincount(place, z, len(xy)) / np.maximum(many, 1)
    apart = float(np.abs(z - mean[place]).max(initial=0.0))
    return np.where(many > 0, mean, np.nan), 2 * apart


def conforming(xyz: np.ndarray, pieces: np.ndarray) -> tuple[np.ndarray, np.ndarray, int]:
    """Vertices (n, 3) and more on the pieces (m, 2), at their middles, until all pieces are edges: the
    vertices, the pieces, and how many of them could not be kept.
    """
    for _ in range(ROUNDS):
        missing = ~_edges(Delaunay(xyz[:, :2] - xyz[0, :2]).simplices, pieces)
        run = np.linalg.norm(xyz[pieces[:, 0], :2] - xyz[pieces[:, 1], :2], axis=1)
        split = np.flatnonzero(missing & (run > 2 * SHORTEST))
        if not len(split):
            return xyz, pieces, int(missing.sum())
        new = xyz[pieces[split]].mean(1)
        number = len(xyz) + np.arange(len(split))
        halves = np.concatenate([np.c_[pieces[split, 0], number], np.c_[number, pieces[split, 1]]])
        pieces, xyz = np.concatenate([np.delete(pieces, split, 0), halves]), np.concatenate([xyz, new])
    return xyz, pieces, int(missing.sum())


def _edges(triangles: np.ndarray, pieces: np.ndarray) -> np.ndarray:
    """Which pieces (m, 2) are edges of triangles (n, 3)."""
    many = int(max(triangles.max(), pieces.max(initial=0))) + 1
    sides = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), 1)
    own = np.sort(pieces, 1)
    return np.isin(own[:, 0] * many + own[:, 1], sides[:, 0] * many + sides[:, 1])


def crossed(kept: Kept, edge: float) -> np.ndarray:
    """Cells (k, 2), of ``edge`` m, that lines with heights run through."""
    own = kept.pieces[~kept.rim]
    a, b = kept.xyz[own[:, 0], :2], kept.xyz[own[:, 1], :2]
    many = np.maximum(np.ceil(np.linalg.norm(b - a, axis=1) / (edge / 8)).astype(int), 1)
    piece = np.repeat(np.arange(len(own)), many + 1)
    first = np.cumsum(many + 1) - (many + 1)
    share = (np.arange(len(piece)) - np.repeat(first, many + 1)) / np.repeat(many, many + 1)
    places = a[piece] + share[:, None] * (b - a)[piece]
    return np.unique(np.floor(places / edge).astype(np.int64), axis=0)
