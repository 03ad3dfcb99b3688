"""Mixed pixels of walks: points that lie between two surfaces along their beam, that no surface holds and
that were not found there again from elsewhere on the way.

A walk has no grid whose neighbours could judge them, but it passes everything many times.  A true point lies
in a patch of surface, or others measured from elsewhere lie beside it; where a beam met both sides of an
edge, the point lies somewhere between, and somewhere else with the next step.  Such points go only where the
beam passed something in front of them closely and there is something behind them.
"""

from dataclasses import dataclass, fields

import numpy as np
from numba import njit, prange
from scipy.spatial import cKDTree

from terrazza.core.clean import specks

NEAREST, LARGEST = 0.05, 0.3  # m: cells that patches are judged in
USUAL = 2.5  # distances to the eighth neighbour a cell is wide
AMONG, FEWEST = 20, 8  # neighbours of a point in doubt, and points of a patch at least
FINEST, ROUGHEST = 0.002, 0.03  # m: σ of a patch
THICK, OFF = 2.2, 3.0  # σ: a patch may be thick at most, and a point off it
GRAZING = 0.06  # cosine of a patch to its beams: what is less lies along them, as mixed pixels do
BOUND, GROWN = 3.5, 2.0  # σ off the surface beside it, with that surface's own, which counts so much at most
STRETCH, SPREAD = 4.0, 0.02  # distances to the fifth neighbour, and rad, that a surface is extended at most
LINE, ALONG, ASIDE = 2.5, 0.5, 3.0  # σ across a line, its cosine to the beam, times as long as it is wide
ELSEWHERE, AGAIN, BESIDE = 0.3, 2, 6.0  # m walked on, points from there, within this many σ
BEAM, DIVERGENCE = 0.010, 0.004  # m at the instrument and rad: how near a beam passes what it touches
MARCHED, TOUCHED = 0.06, 1.2  # m: cells that beams are followed through, and cells beside a beam it touches
APART, BEHIND = 0.05, 30.0  # m: surfaces from the point at least, and as far behind it at most
SAMPLE = 20_000


@dataclass
class Surfaces:
    """Cells with sure points: sorted ``code`` (m,), points each ``count`` (m,) and their sums ``total``
    (m, 3) m from ``low`` (3,).
    """

    code: np.ndarray
    count: np.ndarray
    total: np.ndarray

    @classmethod
    def of(cls, xyz: np.ndarray, low: np.ndarray) -> "Surfaces":
        """Of points (n, 3) m, counted from ``low``."""
        code = specks.codes(specks.plain(xyz, MARCHED, low))
        return cls._summed(code, np.ones(len(code), np.int64), xyz - low)

    @classmethod
    def _summed(cls, code: np.ndarray, count: np.ndarray, total: np.ndarray) -> "Surfaces":
        order = np.argsort(code, kind="stable")
        code = code[order]
        start = np.flatnonzero(np.r_[True, code[1:] != code[:-1]][: len(code)])
        if not len(start):
            return cls(code, count, total)
        return cls(code[start], np.add.reduceat(count[order], start), np.add.reduceat(total[order], start))

    @classmethod
    def together(cls, parts: list["Surfaces"]) -> "Surfaces":
        """All of them."""
        return cls._summed(*(np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(cls)))

    @property
    def middle(self) -> np.ndarray:
        """(m, 3) m from ``low``: the mean of each cell's points."""
        return self.total / np.maximum(self.count, 1)[:, None]


@njit(cache=True, nogil=True)
def _plane(points: np.ndarray, out: np.ndarray):
    """Mean, normal, σ across and the two other σ of points (n, 3), into ``out`` (3, 3)."""
    n = len(points)
    m = np.zeros(3)
    for j in range(n):
        m += points[j]
    m /= n
    c = np.zeros((3, 3))
    for j in range(n):
        e = points[j] - m
        for a in range(3):
            for b in range(3):
                c[a, b] += e[a] * e[b]
    w, v = np.linalg.eigh(c / n)
    out[0], out[1] = m, v[:, 0]
    out[2] = np.sqrt(np.maximum(w, 0.0))
    return v


@njit(cache=True, nogil=True, parallel=True)
def _held_by_cells(
    xyz: np.ndarray,
    ways: np.ndarray,
    start: np.ndarray,
    stop: np.ndarray,
    sigma: float,
    out: np.ndarray,
    thick: np.ndarray,
):
    """Mark points of cells (runs of sorted points) that are patches; ``thick`` their σ, NaN for too few."""
    for c in prange(len(start)):
        a, b = start[c], stop[c]
        thick[c] = np.nan
        if b - a < FEWEST:
            continue
        found = np.empty((3, 3))
        _plane(xyz[a:b], found)
        thick[c] = found[2, 0] * np.sqrt((b - a) / (b - a - 3.0))
        if thick[c] > 0.5 * found[2, 1] or sigma <= 0 or thick[c] > THICK * sigma:
            continue
        for i in range(a, b):
            off = abs((xyz[i] - found[0]) @ found[1])
            out[i] = off < OFF * sigma and abs(found[1] @ ways[i]) > GRAZING


