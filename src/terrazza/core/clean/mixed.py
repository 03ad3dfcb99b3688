"""Mixed pixels: points that a beam measured between two surfaces because it met both.

A mixed pixel lies, along some line through it in the scan's own grid, between a nearer and a farther surface
(by more than the noise lets expect), and continues neither.  A plane seen in a grid of equal angles is nearly
linear in the reciprocal range, so what a surface lets expect at a pixel is extrapolated from its three
nearest pixels in 1/r; the tolerance grows with the noise at that range and with the step from pixel to pixel,
that is with incidence and the width of the beam.  Points that any surface beside them continues to are good,
as are those that lie before everything around them, however thin what they lie on.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy import ndimage

EDGES = np.array([0.0, 2.0, 4.0, 8.0, 12.0, 16.0, 24.0, 32.0, 48.0, 64.0, 1e9])  # m: bands of the noise
FEWEST = 400  # differences that a band's noise is taken from
FINEST = 0.0004  # m: no noise is thought to be less
WITHIN = 3  # pixels to either side in which the two surfaces are looked for
STEP = 4.0  # σ that a surface has to be nearer or farther at least
LEAST = 0.03  # m, the same
FIT = 3.5  # σ of the extrapolation that a continuation may be off
SLOPE = 0.35  # and the share of the step from pixel to pixel
CURVE = 2.0  # and of how much that step grows, where a surface bends away
# A mixed pixel lies anywhere between two surfaces; what is this near behind the pixel beside it, as a share
# of the way to the farther surface, is more likely the limb of a round thing.
BESIDE = 0.012
RUNS, STRAIGHT = 1, 0.08  # straight runs that lead to a firm pixel, and how far a step may bend them
TOGETHER = 2  # firm pixels of the nine around one, itself too
AROUND, ROUGH, BUSY = 9, 5.0, 0.45  # pixels, σ and share of what is rough both ways
ALIKE = 2  # pairs of pixels on either side that a narrow thing lies between
# σ of what three, or two, pixels in a row let expect at the next, with that pixel's own
THREE, TWO = np.sqrt(1 + 16 / 9 + 1 / 9 + 4 / 9), np.sqrt(6.0)
UNKNOWN, GOOD, MIXED = 0, 1, 2


@dataclass(frozen=True)
class Noise:
    """Standard deviation of ranges (m) by range: ``at`` (m) and ``sigma`` there."""

    at: np.ndarray
    sigma: np.ndarray

    def __call__(self, r: np.ndarray) -> np.ndarray:
        return np.interp(r, self.at, self.sigma)


def noise(r: np.ndarray) -> Noise:
    """The noise of a range picture (rows, columns; m, 0 where there is none), from second differences of the
    reciprocal range, which planes have none of; robust against edges as long as most pixels lie on surfaces.
    """
    step = max(r.size // 4_000_000, 1)
    some = r[:: int(np.ceil(np.sqrt(step)))] if step > 1 else r
    at, sigma = [], []
    middle = some[:, 1:-1]
    there = (some[:, :-2] > 0) & (middle > 0) & (some[:, 2:] > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        bend = (1 / some[:, :-2] + 1 / some[:, 2:] - 2 / middle) * middle.astype(float) ** 2
    for low, high in zip(EDGES[:-1], EDGES[1:]):
        mine = np.abs(bend[there & (middle >= low) & (middle < high)])
        if len(mine) >= FEWEST:
            at.append(float(np.median(middle[there & (middle >= low) & (middle < high)])))
            sigma.append(max(float(np.median(mine)) / 0.6745 / TWO, FINEST))
    if not at:
        at, sigma = [1.0], [0.003]
    return Noise(np.array(at), np.minimum(np.array(sigma), 0.03))


@njit(cache=True, nogil=True, inline="always")
def _value(r: np.ndarray, i: int, j: int, di: int, dj: int, k: int, wrap: bool):
    rows, columns = r.shape
    a, b = i + k * di, j + k * dj
    if a < 0 or a >= rows:
        return 0.0
    if b < 0 or b >= columns:
        if not wrap:
            return 0.0
        b %= columns
    return r[a, b]


@njit(cache=True, nogil=True)
def _continued(
    r: np.ndarray,
    i: int,
    j: int,
    di: int,
    dj: int,
    wrap: bool,
    sigma: float,
    strength: float,
    fit: float,
    slope: float,
    curve: float,
):
    """Whether the pixels beside (i, j) in one direction go on to it as one surface."""
    one, two = _value(r, i, j, di, dj, 1, wrap), _value(r, i, j, di, dj, 2, wrap)
    if one <= 0 or two <= 0:
        return False
    own, three = r[i, j], _value(r, i, j, di, dj, 3, wrap)
    room = slope * abs(one - two)
    if three > 0:
        # three pixels that are one surface themselves: no step among them that dwarfs or reverses the other
        first, second, slack = abs(one - two), abs(two - three), 2 * 2.45 * sigma
        if second > 2 * first + slack or first > 3 * second + slack:
            return False
        if (one - two) * (two - three) < 0 and max(first, second) > slack:
            return False
        expected = 1 / (4 / (3 * one) + 1 / (3 * two) - 2 / (3 * three))
        off = fit * 1.826 * sigma
        grown = abs(one - 2 * two + three) - 2 * 2.45 * sigma  # beyond what noise makes of it
        if grown > 0:
            room += curve * grown
    else:
        expected = 1 / (2 / one - 1 / two)
        off = fit * 2.45 * sigma
    return expected > 0 and abs(expected - own) < (off + room) / strength


@njit(cache=True, nogil=True, parallel=True)
def _supported(r: np.ndarray, sigma: np.ndarray, wrap: bool, fit: float, out: np.ndarray):
    """Mark pixels that two straight runs of pixels beside them, or pairs on either side, go on to."""
    rows, columns = r.shape
    for i in prange(rows):
        for j in range(columns):
            out[i, j] = 0
            if r[i, j] <= 0:
                continue
            s, runs = sigma[i, j], 0
            for d in range(8):
                di, dj = (0, 1, 1, 1, 0, -1, -1, -1)[d], (1, 1, 0, -1, -1, -1, 0, 1)[d]
                runs += _continued(r, i, j, di, dj, wrap, s, 1.0, fit, STRAIGHT, 0.0)
                if runs >= RUNS:
                    out[i, j] = 1
                    break
            if out[i, j] == 0:  # a narrow thing, that runs along none of the grid's lines
                alike, own = 0, r[i, j]
                for d in range(12):
                    di = (0, 0, 1, 1, 1, 1, 1, 2, 2, 2, 2, 2)[d]
                    dj = (1, 2, -2, -1, 0, 1, 2, -2, -1, 0, 1, 2)[d]
                    a, b = _value(r, i, j, di, dj, 1, wrap), _value(r, i, j, -di, -dj, 1, wrap)
                    if a > 0 and b > 0 and abs(a - b) < 0.1 * own:
                        off = abs(1 / a + 1 / b - 2 / own) * own * own
                        alike += off < fit * 2.45 * s
                out[i, j] = alike >= ALIKE


@njit(cache=True, nogil=True, parallel=True)
def _between(
    r: np.ndarray,
    sigma: np.ndarray,
    firm: np.ndarray,
    busy: np.ndarray,
    wrap: bool,
    strength: float,
    within: int,
    step: float,
    least: float,
    fit: float,
    slope: float,
    curve: float,
    out: np.ndarray,
):
    rows, columns = r.shape
    for i in prange(rows):
        for j in range(columns):
            out[i, j] = 0
            own = r[i, j]
            if own <= 0:
                continue
            out[i, j] = 1
            if busy[i, j]:
                continue
            s = sigma[i, j]
            apart = max(step * s, least) / strength
            for d in range(4):
                di, dj = (0, 1, 1, 1)[d], (1, 1, 0, -1)[d]
                low_a = low_b = 1e9  # the nearest and farthest firm thing on each side
                high_a = high_b = -1.0
                for k in range(1, within + 1):
                    a, b = _value(r, i, j, -di, -dj, k, wrap), _value(r, i, j, di, dj, k, wrap)
                    if a > 0 and _value(firm, i, j, -di, -dj, k, wrap) > 0:
                        low_a, high_a = min(low_a, a), max(high_a, a)
                    if b > 0 and _value(firm, i, j, di, dj, k, wrap) > 0:
                        low_b, high_b = min(low_b, b), max(high_b, b)
                wide = 0.0
                if low_a < own - apart and high_b > own + apart:
                    wide = high_b - low_a
                if low_b < own - apart and high_a > own + apart:
                    wide = max(wide, high_a - low_b)
                if wide == 0.0:
                    continue
                a, b = _value(r, i, j, -di, -dj, 1, wrap), _value(r, i, j, di, dj, 1, wrap)
                room = BESIDE * wide / strength
                if 0 < own - a < room or 0 < own - b < room:
                    continue
                if _continued(r, i, j, di, dj, wrap, s, strength, fit, slope, curve) or _continued(
                    r, i, j, -di, -dj, wrap, s, strength, fit, slope, curve
                ):
                    continue
                out[i, j] = 2
                break


@njit(cache=True, nogil=True, parallel=True)
def _rescued(
    r: np.ndarray,
    sigma: np.ndarray,
    state: np.ndarray,
    wrap: bool,
    strength: float,
    fit: float,
    slope: float,
    curve: float,
    out: np.ndarray,
):
    """Take back those that surfaces of good pixels go on to."""
    rows, columns = r.shape
    for i in prange(rows):
        for j in range(columns):
            out[i, j] = state[i, j]
            if state[i, j] != 2:
                continue
            for d in range(8):
                di, dj = (0, 1, 1, 1, 0, -1, -1, -1)[d], (1, 1, 0, -1, -1, -1, 0, 1)[d]
                good = True
                for k in range(1, 4):
                    if _value(state, i, j, di, dj, k, wrap) != 1:
                        good = False
                        break
                if good and _continued(r, i, j, di, dj, wrap, sigma[i, j], strength, fit, slope, curve):
                    out[i, j] = 1
                    break


def _busy(r: np.ndarray, sigma: np.ndarray, wrap: bool) -> np.ndarray:
    """Mask of the pixels in whose surroundings hardly anything is smooth both ways: leaves, of which each is
    an edge and none mixed.
    """
    rough = np.ones(r.shape, bool)
    for axis in (0, 1):
        a, b = np.roll(r, 1, axis), np.roll(r, -1, axis)
        with np.errstate(divide="ignore", invalid="ignore"):
            bend = np.abs(1 / a + 1 / b - 2 / r) * r * r
        rough &= ~((a > 0) & (b > 0) & (r > 0)) | (bend > ROUGH * TWO * sigma)
    rough &= r > 0
    mode = ("nearest", "wrap" if wrap else "nearest")
    share = ndimage.uniform_filter(rough.astype(np.float32), AROUND, mode=mode)
    there = ndimage.uniform_filter((r > 0).astype(np.float32), AROUND, mode=mode)
    return share > BUSY * np.maximum(there, 1e-6)


def judge(r: np.ndarray, wrap: bool, strength: float = 1.0, told: Noise | None = None) -> np.ndarray:
    """State (rows, columns) u8 of each pixel of a range picture: 0 nothing there, 1 good, 2 mixed.

    ``r`` (rows, columns) f32 in m, 0 where there is none; ``wrap`` says that the last column is beside the
    first.  ``strength`` 1 is usual; 2 takes what is half as far from a surface and continues it half as well,
    0.5 only what is twice as far.
    """
    r = np.ascontiguousarray(r, np.float32)
    sigma = (told or noise(r))(r).astype(np.float32)
    firm, state, out = (np.empty(r.shape, np.uint8) for _ in range(3))
    _supported(r, sigma, wrap, FIT, firm)
    mode = ("nearest", "wrap" if wrap else "nearest")
    around = ndimage.uniform_filter(firm.astype(np.float32), 3, mode=mode)
    firm &= around * 9 > TOGETHER - 0.5
    busy = _busy(r, sigma, wrap)
    _between(r, sigma, firm, busy, wrap, strength, WITHIN, STEP, LEAST, FIT, SLOPE, CURVE, state)
    _rescued(r, sigma, state, wrap, strength, FIT, SLOPE, CURVE, out)
    return out
