"""The cloud seen from above as a picture: points gathered into pixels, and the pixels toned.

Four ways of toning: ``density`` (points a square metre), ``intensity`` (mean), ``height`` (of the highest
point), and ``walls``: what stands upright.  For these every cell of a few centimetres notes in which tenths
of a metre of height it holds points; a floor or a ceiling fills one or two, a wall many, so that both are
looked past without knowing where they are.
"""

from typing import Any

import numpy as np
from numba import njit

TONES = ("walls", "density", "intensity", "height")
CELL = 0.04  # m, the least width of a cell in which heights are noted
STOREY = 0.1  # m, one noted height; 64 of them, and then from the first again
# noted heights of what surely is a wall, and of what surely is none: a floor and a ceiling, each on a border
# of two
UPRIGHT, FLAT = 9, 4
INK, PAPER = np.array([23, 31, 31.0]), np.array([237, 230, 209.0])
RAMP = np.array(
    [[44, 110, 143], [108, 122, 46], [233, 197, 59], [180, 81, 47.0]]
)  # low to high, as the table colours heights
DENSE = (
    50.0,
    60_000.0,
)  # points a square metre: the lightest and the darkest tone, in steps of the logarithm


class Sheet:
    """Sums over the pixels of a picture of ``width`` × ``height`` pixels of ``pixel`` metres, its upper left
    corner at ``corner`` (x, y).
    """

    def __init__(self, corner: tuple[float, float], pixel: float, width: int, height: int):
        self.corner, self.pixel = np.asarray(corner, float), pixel
        self.group = max(1, int(np.ceil(CELL / pixel - 1e-9)))
        self.weight, self.tone = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
        self.top = np.full((height, width), -np.inf, np.float32)
        self.heights = np.zeros((-(-height // self.group), -(-width // self.group)), np.uint64)

    def add(
        self,
        counts: np.ndarray,
        scale: np.ndarray,
        offset: np.ndarray,
        pose: np.ndarray,
        intensity: np.ndarray,
        allowed: np.ndarray,
        weight: np.ndarray,
        heights: tuple[float, float],
    ) -> None:
        """Gather points (n, 3) given as whole steps of ``scale`` (3,) m from ``offset`` in a frame that
        ``pose`` maps to the picture's.

        ``intensity`` (n,) from 0 to 1; ``allowed`` (n,) masks them; each stands for ``weight`` (n,) points of
        the cloud; ``heights`` (m) are the lowest and highest that count.
        """
        turn = pose[:3, :3] * scale
        start = pose[:3, :3] @ offset + pose[:3, 3] - [self.corner[0], self.corner[1], 0.0]
        _gather(
            counts,
            turn,
            start,
            self.pixel,
            intensity,
            allowed,
            weight,
            heights[0],
            heights[1],
            self.weight,
            self.tone,
            self.top,
            self.heights,
            self.group,
        )

    def picture(self, how: str, heights: tuple[float, float]) -> np.ndarray:
        """(height, width, 4) u8: toned as ``how`` says, see-through where no point lies; ``heights`` are
        those of the first and the last colour.
        """
        there = self.weight > 0
        out = np.zeros((*there.shape, 4), np.uint8)
        out[..., 3] = np.where(there, 255, 0)
        if how in ("density", "walls"):
            dark = _between(np.log(np.maximum(self.weight / self.pixel**2, 1e-9)), *np.log(DENSE))
            if how == "walls":
                upright = _between(np.bitwise_count(self.heights).astype(np.float32), FLAT, UPRIGHT)
                upright = np.repeat(np.repeat(upright, self.group, 0), self.group, 1)[
                    : there.shape[0], : there.shape[1]
                ]
                dark = 0.06 + 0.16 * dark + 0.78 * upright
            out[..., :3] = INK
            out[..., 3] = np.where(there, np.clip(255 * np.clip(dark, 0.05, 1), 0, 255), 0)
        elif how == "intensity":
            tone = _between(self.tone / np.maximum(self.weight, 1e-9), 0, 1)[..., None] ** 0.8
            out[..., :3] = INK + (PAPER - INK) * tone
        else:
            place = _between(np.where(there, self.top, heights[0]), *heights) * (len(RAMP) - 1)
            low = np.minimum(place.astype(int), len(RAMP) - 2)
            out[..., :3] = RAMP[low] + (RAMP[low + 1] - RAMP[low]) * (place - low)[..., None]
        return out


def _between(values: np.ndarray, low: float, high: float) -> np.ndarray:
    return np.clip((values - low) / max(high - low, 1e-9), 0, 1)


@njit(cache=True, nogil=True)
def _gather(
    counts: Any,
    turn: np.ndarray,
    start: np.ndarray,
    pixel: float,
    intensity: np.ndarray,
    allowed: np.ndarray,
    weight: np.ndarray,
    low: float,
    high: float,
    weights: np.ndarray,
    tones: np.ndarray,
    tops: np.ndarray,
    heights: np.ndarray,
    group: int,
):
    rows, columns = weights.shape
    for k in range(len(counts)):
        if not allowed[k]:
            continue
        a, b, c = float(counts[k, 0]), float(counts[k, 1]), float(counts[k, 2])
        z = turn[2, 0] * a + turn[2, 1] * b + turn[2, 2] * c + start[2]
        if z < low or z > high:
            continue
        x = (turn[0, 0] * a + turn[0, 1] * b + turn[0, 2] * c + start[0]) / pixel
        y = -(turn[1, 0] * a + turn[1, 1] * b + turn[1, 2] * c + start[1]) / pixel
        if x < 0 or y < 0 or x >= columns or y >= rows:
            continue
        i, j = int(y), int(x)
        weights[i, j] += weight[k]
        tones[i, j] += weight[k] * intensity[k]
        tops[i, j] = max(tops[i, j], z)
        heights[i // group, j // group] |= np.uint64(1) << np.uint64(int(np.floor(z / STOREY)) % 64)


def main_direction(xy: np.ndarray, cell: float = 0.05) -> float:
    """The direction (rad, from −45° to 45°) along which walls run in plan points (n, 2, m): where they crowd
    most into lines along and across it; 0 where there are too few.

    Crowding is the sum of squared counts in strips of ``cell`` metres along both axes, looked for in steps of
    a degree and then of a twentieth.
    """
    near = xy[(np.abs(xy) < 60).all(1)]
    if len(near) < 200:
        return 0.0
    near = near[:: max(len(near) // 20_000, 1)]

    def crowding(angle: float) -> float:
        c, s = np.cos(angle), np.sin(angle)
        places = (near[:, 0] * c + near[:, 1] * s, near[:, 1] * c - near[:, 0] * s)
        return float(
            sum(
                (np.bincount(np.floor((p - p.min()) / cell).astype(int)).astype(float) ** 2).sum()
                for p in places
            )
        )

    coarse = np.radians(np.arange(-45.0, 45.0, 1.0))
    best = coarse[int(np.argmax([crowding(a) for a in coarse]))]
    fine = best + np.radians(np.arange(-1.0, 1.001, 0.05))
    return float(fine[int(np.argmax([crowding(a) for a in fine]))])
