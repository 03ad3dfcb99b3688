"""How far a photo is turned against what the scanner saw: from edges that both show.

Brightness of a laser's echo and of daylight have little in common but where they change.  Both pictures, laid
on one grid of directions, are cut into tiles; each tile is slid over the other picture to see how well the
directions of gradients agree (as double angles, so that light on dark equals dark on light; after E. Haber
and J. Modersitzki, "Intensity gradient based registration and fusion of multi-modal images", 2006), and the
one turn is taken at which all tiles together agree best: a lone edge says nothing along itself.  From coarse
to fine.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import fft, ndimage, optimize
from scipy.spatial.transform import Rotation

LEVELS = (np.radians(0.4), np.radians(0.15))  # a pixel of the first rounds, before the finest
TILE, SLIDE = 48, 9  # pixels of a tile, and by how many it is slid at most each way
MOST = 700  # tiles of a round
TILTED = np.radians(55)  # above and below, tiles are too bent
SHOWS = 0.03  # of a tile's pixels that must change for it to say anything
GROUPS, FEWEST = 8, 24  # of tiles, for σ; and tiles without which nothing is said
SIGMA = np.radians(0.08)  # a turn known less well is not used
AGREE = 0.45  # of the best agreement that tiles can have: photos of other places reach 0.1 to 0.3
FINE = 1 / 8  # of a pixel: no turn is known better
STANDS_OUT = 4.0  # times the usual spread: the agreement at the turn above that at others
JUMP = 0.05  # of the range, to the next pixel: where one thing ends before another
SOFT = 0.15  # of the typical gradient: weaker ones hardly count


@dataclass
class Turn:
    """``rotation`` (3×3) turns directions in which the photo shows things into those in which the scanner saw
    them; ``sigma`` (rad) is its largest standard deviation, from eight parts of the picture; ``tiles`` were
    compared; ``lead`` is the agreement above that at other turns, in their usual spreads; ``before`` and
    ``after`` (0 to 1) are the shares of the best agreement that is to be had at the finest round.
    """

    rotation: np.ndarray
    sigma: float
    tiles: int
    lead: float
    before: float
    after: float

    @property
    def clear(self) -> bool:
        """Whether the photo's edges say where it looks."""
        return self.tiles >= FEWEST and self.lead > STANDS_OUT and self.after > AGREE and self.sigma < SIGMA

    @property
    def angle(self) -> float:
        """The whole turn (rad)."""
        return float(np.arccos(np.clip((np.trace(self.rotation) - 1) / 2, -1, 1)))

    @property
    def worth(self) -> bool:
        """Whether it is clear and more than its own uncertainty."""
        return self.clear and self.angle > 3 * self.sigma


def ways(rows: int, columns: int, step: float) -> np.ndarray:
    """(rows, columns, 3) directions of a picture's pixels, see ``seen``."""
    up, turn = np.pi / 2 - (np.arange(rows) + 0.5) * step, np.pi - (np.arange(columns) + 0.5) * step
    flat = np.cos(up)[:, None]
    return np.stack(
        [flat * np.cos(turn), flat * np.sin(turn), np.repeat(np.sin(up)[:, None], columns, 1)], -1
    )


def solve(near: np.ndarray, tones: np.ndarray, step: float, show: Callable[..., Any], finest: float) -> Turn:
    """The turn of a photo.  ``near`` and ``tones`` are range and brightness around the camera's place
    (``seen.enter``), ``show(directions (n, 3), step)`` is the photo's brightness there (n,), nan where it
    shows nothing, smoothed to about ``step``; ``finest`` (rad) is its pixel.
    """
    rotation, lead, last = np.eye(3), 0.0, max(finest, step)
    found = None
    for number, level in enumerate((*(v for v in LEVELS if v > 1.2 * last), last, last)):
        bright, depth = _coarser(near, tones, step, level)
        mine = _changes(bright) + _jumps(depth) / 2
        there = ways(*bright.shape, level).reshape(-1, 3)
        theirs = _changes(np.asarray(show(there @ rotation, level)).reshape(bright.shape))
        tiles = _Tiles.of(mine, theirs, level)
        if len(tiles.way) < FEWEST:
            return Turn(np.eye(3), np.inf, len(tiles.way), 0.0, 0.0, 0.0)
        small, above = tiles.best(SLIDE - 1 if number == 0 else 3)
        lead = above if number == 0 else lead
        rotation = Rotation.from_rotvec(small).as_matrix() @ rotation
        found = tiles, small
    tiles, small = found
    whole = Rotation.from_matrix(rotation).as_rotvec()
    best = max(tiles.score.max((1, 2)).sum(), 1e-9)
    before, after = (float(tiles.agreement(v)[0] / best) for v in (small - whole, small))
    return Turn(rotation, tiles.sigma(small), len(tiles.way), lead, before, after)