@njit(cache=True, nogil=True, parallel=True)
def _held_by_neighbours(
    xyz: np.ndarray, points: np.ndarray, ways: np.ndarray, near: np.ndarray, sigma: float, out: np.ndarray
):
    """Mark points whose neighbours ``near`` (n, k) are a patch that they lie in."""
    for i in prange(len(points)):
        found = np.empty((3, 3))
        _plane(xyz[near[i]], found)
        off = abs((points[i] - found[0]) @ found[1])
        out[i] = found[2, 0] < THICK * sigma and off < OFF * sigma and abs(found[1] @ ways[i]) > GRAZING


@njit(cache=True, nogil=True, parallel=True)
def _continued(
    held: np.ndarray,
    points: np.ndarray,
    ways: np.ndarray,
    near: np.ndarray,
    far: np.ndarray,
    reach: np.ndarray,
    sigma: float,
    out: np.ndarray,
):
    """Mark points that the nearest 6 or 12 held ones lead on to; ``far`` (n, 12) m their distances."""
    for i in prange(len(points)):
        out[i] = False
        for k in (6, 12):
            if out[i] or far[i, k - 1] > reach[i]:
                continue
            found = np.empty((3, 3))
            v = _plane(held[near[i, :k]], found)
            if found[2, 0] > THICK * sigma or abs(found[1] @ ways[i]) < GRAZING:
                continue
            o, grown = points[i] - found[0], 1.0 + 1.0 / k
            for axis in (1, 2):
                grown += (o @ v[:, axis]) ** 2 / max(found[2, axis] ** 2, 1e-9) / k
            out[i] = abs(o @ found[1]) < BOUND * sigma * np.sqrt(min(grown, GROWN))


@njit(cache=True, nogil=True, parallel=True)
def _lines(points: np.ndarray, ways: np.ndarray, near: np.ndarray, sigma: float, out: np.ndarray):
    """Mark points that lie on a line across their beams, of their nearest ``near`` (n, k)."""
    for i in prange(len(points)):
        found = np.empty((3, 3))
        v = _plane(points[near[i]], found)
        o, line = points[i] - found[0], v[:, 2]
        aside = np.sqrt(max(o @ o - (o @ line) ** 2, 0.0))
        thin = found[2, 1] < LINE * sigma and found[2, 2] > ASIDE * found[2, 1]
        out[i] = thin and aside < BOUND * sigma and abs(line @ ways[i]) < ALONG


@njit(cache=True, nogil=True)
def _again(origins: np.ndarray, mine: np.ndarray, starts: np.ndarray, near: np.ndarray, out: np.ndarray):
    for i in range(len(mine)):
        many = 0
        for j in range(starts[i], starts[i + 1]):
            e = origins[near[j]] - origins[mine[i]]
            many += e @ e > ELSEWHERE * ELSEWHERE
        out[i] = many >= AGAIN


