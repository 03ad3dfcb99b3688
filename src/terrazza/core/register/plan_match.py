"""Plan match: rough alignment of two levelled scans from their shapes seen in plan.

Turn: the headings of upright surfaces form a histogram; where two
histograms agree is a likely turn.  Shift: pictures of the upright surfaces, one per
quarter of heading, are slid over each other by correlation (FFT).  Height:
levels of floors and ceilings that come to lie over each other vote.  The best
are slid once more over pictures of 5 cm, because a fit slides along walls where it
begins too far off, and every candidate is judged by what each scan saw as free space.
"""

import itertools
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from scipy import fft, ndimage

from terrazza.core.geometry import rigid, voxels
from terrazza.core.georef.level import level
from terrazza.core.register.surface import Lately, Surface

LATELY = Lately(6)
CELL = 0.20
SIDE = 512
REACH = 24.0
FINE_SIDE = 976  # twice the reach in cells of 5 cm, and a margin
PEAKS, BESIDE = 40, 3
QUICK, CLOSELY = 500, 16
LEVEL_CELL = 0.4
FINE, SPAN, SLID = 0.05, 14, 1200  # m a cell, cells each way (0.7 m), cells of a scan that are slid
VIEWS = 5  # of a map's scans that judge
ABOUT_AS_GOOD = 0.85  # of the best score: a second place that is tried too
LEANING = np.radians(8.0)  # farther from upright no instrument is set up
AGREEING = np.radians(1.0)  # of their median: normals of floors and ceilings that tell which way is up
STEADY = np.radians(0.05)  # a lean below this is left as it is


@dataclass
class Candidate:
    """A likely ``pose`` of b in a's frame; ``agree`` and ``against`` are shares of judged points; ``score``
    ranks.
    """

    pose: np.ndarray
    agree: float
    against: float
    score: float