@dataclass
class _Tiles:
    """Tiles that show something: directions (n, 3) of their middles, ``score`` (n, 2·SLIDE + 1, the same)
    with the photo slid down and right, ``step`` of a pixel (rad).
    """

    way: np.ndarray
    score: np.ndarray
    step: float

    @classmethod
    def of(cls, mine: np.ndarray, theirs: np.ndarray, step: float) -> "_Tiles":
        rows, columns = mine.shape
        places = [
            (top, left)
            for top in range(
                max(int((np.pi / 2 - TILTED) / step), SLIDE),
                min(int((np.pi / 2 + TILTED) / step), rows - SLIDE) - TILE,
                TILE // 2,
            )
            for left in range(SLIDE, columns - TILE - SLIDE, TILE // 2)
        ]
        least, strength = SHOWS * TILE * TILE, []
        for top, left in places:
            a = np.abs(mine[top : top + TILE, left : left + TILE]).sum()
            b = np.abs(theirs[top : top + TILE, left : left + TILE]).sum()
            strength.append(min(a, b))
        strength = np.array(strength)
        use = np.flatnonzero(strength > least)
        if len(use) > MOST:
            use = np.random.default_rng(0).choice(use, MOST, replace=False)
        way, score = [], []
        for top, left in (places[k] for k in use):
            tile = mine[top : top + TILE, left : left + TILE]
            around = theirs[top - SLIDE : top + TILE + SLIDE, left - SLIDE : left + TILE + SLIDE]
            score.append(_correlation(tile, around))
            up, turn = np.pi / 2 - (top + TILE / 2) * step, np.pi - (left + TILE / 2) * step
            way.append([np.cos(up) * np.cos(turn), np.cos(up) * np.sin(turn), np.sin(up)])
        side = 2 * SLIDE + 1
        return cls(np.array(way).reshape(-1, 3), np.array(score).reshape(-1, side, side), step)

    def __post_init__(self) -> None:
        flat = np.hypot(self.way[:, 0], self.way[:, 1])[:, None]
        right = np.stack([self.way[:, 1], -self.way[:, 0], 0 * flat[:, 0]], 1) / flat
        down = np.cross(self.way, right)
        # (n, 2, 3): by how many pixels (down, right) a small turn (rad about x, y, z) moves them
        design = np.stack([np.cross(self.way, down), np.cross(self.way, right) / flat], 1)
        self.design = design / self.step

    def agreement(self, turns: np.ndarray, use: Any = slice(None), order: int = 1) -> np.ndarray:
        """(m,) how well all tiles agree once small turns (m, 3) have taken the slides away."""
        slide = SLIDE - np.einsum("nki,mi->mnk", self.design[use], np.atleast_2d(turns))
        score = self.score[use]
        number = np.broadcast_to(np.arange(len(score)), slide.shape[:2])
        at = np.stack([number, slide[..., 0], slide[..., 1]])
        return ndimage.map_coordinates(score, at, order=order, mode="nearest", prefilter=False).sum(1)

    def best(self, reach: int) -> tuple[np.ndarray, float]:
        """The turn within ``reach`` pixels that agrees best, and by how many spreads it does so."""
        side = np.arange(-reach, reach + 1) * self.step
        turns = np.stack(np.meshgrid(side, side, side, indexing="ij"), -1).reshape(-1, 3)
        found = np.concatenate(
            [self.agreement(part) for part in np.array_split(turns, len(turns) // 100 + 1)]
        )
        middle = np.median(found)
        spread = max(1.4826 * np.median(np.abs(found - middle)), 1e-9)
        start = turns[found.argmax()]
        return self.climb(start), float((found.max() - middle) / spread)

    def climb(self, start: np.ndarray, use: Any = slice(None)) -> np.ndarray:
        """The turn that agrees best near another."""
        first = start + np.vstack([np.zeros(3), 0.7 * self.step * np.eye(3)])
        found = optimize.minimize(
            lambda v: -self.agreement(v, use, 3)[0] if not np.isnan(v).any() else 0.0,
            start,
            method="Nelder-Mead",
            options={"initial_simplex": first, "xatol": self.step / 300, "fatol": 1e-6, "maxiter": 200},
        )
        return found.x

    def sigma(self, turn: np.ndarray) -> float:
        """Largest standard deviation (rad) of a turn, from the turns that groups of tiles would have."""
        group = np.random.default_rng(1).permutation(len(self.way)) % GROUPS
        apart = np.array([self.climb(turn, group != k) - turn for k in range(GROUPS)])
        # the jackknife's: each group left out in its turn
        spread = (GROUPS - 1) / GROUPS * (apart.T @ apart)
        return float(np.sqrt(max(np.linalg.eigvalsh(spread)[-1], (self.step * FINE) ** 2)))


def _coarser(near: np.ndarray, tones: np.ndarray, step: float, level: float) -> tuple[np.ndarray, np.ndarray]:
    """Mean brightness and logarithm of range in cells of ``level``, nan where empty."""
    rows, columns = int(np.ceil(np.pi / level)), int(np.ceil(2 * np.pi / level))
    row, column = np.nonzero(near)
    cell = np.minimum(((row + 0.5) * step / level).astype(int), rows - 1) * columns + np.minimum(
        ((column + 0.5) * step / level).astype(int), columns - 1
    )
    count = np.bincount(cell, minlength=rows * columns).astype(float)
    count[count == 0] = np.nan
    total = lambda v: (np.bincount(cell, v, minlength=rows * columns) / count).reshape(rows, columns)
    return total(tones[row, column].astype(float)), total(np.log(near[row, column].astype(float)))


def _jumps(depth: np.ndarray) -> np.ndarray:
    """Logarithms of range with all but what breaks off taken flat: (rows, columns) gradients as double
    angles.
    """
    right, down = _gradient(depth)
    z = (right + 1j * down) ** 2
    return np.where(np.abs(z) > JUMP**2, z / np.maximum(np.abs(z), 1e-30), 0)


def _gradient(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Changes to the right and down per pixel; 0 beside what is not known."""
    right, down = np.zeros(picture.shape), np.zeros(picture.shape)
    right[:, 1:-1] = (picture[:, 2:] - picture[:, :-2]) / 2
    down[1:-1] = (picture[2:] - picture[:-2]) / 2
    known = np.isfinite(right) & np.isfinite(down) & np.isfinite(picture)
    return np.where(known, right, 0), np.where(known, down, 0)


def _changes(picture: np.ndarray) -> np.ndarray:
    """Directions of gradients as double angles: complex, of length 0 to 1 by how strong they are."""
    right, down = _gradient(picture)
    z = (right + 1j * down) ** 2
    size = np.abs(z)
    if not (size > 0).any():
        return z
    return z / (size + SOFT * np.quantile(size[size > 0], 0.9))


def _correlation(tile: np.ndarray, around: np.ndarray) -> np.ndarray:
    """(2·SLIDE + 1)² agreement of a tile with its surroundings, slid by -SLIDE to SLIDE down and right."""
    size = around.shape
    product = fft.ifft2(fft.fft2(around) * np.conj(fft.fft2(tile, size)))
    return product.real[: 2 * SLIDE + 1, : 2 * SLIDE + 1]
