"""Relief match: rough placements by which way the ground and rough walls slope, where there are few walls in
plan: in the open, in valleys, in caves.

Each cell of the plan holds which way what lies in it faces, as a complex number: the level part of normals.
Turned and laid over each other, all shifts at once by correlation (FFT, one for both components: Fitch,
Kadyrov, Christmas and Kittler 2002, orientation correlation, from memory), two scans of one place agree where
slopes face the same way.  How high the one stands over the other is what most cells of ground say.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from scipy import fft, ndimage

from terrazza.core.geometry import rigid, voxels
from terrazza.core.register.plan_match import PlanShape, judge, shifted, tops
from terrazza.core.register.surface import Lately, Surface

LATELY = Lately(40)
SIDE, HALF = 192, 96  # cells each way: of ground four times the reach, of walls twice
WALLS, GROUND = 0.5, 1.0  # m a cell: of all that faces aside, and of the ground alone
REACH = 48.0  # cells
SLOPING = np.sin(np.radians(2.0))  # what is neither level nor upright to this
# share of a scan's flat surface that slopes, from which it has relief: buildings have 0.02 to 0.12, round
# ones 0.1 to 0.4, banks and valleys 0.3 to 0.9, caves 0.95
LEAST = 0.15
THIN = 0.25  # m: one point in so wide a cell counts
UP = 0.5  # height of a unit normal from which a point is ground
GENTLE = 0.1  # slope from which a cell of ground counts fully
TURNS = np.radians(np.arange(0.0, 360.0, 4.0))
PEAKS, LOOKED_AT, KEPT = 3, 30, 4  # a turn; of all, best first, judged; and kept of these
FEWEST = 10  # cells of ground that tell a height
STEP, HIGHEST = 0.2, 30.0  # m of height
SLACK = 0.4  # m that rough placements are judged with
OTHER = (1.0, np.radians(5.0))  # placements nearer than this are one


@dataclass(frozen=True)
class Relief:
    """Of a scan stood ``upright`` (4, 4): places (n,) m in plan as complex numbers, the level part (n,) of
    the normals there likewise, heights (n,) m, which of them are ``ground``, and the ``share`` of the scan
    that slopes.
    """

    upright: np.ndarray
    place: np.ndarray
    facing: np.ndarray
    height: np.ndarray
    ground: np.ndarray
    share: float

    @classmethod
    def of(cls, surface: Surface, shape: PlanShape) -> "Relief":
        """That of a scan, or of several put together; kept of the last few."""
        return LATELY.of(surface, lambda: cls._found(surface, shape.upright))

    @classmethod
    def _found(cls, surface: Surface, upright: np.ndarray) -> "Relief":
        xyz, normals = rigid.apply(upright, surface.xyz), surface.normals @ upright[:3, :3].T
        level, steep = np.hypot(normals[:, 0], normals[:, 1]), np.abs(normals[:, 2])
        slopes = ((level > SLOPING) & (steep > SLOPING))[surface.flat]
        near = np.flatnonzero(np.hypot(xyz[:, 0], xyz[:, 1]) < REACH * GROUND)
        near = near[voxels.one_per_cell(xyz[near], THIN)]
        xyz, normals = xyz[near], normals[near]
        return cls(
            upright,
            xyz[:, 0] + 1j * xyz[:, 1],
            normals[:, 0] + 1j * normals[:, 1],
            xyz[:, 2],
            normals[:, 2] > UP,
            float(slopes.mean()) if len(slopes) else 0.0,
        )

    @cached_property
    def _of_ground(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places, level parts and heights (m,) of the ground alone: 150 times are asked for them a pair."""
        return self.place[self.ground], self.facing[self.ground], self.height[self.ground]

    def walls(self, turn: float) -> np.ndarray:
        """(SIDE, SIDE) complex: which way all faces in each cell after a ``turn`` (rad), more where more
        does.
        """
        return _faced(self.place, self.facing, turn, WALLS, 0.0)

    def slopes(self, turn: float) -> np.ndarray:
        """(SIDE, SIDE) complex: which way the ground faces in each cell after a ``turn`` (rad), gentle slopes
        less.
        """
        place, facing, _ = self._of_ground
        return _faced(place, facing, turn, GROUND, GENTLE)

    def floor(self, turn: float, shift: complex) -> np.ndarray:
        """(SIDE * SIDE,) m: the mean height of the ground in each cell after a ``turn`` (rad) and a ``shift``
        (m, complex); NaN where there is none.
        """
        place, _, height = self._of_ground
        at = place * np.exp(1j * turn) + shift
        i, j = (np.floor(part / GROUND).astype(np.int64) + HALF for part in (at.real, at.imag))
        inside = (np.minimum(i, j) >= 0) & (np.maximum(i, j) < SIDE)
        cell = (i * SIDE + j)[inside]
        total = np.bincount(cell, height[inside], SIDE * SIDE)
        with np.errstate(invalid="ignore"):
            return total / np.bincount(cell, minlength=SIDE * SIDE)