class PlanShape:
    """The upright surfaces of one scan as headings and, turned by any angle, as four pictures."""

    def __init__(self, surface: Surface):
        self.upright = rigid.make(_upright(surface), np.zeros(3))
        sample_of, surface = (
            surface,
            Surface(
                rigid.apply(self.upright, surface.xyz),
                surface.normals @ self.upright[:3, :3].T,
                surface.flat,
                surface.view,
                surface.spacing,
            ),
        )
        near = np.linalg.norm(surface.xyz[:, :2], axis=1) < REACH
        upright = surface.flat & near & (np.abs(surface.normals[:, 2]) < 0.25)
        self.xy, self.normals = surface.xyz[upright, :2], surface.normals[upright, :2]
        level = surface.flat & near & (np.abs(surface.normals[:, 2]) > 0.9)
        index = np.flatnonzero(level)
        index = index[voxels.one_per_cell(surface.xyz[index] * [1.0, 1.0, 4.0], 0.4)]
        self.level, self.up = np.ascontiguousarray(surface.xyz[index]), surface.normals[index, 2] > 0
        ij = np.floor(self.level[:, :2] / LEVEL_CELL).astype(np.int64) + 5000
        keys, z = (
            (ij[:, 0] * 20000 + ij[:, 1]) * 2 + self.up,
            np.rint(self.level[:, 2] / 0.05).astype(np.int64),
        )
        order = np.lexsort((z, keys))
        self.level_keys, self.level_z = keys[order], z[order]
        rng = np.random.default_rng(1)
        pick = rng.choice(len(surface.xyz), min(2500, len(surface.xyz)), replace=False)
        self.sample, self.views = (
            np.ascontiguousarray(sample_of.xyz[pick]),
            [(surface.view, np.eye(4))] if surface.view is not None else [],
        )
        heading = np.degrees(np.arctan2(self.normals[:, 1], self.normals[:, 0])) % 360
        cells = np.unique(np.c_[np.floor(self.xy / 0.1), np.floor(heading / 3)].astype(int), axis=0)
        histogram = np.bincount((cells[:, 2] * 3 + 1) % 360, minlength=360).astype(float)
        self.headings = ndimage.gaussian_filter1d(histogram, 2.0, mode="wrap")

    @classmethod
    def of_map(
        cls, surfaces: list[Surface], poses: list[np.ndarray], centre: np.ndarray
    ) -> tuple["PlanShape", Surface]:
        """The shape of several placed scans together, and their surface, in a frame about ``centre``; they
        are judged by the views of ``VIEWS`` of them. Poses (4, 4), ``centre`` (3,) m.
        """
        shift = rigid.make(np.eye(3), -centre)
        xyz = np.concatenate([rigid.apply(shift @ p, s.xyz) for s, p in zip(surfaces, poses)])
        normals, flat = (
            np.concatenate([s.normals @ p[:3, :3].T for s, p in zip(surfaces, poses)]),
            np.concatenate([s.flat for s in surfaces]),
        )
        near = np.flatnonzero(np.linalg.norm(xyz[:, :2], axis=1) < REACH)
        keep = near[voxels.one_per_cell(xyz[near], surfaces[0].spacing)]
        merged = Surface(xyz[keep], normals[keep], flat[keep], None, surfaces[0].spacing)
        shape = cls(merged)
        nearest = np.argsort([np.linalg.norm(p[:3, 3] - centre) for p in poses])[:VIEWS]
        shape.views = [(surfaces[k].view, rigid.inverse(shift @ poses[k])) for k in nearest]
        return shape, merged

    @cached_property
    def look(self) -> np.ndarray:
        """(36,) what a place looks like whatever the turn: how far its walls are, how they are spread over
        headings, how far up and down it goes.
        """
        far = np.histogram(np.hypot(self.xy[:, 0], self.xy[:, 1]), bins=np.linspace(0, REACH, 21))[0] / max(
            len(self.xy), 1
        )
        spread = np.abs(fft.rfft(self.headings))[1:13]
        heights = np.quantile(self.level[:, 2], [0.05, 0.5, 0.95]) if len(self.level) else np.zeros(3)
        return np.r_[
            2 * far, spread / max(self.headings.sum(), 1e-9), 0.1 * heights, min(len(self.xy) / 1e5, 1.0)
        ]

    @property
    def spectrum(self) -> np.ndarray:
        """Spectra of the four pictures as they stand, a little blurred; kept of the last few shapes only,
        because they are large.
        """
        return LATELY.of(
            self, lambda: fft.rfft2(ndimage.gaussian_filter(self.pictures(0.0), (0, 1, 1)), workers=2)
        )

    def cells(self, angle: float) -> tuple[np.ndarray, np.ndarray]:
        """Quarters (n,) and cells (n, 2) of ``FINE`` that hold upright surface, after turning by ``angle``
        (rad), each once.
        """
        r = rigid.about_z(angle)[:2, :2]
        ij, n = np.floor(self.xy @ r.T / FINE).astype(np.int64) + FINE_SIDE // 2, self.normals @ r.T
        quarter = np.where(
            np.abs(n[:, 0]) > np.abs(n[:, 1]), np.where(n[:, 0] > 0, 0, 1), np.where(n[:, 1] > 0, 2, 3)
        )
        key = np.unique((quarter * FINE_SIDE + ij[:, 0]) * FINE_SIDE + ij[:, 1])
        return key // FINE_SIDE**2, np.stack([key // FINE_SIDE % FINE_SIDE, key % FINE_SIDE], 1)

    def walls(self) -> np.ndarray:
        """(4, FINE_SIDE, FINE_SIDE) uint8: 2 where upright surface of a quarter lies, 1 beside it."""
        quarter, ij = self.cells(0.0)
        out = np.zeros((4, FINE_SIDE, FINE_SIDE), np.uint8)
        for di in (-1, 0, 1):
            for dj in (-1, 0, 1):
                out[quarter, ij[:, 0] + di, ij[:, 1] + dj] = 1
        out[quarter, ij[:, 0], ij[:, 1]] = 2
        return out

    def pictures(self, angle: float) -> np.ndarray:
        """(4, SIDE, SIDE) pictures of the walls that face the four quarters, after turning by ``angle``
        (rad).
        """
        r = rigid.about_z(angle)[:2, :2]
        xy, n = self.xy @ r.T, self.normals @ r.T
        ij = np.floor(xy / CELL).astype(int) + SIDE // 2
        out = np.zeros((4, SIDE, SIDE), np.float32)
        for k, (axis, sign) in enumerate(((0, 1), (0, -1), (1, 1), (1, -1))):
            chosen = n[:, axis] * sign > 0.6
            flat = ij[chosen, 0] * SIDE + ij[chosen, 1]
            out[k] = np.bincount(flat, minlength=SIDE * SIDE).reshape(SIDE, SIDE)
        return np.log1p(out)