def unsure(xyz: np.ndarray, origins: np.ndarray, inner: np.ndarray, strength: float = 1.0) -> np.ndarray:
    """Mask (n,) of the ``inner`` (n,) ones of points (n, 3) m that no surface holds and that were not found
    again from elsewhere; ``origins`` (n, 3) m is where each was measured from.
    """
    out = np.zeros(len(xyz), bool)
    if len(xyz) < 2 * AMONG:
        return out
    ways = xyz - origins
    r = np.linalg.norm(ways, axis=1)
    ways /= np.maximum(r, 1e-9)[:, None]
    tree = cKDTree(xyz, balanced_tree=False, compact_nodes=False)
    some = np.arange(0, len(xyz), max(len(xyz) // SAMPLE, 1))
    usual = float(np.median(tree.query(xyz[some], k=FEWEST + 1)[0][:, -1]))
    held, sigma = _in_cells(xyz, ways, float(np.clip(USUAL * usual, NEAREST, LARGEST)), strength)
    left = np.flatnonzero(~held)
    found = np.empty(len(left), bool)
    far, near = tree.query(xyz[left], k=AMONG + 1)
    _held_by_neighbours(xyz, xyz[left], ways[left], near[:, 1:], sigma, found)
    held[left] = found
    left, far = left[~found], far[~found, 5]
    if held.sum() >= 12 and len(left):
        firm = xyz[held]
        away, near = cKDTree(firm).query(xyz[left], k=12)
        found = np.empty(len(left), bool)
        reach = np.maximum(STRETCH * far, SPREAD * r[left])
        _continued(firm, xyz[left], ways[left], near, away, reach, sigma, found)
        left = left[~found]
    if len(left) > 6:
        near = cKDTree(xyz[left]).query(xyz[left], k=7)[1]
        found = np.empty(len(left), bool)
        _lines(xyz[left], ways[left], near[:, 1:], sigma, found)
        left = left[~found]
    left = left[inner[left]]
    around = tree.query_ball_point(xyz[left], BESIDE * sigma)
    starts = np.r_[0, np.cumsum([len(a) for a in around])].astype(np.int64)
    near = np.concatenate([*around, []]).astype(np.int64)
    found = np.empty(len(left), bool)
    _again(origins, left, starts, near, found)
    out[left[~found]] = True
    return out


def _in_cells(xyz: np.ndarray, ways: np.ndarray, cell: float, strength: float) -> tuple[np.ndarray, float]:
    """Mask (n,) of points in flat cells, and the σ (m) of these, less with more ``strength``."""
    code = specks.codes(specks.plain(xyz, cell, xyz.min(0)))
    order = np.argsort(code, kind="stable")
    code = code[order]
    start = np.flatnonzero(np.r_[True, code[1:] != code[:-1]])
    stop = np.r_[start[1:], len(code)]
    held, thick = np.zeros(len(xyz), bool), np.empty(len(start))
    ordered, ways = xyz[order], ways[order]
    _held_by_cells(ordered, ways, start, stop, 0.0, held, thick)
    known = thick[np.isfinite(thick)]
    sigma = float(np.clip(np.median(known) if len(known) else ROUGHEST, FINEST, ROUGHEST)) / np.sqrt(strength)
    _held_by_cells(ordered, ways, start, stop, sigma, held, thick)
    out = np.empty(len(xyz), bool)
    out[order] = held
    return out, sigma


@njit(cache=True, nogil=True)
def _met(
    code: np.ndarray,
    middle: np.ndarray,
    low: np.ndarray,
    o: np.ndarray,
    d: np.ndarray,
    r: float,
    to: float,
    room: float,
):
    """Whether a beam from ``o`` along ``d`` passes a cell with points between ``r`` and ``to`` (m; before
    ``r`` where ``to`` is less).
    """
    step = 0.9 * MARCHED if to > r else -0.9 * MARCHED
    mask = (1 << specks.BITS) - 1
    for k in range(int(abs(to - r) / abs(step)) + 1):
        s = r + k * step
        place = np.floor((o + s * d - low) / MARCHED)
        for a in range(-1, 2):
            for b in range(-1, 2):
                for c in range(-1, 2):
                    x, y, z = int(place[0]) + a + 1, int(place[1]) + b + 1, int(place[2]) + c + 1
                    if min(x, y, z) < 0 or max(x, y, z) >= mask:
                        continue
                    mine = (x << (2 * specks.BITS)) | (y << specks.BITS) | z
                    q = np.searchsorted(code, mine)
                    if q == len(code) or code[q] != mine:
                        continue
                    e = middle[q] + low - o
                    t = e @ d
                    if abs(t - s) > MARCHED or (t - r) * step < 0:
                        continue
                    aside = np.sqrt(max(e @ e - t * t, 0.0))
                    if aside < room * (BEAM + DIVERGENCE * s) + TOUCHED * MARCHED:
                        return True
    return False


@njit(cache=True, nogil=True, parallel=True)
def _between(
    code: np.ndarray,
    middle: np.ndarray,
    low: np.ndarray,
    xyz: np.ndarray,
    origins: np.ndarray,
    apart: float,
    room: float,
    out: np.ndarray,
):
    for i in prange(len(xyz)):
        d = xyz[i] - origins[i]
        r = np.sqrt(d @ d)
        out[i] = False
        if r > 2 * apart:
            d = d / r
            out[i] = _met(code, middle, low, origins[i], d, r - apart, apart, room) and _met(
                code, middle, low, origins[i], d, r + apart, r + BEHIND, room
            )


def between(
    code: np.ndarray,
    middle: np.ndarray,
    low: np.ndarray,
    xyz: np.ndarray,
    origins: np.ndarray,
    strength: float = 1.0,
) -> np.ndarray:
    """Mask (n,) of points (n, 3) m that lie, seen from ``origins`` (n, 3) m, behind something that their beam
    touched and before something else; ``code`` (m,), ``middle`` (m, 3) m and ``low`` (3,) m as ``Surfaces``.
    """
    out = np.zeros(len(xyz), bool)
    args = (np.ascontiguousarray(a, np.float64) for a in (middle, low, xyz, origins))
    _between(code, *args, APART / strength, strength, out)
    return out
