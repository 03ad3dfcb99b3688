"""One exposure and white balance over all photos, and what passed by before one of them.

Photos that see the same points say how much brighter one is than the other, channel by channel: gains by
least squares on logarithms, robust against what moved or shines (Huber's weights).  Cameras store brightness
along a curve; whether gains belong before it (IEC 61966-2-1, from memory) or to the stored numbers is decided
by what leaves smaller seams.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from scipy import ndimage

DARK, BRIGHT = 8, 245  # of 255: stored values outside say nothing of the exposure
ROUNDS, HUBER = 12, 1.5
FEWEST = 50  # common points without which two photos are not compared
UNLIKE = 28.0  # grey levels: a photo that differs more from the middle of three or more is not believed
ALIKE = 14.0
PASSING, FEWEST_STRANGE = 0.5, 4


def linear(stored: np.ndarray) -> np.ndarray:
    """Brightness (0 to 1) of stored values (0 to 255) by the curve of IEC 61966-2-1. Any shape, kept."""
    s = np.asarray(stored, np.float32) / 255
    return np.where(s <= 0.04045, s / 12.92, ((s + 0.055) / 1.055) ** 2.4)


def stored(light: np.ndarray) -> np.ndarray:
    """The inverse of ``linear``, within 0 to 255."""
    v = np.clip(np.asarray(light, np.float32), 0, 1)
    return 255 * np.where(v <= 0.0031308, v * 12.92, 1.055 * v ** (1 / 2.4) - 0.055)


@dataclass
class Evened:
    """``gains`` (photos, 3) on brightness (``curve``) or on stored values; the median difference (grey
    levels, see ``_seams``) between photos ``before`` and ``after``; ``pairs`` of photos that were compared.
    """

    gains: np.ndarray
    curve: bool
    before: float
    after: float
    pairs: int

    def table(self, photo: int) -> np.ndarray:
        """(256, 3) u8: what becomes of a photo's stored values, at least 1."""
        return _tables(self.gains[photo : photo + 1], self.curve)[0]


def _tables(gains: np.ndarray, curve: bool) -> np.ndarray:
    value = np.arange(256.0)
    if curve:
        table = stored(linear(value)[None, :, None] * gains[:, None, :])
    else:
        table = value[None, :, None] * gains[:, None, :]
    return np.clip(np.rint(table), 1, 255).astype(np.uint8)


def even(rgb: np.ndarray, photo: np.ndarray, count: int) -> Evened:
    """From points seen by several photos: ``rgb`` (points, places, 3) u8 and ``photo`` (points, places), the
    photo's number or -1.
    """
    pairs = _pairs(rgb, photo)
    none = np.ones((count, 3))
    before = _seams(pairs, none, False)
    best = Evened(none, False, before, before, len(pairs))
    for curve in (False, True):
        gains = np.stack([_gains(pairs, k, count, curve) for k in range(3)], 1)
        after = _seams(pairs, gains, curve)
        if after < best.after:
            best = Evened(gains, curve, before, after, len(pairs))
    return best


def _pairs(rgb: np.ndarray, photo: np.ndarray) -> dict[tuple[int, int], tuple[np.ndarray, np.ndarray]]:
    """Stored values (n, 3) of common points, by pair of photos."""
    found: dict[tuple[int, int], list[Any]] = {}
    for a in range(photo.shape[1]):
        for b in range(a + 1, photo.shape[1]):
            both = (photo[:, a] >= 0) & (photo[:, b] >= 0)
            one, two = photo[both, a], photo[both, b]
            for i, j in np.unique(np.stack([one, two], 1), axis=0):
                mine = (one == i) & (two == j)
                ca, cb = rgb[both, a][mine], rgb[both, b][mine]
                found.setdefault((min(i, j), max(i, j)), []).append((ca, cb) if i < j else (cb, ca))
    joined = {k: tuple(np.concatenate(v) for v in zip(*parts)) for k, parts in found.items()}
    return {k: v for k, v in joined.items() if len(v[0]) >= FEWEST}


