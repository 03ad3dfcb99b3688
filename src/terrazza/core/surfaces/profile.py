"""Deviations drawn out: the line in which a section cuts a design, and that line moved by the deviations."""

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, connected_components, minimum_spanning_tree
from scipy.spatial import cKDTree

if TYPE_CHECKING:
    from terrazza.core.clean.shells import Triangles


NUDGE = 1e-3  # m: steps by which the direction of the design is felt
FEWEST = 3  # points that a place needs
LINK = 2.2  # steps that two places on one line are apart at most
SHORTEST = 4  # places of a line


@dataclass(frozen=True)
class Profile:
    """Places (k, 2) m along one line of the design in a section, the unit ``normal`` (k, 2) on its positive
    side, and the mean ``away`` (k,) m of the points there; ``closed`` where it ends where it began.
    """

    at: np.ndarray
    normal: np.ndarray
    away: np.ndarray
    closed: bool

    def drawn_out(self, scale: float) -> np.ndarray:
        """(k, 2) m: the line moved by ``scale`` times the deviations."""
        return self.at + scale * self.away[:, None] * self.normal


def feet(shell: "Triangles", xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of points (n, 3) m: the nearest places (n, 3) of a surface, its unit normal (n, 3) towards its positive
    side, and the signed distances (n,); NaN where it has none.
    """
    away = np.where(shell.along(xyz), shell.away(xyz), np.nan)
    steps = NUDGE * np.eye(3)
    slope = np.stack([(shell.away(xyz + e) - shell.away(xyz - e)) / (2 * NUDGE) for e in steps], 1)
    slope /= np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-9)
    return xyz - away[:, None] * slope, slope, away


def profiles(foot: np.ndarray, normal: np.ndarray, away: np.ndarray, step: float) -> list[Profile]:
    """The lines that feet (n, 2) m of points in a section lie on, with a place every ``step`` (m) or so,
    longest first.
    """
    if not len(foot):
        return []
    cell = np.floor(foot / step).astype(np.int64)
    _, which = np.unique(cell, axis=0, return_inverse=True)
    which = which.reshape(-1)
    many = np.bincount(which)
    mean = lambda v: np.bincount(which, v) / many
    at = np.stack([mean(foot[:, k]) for k in (0, 1)], 1)
    at = at[_apart(at, many, step)]
    nearest = cKDTree(at).query(foot)[1]
    many = np.bincount(nearest, minlength=len(at))
    mean = lambda v: np.bincount(nearest, v, len(at)) / np.maximum(many, 1)
    at, turned = (np.stack([mean(v[:, k]) for k in (0, 1)], 1) for v in (foot, normal))
    off = mean(away)
    there = many >= FEWEST
    at, turned, off = at[there], turned[there], off[there]
    turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-9)
    out = [Profile(at[c], turned[c], off[c], closed) for c, closed in _chains(at, step)]
    return sorted(out, key=lambda p: -len(p.at))


def _apart(at: np.ndarray, many: np.ndarray, step: float) -> np.ndarray:
    """Indices of some places (n, 2), fullest first, none nearer to another than most of a step."""
    near = cKDTree(at).query_ball_point(at, 0.8 * step)
    free, out = np.ones(len(at), bool), []
    for k in np.argsort(-many, kind="stable"):
        if free[k]:
            out.append(k)
            free[near[k]] = False
    return np.sort(out)


def _chains(at: np.ndarray, step: float) -> list[tuple[np.ndarray, bool]]:
    """Places (n, 2) in order along lines: the longest way through each tree of nearest places, and whether it
    closes.
    """
    if len(at) < SHORTEST:
        return []
    pairs = cKDTree(at).query_pairs(LINK * step, output_type="ndarray")
    length = np.linalg.norm(at[pairs[:, 0]] - at[pairs[:, 1]], axis=1)
    tree = minimum_spanning_tree(coo_array((length, pairs.T), (len(at), len(at))).tocsr())
    tree = tree + tree.T
    out = []
    for group in range((found := connected_components(tree, directed=False))[0]):
        first = int(np.flatnonzero(found[1] == group)[0])
        start = _farthest(tree, at, first)[-1]
        way = _farthest(tree, at, start)
        if len(way) >= SHORTEST:
            near = np.linalg.norm(at[way[0]] - at[way[-1]]) < LINK * step
            out.append((way, bool(near and len(way) > 2 * SHORTEST)))
    return out


def _farthest(tree: Any, at: np.ndarray, start: int) -> np.ndarray:
    """The way (k,) from a place to the one farthest along a tree."""
    order, before = breadth_first_order(tree, start, directed=False)
    far = np.zeros(len(at))
    for k in order[1:]:
        far[k] = far[before[k]] + np.linalg.norm(at[k] - at[before[k]])
    way = [int(order[np.argmax(far[order])])]
    while way[-1] != start:
        way.append(int(before[way[-1]]))
    return np.array(way[::-1])
