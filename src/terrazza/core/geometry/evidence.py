"""What a scan itself tells of its unit and of which way is up: evidence for the surveyor, never a decision.

A static scan has the instrument at its origin: the columns of its grid stand upright, no echo comes from
under the tripod, and the floor lies about as deep as a tripod is high.  Other clouds show floors and ceilings
as layers.  Heights are common practice, no source.
"""

from dataclasses import dataclass

import numpy as np

TRIPOD = (0.9, 2.4)
ROOM = (2.1, 6.2)
UNITS = {"metre": 1.0, "foot": 0.3048, "inch": 0.0254, "millimetre": 0.001}
LAYERS = 240
BLIND = np.cos(np.radians(20))


@dataclass(frozen=True)
class Evidence:
    """``up``: the axis that points up (“+z” …), ``unit``: metre, foot (which one cannot be seen), inch or
    millimetre; both with their reason, empty where nothing can be told.
    """

    up: str = ""
    up_reason: str = ""
    unit: str = ""
    unit_reason: str = ""


def read(xyz: np.ndarray, stationed: bool, column: np.ndarray | None = None) -> Evidence:
    """Evidence of a sample (n, 3) in the file's unit; ``stationed``: the instrument was at the origin;
    ``column``: grid column of each point.
    """
    if len(xyz) < 200:
        return Evidence()
    xyz = np.asarray(xyz, float)
    axis, reason = _upright(xyz, column if stationed else None)
    if axis is None:
        return Evidence()
    sign, more = _sign(xyz, axis, stationed)
    up = f"{'+' if sign > 0 else '-'}{'xyz'[axis]}"
    unit, why = _unit(xyz[:, axis] * sign, xyz, axis, stationed)
    return Evidence(up, f"{reason}{more}", unit, why)


def _upright(xyz: np.ndarray, column: np.ndarray | None) -> tuple[int | None, str]:
    if column is not None and len(np.unique(column)) > 20:
        spread = [_column_spread(xyz, column, a) for a in range(3)]
        best = int(np.argmin(spread))
        if spread[best] < 0.5 * np.partition(spread, 1)[1]:
            return best, f"the columns of its grid stand along {'xyz'[best]}"
    shares = [_layers(thin, a) for thin in [_thinned(xyz)] for a in range(3)]
    best = int(np.argmax(shares))
    if shares[best] > 1.25 * np.partition(shares, 1)[1]:
        return best, f"most flat things lie level if {'xyz'[best]} is upright"
    return (2, "nothing speaks against z upright") if shares[2] > 0.8 * shares[best] else (None, "")


def _column_spread(xyz: np.ndarray, column: np.ndarray, axis: int) -> float:
    """Median over columns of how far azimuths about ``axis`` scatter (1 less the mean resultant,
    sign-free).
    """
    a, b = (k for k in range(3) if k != axis)
    double = 2 * np.arctan2(xyz[:, b], xyz[:, a])
    _, which = np.unique(column, return_inverse=True)
    n = np.bincount(which)
    length = np.hypot(np.bincount(which, np.cos(double)), np.bincount(which, np.sin(double))) / n
    return float(np.median(1 - length[n >= 4])) if (n >= 4).any() else 1.0


def _thinned(xyz: np.ndarray) -> np.ndarray:
    """One point a cell of a hundredth of the size, so that near things do not count for more."""
    low, high = np.percentile(xyz, [1, 99], axis=0)
    cell = max(float((high - low).max()) / 100, 1e-12)
    inside = xyz[((xyz >= low) & (xyz <= high)).all(1)]
    _, first = np.unique(
        np.floor((inside - low) / cell).astype(np.int64) @ np.array([1, 1 << 20, 1 << 40]), return_index=True
    )
    return inside[first]


def _layers(thin: np.ndarray, axis: int) -> float:
    """Share of the points in the two fullest layers along an axis, each a hundredth of the largest size
    thick.
    """
    if not len(thin):
        return 0.0
    size = float(np.ptp(thin, 0).max()) or 1.0
    counts = np.bincount(np.floor((thin[:, axis] - thin[:, axis].min()) / (size / 100)).astype(int))
    return float(np.sort(counts)[-2:].sum()) / len(thin)


def _sign(xyz: np.ndarray, axis: int, stationed: bool) -> tuple[int, str]:
    if not stationed:
        return 1, ""
    toward = xyz[:, axis] / np.maximum(np.linalg.norm(xyz, axis=1), 1e-12)
    below, above = int((toward < -BLIND).sum()), int((toward > BLIND).sum())
    if min(below, above) * 8 < max(below, above) and max(below, above) > 20:
        return (1 if below < above else -1), ", and no echo comes from under the tripod"
    steep = xyz[np.abs(toward) > 0.5]
    if len(steep) < 50:
        return 1, ""
    depth = np.median(steep[:, axis])
    return (-1 if depth > 0 else 1), ", and the nearer level things lie below"


def _unit(height: np.ndarray, xyz: np.ndarray, axis: int, stationed: bool) -> tuple[str, str]:
    if stationed:
        flat = np.sqrt(np.maximum((xyz**2).sum(1) - xyz[:, axis] ** 2, 0))
        under = height[(height < 0) & (flat < -2.0 * height)]
        if len(under) >= 50:
            depth = -_fullest(under)
            for unit, factor in UNITS.items():
                if TRIPOD[0] <= depth * factor <= TRIPOD[1]:
                    return (
                        unit,
                        f"the floor lies {depth:.4g} under the instrument: this looks like {_plural(unit)}",
                    )
    thin = _thinned(xyz)
    values = thin[:, axis]
    counts, edges = np.histogram(values, LAYERS)
    first = int(np.argmax(counts))
    away = np.abs(np.arange(LAYERS) - first) > LAYERS // 20
    if not counts.size or counts[first] < 3 * max(np.median(counts), 1) or not away.any():
        return "", ""
    second = int(np.argmax(np.where(away, counts, -1)))
    if counts[second] < 0.25 * counts[first]:
        return "", ""
    room = abs(edges[first] - edges[second])
    for unit, factor in UNITS.items():
        if ROOM[0] <= room * factor <= ROOM[1]:
            return unit, f"room heights come out at {room:.3g}: this looks like {_plural(unit)}"
    return "", ""


def _fullest(values: np.ndarray) -> float:
    """Middle of the fullest layer of heights, a fortieth of their median thick."""
    step = max(abs(float(np.median(values))) / 40, 1e-12)
    index = np.floor(values / step).astype(int)
    counts = np.bincount(index - index.min())
    return float(np.median(values[np.abs(index - index.min() - int(np.argmax(counts))) <= 1]))


def _plural(unit: str) -> str:
    return {
        "metre": "metres",
        "foot": "feet (which of the two cannot be seen)",
        "inch": "inches",
        "millimetre": "millimetres",
    }[unit]