def likely_turns(a: PlanShape, b: PlanShape, most: int = 8) -> list[float]:
    """Angles (rad) by which b's headings, turned, agree with a's; best first."""
    fa, fb = fft.rfft(a.headings - a.headings.mean()), fft.rfft(b.headings - b.headings.mean())
    match = fft.irfft(fa * np.conj(fb), 360)
    turns = []
    for k in np.argsort(-match):
        if match[k] < 0.15 * match.max() or len(turns) >= most:
            break
        if all(min(abs(k - t), 360 - abs(k - t)) > 6 for t in turns):
            before, here, after = match[k - 1], match[k], match[(k + 1) % 360]
            bend = before - 2 * here + after
            turns.append(float(k) + (0.5 * (before - after) / bend if bend < 0 else 0.0))
    return [float(np.radians(t)) for t in turns]


def candidates(a: PlanShape, b: PlanShape, keep: int = 4, turns: int = 8) -> list[Candidate]:
    """The best rough poses of b in a's frame under so many ``turns``, judged from both sides; empty where the
    scans share nothing.
    """
    if min(len(a.xy), len(b.xy)) < 100:
        return []
    found: list[tuple[float, float, np.ndarray]] = []
    back = rigid.inverse(a.upright)

    def posed(turn: float, *shift: float) -> np.ndarray:
        return back @ rigid.make(rigid.about_z(turn), np.array(shift)) @ b.upright

    for turn in likely_turns(a, b, turns):
        fb = fft.rfft2(b.pictures(turn), workers=2)
        match = fft.irfft2((a.spectrum * np.conj(fb)).sum(0), (SIDE, SIDE), workers=2)
        for dx, dy in _peaks(match):
            for dz in heights(a, b, turn, dx, dy):
                found.append(
                    (judge(a, b, posed(turn, dx, dy, dz), 0.30, QUICK).score, turn, np.array([dx, dy, dz]))
                )
    found.sort(key=lambda c: -c[0])
    walls, close, turned = a.walls(), [], {}
    for _, turn, shift in found[:CLOSELY]:
        if turn not in turned:
            turned[turn] = walls_to_slide(b, turn)
        for dx, dy in slid(walls, *turned[turn], shift):
            close.append(judge(a, b, posed(turn, dx, dy, shift[2]), 0.15))
    close.sort(key=lambda c: -c.score)
    return [c for c in close[:keep] if c.agree > 0.03]


def _upright(surface: Surface) -> np.ndarray:
    """3×3 turn that stands a scan upright by its floors and ceilings; none where there are not enough of
    them, or none that agree.
    """
    n = surface.normals[surface.flat & (np.abs(surface.normals[:, 2]) > np.cos(LEANING))]
    n = n * np.sign(n[:, 2:])
    if len(n) < 300:
        return np.eye(3)
    middle = np.median(n, axis=0)
    near = n @ (middle / np.linalg.norm(middle)) > np.cos(AGREEING)
    if near.sum() < 0.4 * len(n):
        return np.eye(3)
    up = n[near].mean(0)
    up /= np.linalg.norm(up)
    return np.eye(3) if np.hypot(up[0], up[1]) < STEADY else level(up)