@njit(cache=True, nogil=True)
def _faced(place: np.ndarray, facing: np.ndarray, turn: float, size: float, gentle: float) -> np.ndarray:
    """(SIDE, SIDE) complex: which way cells of ``size`` m face after a ``turn`` (rad): the mean of what lies
    there, as a unit or, if gentler than ``gentle``, in parts of that; or, where this is 0, the sum by its
    logarithm.
    """
    faced, count = np.zeros((SIDE, SIDE), np.complex64), np.zeros((SIDE, SIDE))
    way = complex(np.cos(turn), np.sin(turn))
    for k in range(len(place)):
        at = place[k] * way
        if abs(at) >= REACH * size:
            continue
        i, j = int(np.floor(at.real / size)) + HALF, int(np.floor(at.imag / size)) + HALF
        faced[i, j] += facing[k] * way
        count[i, j] += 1.0
    for i in range(SIDE):
        for j in range(SIDE):
            if count[i, j] > 0.0:
                length = abs(faced[i, j])
                if gentle > 0.0:
                    faced[i, j] /= max(length, gentle * count[i, j])
                elif length > 0.0:
                    faced[i, j] *= np.log1p(length) / length
    return faced


def candidates(a: tuple[Surface, PlanShape], b: tuple[Surface, PlanShape]) -> list[np.ndarray]:
    """The best rough poses (4, 4) of b in a's frame, best first; none where either has no relief."""
    mine, theirs = Relief.of(*a), Relief.of(*b)
    if min(mine.share, theirs.share) < LEAST:
        return []
    found, back = [], rigid.inverse(mine.upright)
    ground = mine.floor(0.0, 0j)
    for fields, size in ((Relief.walls, WALLS), (Relief.slopes, GROUND)):
        peaks = sorted(_peaks(mine, theirs, fields, size), key=lambda p: -p[0])
        for _, turn, shift in peaks[:LOOKED_AT]:
            if (up := _rise(ground, theirs.floor(turn, shift))) is not None:
                there = rigid.make(rigid.about_z(turn), np.array([shift.real, shift.imag, up]))
                pose = back @ there @ theirs.upright
                found.append((judge(a[1], b[1], pose, SLACK).score, pose))
    return rigid.distinct((pose for _, pose in sorted(found, key=lambda f: -f[0])), OTHER, KEPT)


def _peaks(
    a: Relief, b: Relief, field: Callable[[Relief, float], np.ndarray], size: float
) -> Iterator[tuple[float, float, complex]]:
    """(score, turn rad, shift m as a complex number) of where most faces the same way."""
    still = field(a, 0.0)
    still = ndimage.gaussian_filter(still.real, 1.0) + 1j * ndimage.gaussian_filter(still.imag, 1.0)
    still = fft.fft2(still)
    for turn in TURNS:
        moved = np.conj(fft.fft2(field(b, turn)))
        score = fft.ifft2(still * moved).real
        for i, j in tops(score, PEAKS):
            shift = shifted(_between(score, i, j), SIDE) * size
            yield float(score[i, j]), float(turn), complex(*shift)


def _between(score: np.ndarray, i: int, j: int) -> np.ndarray:
    """(2,) cells: where a peak has its top between cells, by a parabola each way."""
    out = []
    for k, before, here, after in (
        (i, score[i - 1, j], score[i, j], score[(i + 1) % SIDE, j]),
        (j, score[i, j - 1], score[i, j], score[i, (j + 1) % SIDE]),
    ):
        bend = before - 2 * here + after
        out.append(k + (0.5 * (before - after) / bend if np.isfinite(bend) and bend < 0 else 0.0))
    return np.array(out)


def _rise(a: np.ndarray, b: np.ndarray) -> float | None:
    """By how much (m) one ground lies over another in most cells; None where they hardly meet."""
    gap = a - b
    gap = gap[np.abs(gap) < HIGHEST]
    if len(gap) < FEWEST:
        return None
    edges = np.arange(-HIGHEST, HIGHEST + STEP, STEP)
    votes = ndimage.gaussian_filter1d(np.histogram(gap, edges)[0].astype(float), 1.0)
    middle = edges[int(np.argmax(votes))] + STEP / 2
    return float(np.median(gap[np.abs(gap - middle) < 2 * STEP])) if votes.max() > 0 else None