def _gains(
    pairs: dict[tuple[int, int], tuple[np.ndarray, np.ndarray]], channel: int, count: int, curve: bool
) -> np.ndarray:
    """(count,) gains of one channel, one on average in logarithms."""
    first, second, step, weight = [], [], [], []
    for (i, j), (a, b) in pairs.items():
        a, b = a[:, channel], b[:, channel]
        plain = (np.minimum(a, b) > DARK) & (np.maximum(a, b) < BRIGHT)
        if plain.sum() < FEWEST:
            continue
        a, b = (linear(v[plain]) if curve else v[plain].astype(float) for v in (a, b))
        difference = np.log(a) - np.log(b)
        first.append(i)
        second.append(j)
        step.append(_middle(difference))
        weight.append(min(plain.sum(), 2000))
    if not first:
        return np.ones(count)
    i, j, step, weight = np.array(first), np.array(second), np.array(step), np.array(weight, float)
    robust = np.ones(len(i))
    gain = np.zeros(count)
    for _ in range(ROUNDS):
        normal, right = np.zeros((count, count)), np.zeros(count)
        w = weight * robust
        np.add.at(normal, (i, i), w)
        np.add.at(normal, (j, j), w)
        np.add.at(normal, (i, j), -w)
        np.add.at(normal, (j, i), -w)
        np.add.at(right, i, -w * step)
        np.add.at(right, j, w * step)
        # photos that share nothing with others stay as they are, and all together keep their brightness
        gain = np.linalg.lstsq(normal + 1e-9 * w.mean() * np.eye(count), right, rcond=None)[0]
        off = gain[i] + step - gain[j]
        scale = max(1.4826 * np.median(np.abs(off)), 1e-3)
        robust = np.minimum(1.0, HUBER * scale / np.maximum(np.abs(off), 1e-12))
    told = np.unique(np.r_[i, j])
    gain[told] -= gain[told].mean()
    return np.exp(gain)


def _middle(difference: np.ndarray, least: float = 0.01) -> float:
    """The mean of what lies about the median: finer than it where values are whole numbers."""
    middle = np.median(difference)
    spread = max(1.4826 * np.median(np.abs(difference - middle)), least)
    return float(difference[np.abs(difference - middle) < 2 * spread].mean())


def _seams(
    pairs: dict[tuple[int, int], tuple[np.ndarray, np.ndarray]], gains: np.ndarray, curve: bool
) -> float:
    """Median over common points of the difference (grey levels, largest channel) between their two photos,
    each pair's by the middles of its dark, medium and bright points: what is left of grain and of places a
    little aside averages out, what only suits the medium ones does not.
    """
    tables, apart, count = _tables(gains, curve).astype(float), [], []
    for (i, j), (a, b) in pairs.items():
        plain = (np.minimum(a, b).min(1) > DARK) & (np.maximum(a, b).max(1) < BRIGHT)
        if plain.sum() < FEWEST:
            continue
        a, b = a[plain], b[plain]
        order = np.argsort(a.astype(int).sum(1) + b.astype(int).sum(1), kind="stable")
        off = np.stack([tables[i, a[:, c], c] - tables[j, b[:, c], c] for c in range(3)], 1)[order]
        same = np.abs(off - np.median(off, axis=0)).max(1) < UNLIKE  # not what passed by before one of them
        thirds = np.array_split(off[same] if same.any() else off, 3)
        off = [max(abs(_middle(part[:, c], 0.5)) for c in range(3)) for part in thirds if len(part)]
        apart.append(np.mean(off))
        count.append(len(a))
    if not apart:
        return 0.0
    order = np.argsort(apart)
    total = np.cumsum(np.array(count)[order])
    return float(np.array(apart)[order][np.searchsorted(total, total[-1] / 2)])


@njit(cache=True, nogil=True)
def strangers(rgb: np.ndarray, there: np.ndarray) -> np.ndarray:
    """Which photos show something else at a point than all others: ``rgb`` (points, places, 3) u8 after
    evening, ``there`` (points, places).  (points, places) i8: 1 where a photo differs from the middle of
    three or more of which two agree, 0 where it does not, -1 where that cannot be told.
    """
    count, places = there.shape
    out = np.full((count, places), np.int8(-1))
    value, middle, away = np.empty(places, np.int64), np.empty(3, np.int64), np.empty(places, np.int64)
    for i in range(count):
        n = 0
        for k in range(places):
            n += there[i, k]
        if n < 3:
            continue
        for c in range(3):
            m = 0
            for k in range(places):
                if there[i, k]:
                    at = m
                    while at > 0 and value[at - 1] > rgb[i, k, c]:
                        value[at] = value[at - 1]
                        at -= 1
                    value[at] = rgb[i, k, c]
                    m += 1
            middle[c] = (value[(m - 1) // 2] + value[m // 2]) // 2
        alike = 0
        for k in range(places):
            away[k] = 0
            for c in range(3):
                away[k] = max(away[k], abs(rgb[i, k, c] - middle[c]))
            alike += there[i, k] and away[k] < ALIKE
        if alike >= 2:
            for k in range(places):
                if there[i, k]:
                    out[i, k] = away[k] > UNLIKE
    return out


def passers(strange: np.ndarray, plain: np.ndarray) -> np.ndarray:
    """Cells (rows, columns) of a photo before which something passed by: where at least ``PASSING`` of the
    points that can tell are strange, with a rim of one cell.  Both are counts; columns go round.
    """
    around = lambda v: ndimage.uniform_filter(v.astype(float), 3, mode=("nearest", "wrap")) * 9
    odd, even = around(strange), around(plain)
    core = (strange > 0) & (odd >= FEWEST_STRANGE) & (odd >= PASSING * (odd + even))
    return ndimage.binary_dilation(np.pad(core, 1, mode="wrap"), np.ones((3, 3), bool))[1:-1, 1:-1]