def walls_to_slide(shape: PlanShape, turn: float) -> tuple[np.ndarray, np.ndarray]:
    """Quarters (n,) and cells (n, 2) of some of a shape's walls after a ``turn`` (rad), for ``slid``."""
    quarter, ij = shape.cells(turn)
    step = max(1, len(ij) // SLID)
    return np.ascontiguousarray(quarter[::step]), np.ascontiguousarray(ij[::step])


@njit(cache=True, nogil=True)
def _overlay(
    walls: np.ndarray, quarter: np.ndarray, ij: np.ndarray, di: int, dj: int, span: int, score: np.ndarray
):
    side = walls.shape[1]
    for k in range(len(quarter)):
        for u in range(-span, span + 1):
            i = ij[k, 0] + di + u
            if i < 0 or i >= side:
                continue
            for v in range(-span, span + 1):
                j = ij[k, 1] + dj + v
                if 0 <= j < side:
                    score[u + span, v + span] += walls[quarter[k], i, j]


def slid(
    walls: np.ndarray, quarter: np.ndarray, ij: np.ndarray, shift: np.ndarray
) -> list[tuple[float, float]]:
    """Up to two places (m) near a shift where walls lie over walls to the cell."""
    score = np.zeros((2 * SPAN + 1, 2 * SPAN + 1))
    at = np.rint(shift[:2] / FINE).astype(np.int64)
    _overlay(walls, quarter, ij, at[0], at[1], SPAN, score)
    out: list[tuple[float, float]] = []
    best = score.max()
    for _ in range(2):
        u, v = np.unravel_index(np.argmax(score), score.shape)
        if score[u, v] < ABOUT_AS_GOOD * best or best == 0:
            break
        out.append(((at[0] + u - SPAN) * FINE, (at[1] + v - SPAN) * FINE))
        score[max(u - 4, 0) : u + 5, max(v - 4, 0) : v + 5] = -1
    return out


def tops(match: np.ndarray, most: int) -> Iterator[tuple[int, int]]:
    """The cells of the ``most`` highest places of a correlation (n, n), which closes on itself, none within
    ``BESIDE`` cells of another, highest first; what has been passed is taken out of it.
    """
    for _ in range(most):
        i, j = divmod(int(np.argmax(match)), match.shape[1])
        yield i, j
        rows, columns = (np.arange(k - BESIDE, k + BESIDE + 1) % len(match) for k in (i, j))
        match[np.ix_(rows, columns)] = -np.inf


def shifted(at: np.ndarray, side: int) -> np.ndarray:
    """Shifts, in cells, that places in a correlation of so many cells each way stand for."""
    return np.asarray(at) - side * (np.asarray(at) >= side // 2)


def _peaks(match: np.ndarray) -> list[tuple[float, float]]:
    """Shifts (m) of the highest places of a correlation that say anything for one."""
    found = itertools.takewhile(lambda at: match[at] > 0, tops(match, PEAKS))
    return [(float(x), float(y)) for x, y in (shifted(np.array(at), SIDE) * CELL for at in found)]


@njit(cache=True, nogil=True)
def _vote(
    keys: np.ndarray,
    z: np.ndarray,
    xy: np.ndarray,
    heights: np.ndarray,
    up: np.ndarray,
    c: float,
    s: float,
    dx: float,
    dy: float,
    cell: float,
    votes: np.ndarray,
):
    for i in range(len(xy)):
        x, y = c * xy[i, 0] - s * xy[i, 1] + dx, s * xy[i, 0] + c * xy[i, 1] + dy
        key = ((np.int64(np.floor(x / cell)) + 5000) * 20000 + np.int64(np.floor(y / cell)) + 5000) * 2 + up[
            i
        ]
        at, steps = np.searchsorted(keys, key), 0
        while at < len(keys) and keys[at] == key and steps < 12:
            votes[min(max(z[at] - heights[i] + 600, 0), 1199)] += 1.0
            at += 1
            steps += 1


def heights(a: "PlanShape", b: "PlanShape", turn: float, dx: float, dy: float, most: int = 2) -> list[float]:
    """Likely height differences (m) from level surfaces that lie over each other in plan."""
    votes = np.zeros(1200)
    _vote(
        a.level_keys,
        a.level_z,
        b.level[:, :2],
        np.rint(b.level[:, 2] / 0.05).astype(np.int64),
        b.up,
        np.cos(turn),
        np.sin(turn),
        dx,
        dy,
        LEVEL_CELL,
        votes,
    )
    votes = ndimage.gaussian_filter1d(votes, 1.0)
    found: list[int] = []
    for k in np.argsort(-votes):
        if votes[k] < max(3.0, 0.4 * votes.max()) or len(found) >= most:
            break
        if all(abs(k - h) > 4 for h in found):
            found.append(int(k))
    return [(h - 600) * 0.05 for h in found]


def judge(a: PlanShape, b: PlanShape, pose: np.ndarray, slack: float, most: int | None = None) -> Candidate:
    """Free-space verdict on ``pose`` (b to a): points of each scan (``most`` of them) are looked for in the
    other's range picture. ``pose`` (4, 4).
    """
    yes = no = total = 0
    mine, theirs = a.sample[:most], b.sample[:most]
    for views, points, way in ((a.views, theirs, pose), (b.views, mine, rigid.inverse(pose))):
        for view, to in views:
            agree, against, _ = view.judge(points, to @ way, slack)
            yes, no, total = yes + agree, no + against, total + len(points)
    total = max(total, 1)
    agree, against = yes / total, no / max(yes + no, 1)
    return Candidate(pose, agree, against, agree * max(0.0, 1.0 - 6.0 * against) - 0.2 * against)
