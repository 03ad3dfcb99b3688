"""Landmarks: rough placements by trunks, poles and columns, where no walls say how a scan is turned.

What stands narrow over the ground is a landmark, and how far landmarks are from each other does not depend
on where a scan was taken.  Two of one scan and two of another, as far apart and about as far up, give a
placement of both levelled scans; those by which most landmarks come to lie on each other are candidates.
After Fischler and Bolles 1981 (consensus), with all pairs tried instead of some.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy import ndimage

from terrazza.core.geometry import rigid
from terrazza.core.register.plan_match import PlanShape
from terrazza.core.register.surface import Lately, Surface

LATELY = Lately(40)
REACH = 30.0  # m
GROUND = 1.0  # m: the ground is the lowest of this wide a cell and those beside it
LOW, HIGH = 0.5, 1.5  # m over the ground between which a thing is looked at
CELL, SIDE = 0.25, 260  # m, and cells each way: what touches in them is one thing
# m that a thing is wide at most and high at least in that band, of so many points at least
WIDE, TALL, POINTS = 0.9, 0.6, 4
MOST = 50  # landmarks of a scan: the nearest
APART = 3.0  # m between the two of a pair
# m in plan and in height to which two landmarks are one: axes are good to 0.1 m, feet are often hidden
NEAR, LEVEL = 0.25, 0.5
AGREEING = 4  # landmarks that a placement needs, and m by which they spread: in a line they repeat
SPREAD = 1.5
OTHER = (0.5, np.radians(3.0))  # placements nearer than this (m, rad) are one
KEPT, LOOKED_AT = 4, 200


@dataclass(frozen=True)
class Landmarks:
    """Axes ``xy`` (n, 2) m of narrow standing things in a scan's levelled frame (``upright``: 4×4, from its
    own), and the ground (n,) m at their feet.
    """

    upright: np.ndarray
    xy: np.ndarray
    foot: np.ndarray

    @classmethod
    def of(cls, surface: Surface, shape: PlanShape) -> "Landmarks":
        """Those of a scan; kept of the last few."""
        return LATELY.of(surface, lambda: cls._found(surface, shape))

    @classmethod
    def _found(cls, surface: Surface, shape: PlanShape) -> "Landmarks":
        xyz = rigid.apply(shape.upright, surface.xyz)
        xyz = xyz[np.hypot(xyz[:, 0], xyz[:, 1]) < REACH]
        ground = _ground(xyz)
        above = xyz[:, 2] - ground
        use = (above > LOW) & (above < HIGH)
        xyz, ground = xyz[use], ground[use]
        ij = np.floor(xyz[:, :2] / CELL).astype(int) + SIDE // 2
        filled = np.zeros((SIDE, SIDE), bool)
        filled[ij[:, 0], ij[:, 1]] = True
        labels, count = ndimage.label(filled, np.ones((3, 3)))
        thing = labels[ij[:, 0], ij[:, 1]]
        order = np.argsort(thing, kind="stable")
        starts = np.searchsorted(thing[order], np.arange(1, count + 2))
        found = [_landmark(xyz[s], ground[s]) for s in np.split(order, starts[:-1])[1:]]
        at = np.array([f for f in found if f is not None]).reshape(-1, 3)
        at = at[np.argsort(np.hypot(at[:, 0], at[:, 1]), kind="stable")[:MOST]]
        return cls(shape.upright, np.ascontiguousarray(at[:, :2]), np.ascontiguousarray(at[:, 2]))


def _ground(xyz: np.ndarray) -> np.ndarray:
    """(n,) height of the ground under levelled points (n, 3) m."""
    half = int(REACH / GROUND) + 2
    ij = np.floor(xyz[:, :2] / GROUND).astype(int) + half
    lowest = np.full((2 * half, 2 * half), np.inf)
    np.minimum.at(lowest, (ij[:, 0], ij[:, 1]), xyz[:, 2])
    return ndimage.minimum_filter(lowest, 3)[ij[:, 0], ij[:, 1]]


def _landmark(xyz: np.ndarray, ground: np.ndarray) -> tuple[float, float, float] | None:
    """Axis and foot of a thing, if it is narrow and high: it is as far behind what was seen of it as it is
    wide to either side. ``xyz`` (n, 3), ``ground`` (n,), m.
    """
    if len(xyz) < POINTS or np.ptp(xyz[:, 2]) < TALL or max(np.ptp(xyz[:, 0]), np.ptp(xyz[:, 1])) > WIDE:
        return None
    way = xyz[:, :2].mean(0)
    way /= max(float(np.hypot(*way)), 1e-9)
    along, aside = xyz[:, :2] @ way, xyz[:, :2] @ np.array([-way[1], way[0]])
    left, right = np.quantile(aside, [0.05, 0.95])
    axis = way * (np.quantile(along, 0.1) + (right - left) / 2)
    axis = axis + np.array([-way[1], way[0]]) * (left + right) / 2
    return float(axis[0]), float(axis[1]), float(np.median(ground))


def candidates(a: Landmarks, b: Landmarks, keep: int = KEPT) -> list[np.ndarray]:
    """The poses (4, 4) of b in a's frame on which most landmarks agree, best first; none where fewer than
    ``AGREEING`` do.
    """
    if min(len(a.xy), len(b.xy)) < AGREEING:
        return []
    tried, out = _hypotheses(a.xy, a.foot, b.xy, b.foot), []
    for turn, *shift, _ in tried[np.argsort(-tried[:, 4], kind="stable")[:LOOKED_AT]]:
        pose = _settled(a, b, rigid.make(rigid.about_z(turn), np.array(shift)))
        if pose is not None and not any(rigid.within(pose, o, OTHER) for o in out):
            out.append(pose)
        if len(out) >= keep:
            break
    back = rigid.inverse(a.upright)
    return [back @ pose @ b.upright for pose in out]


def _settled(a: Landmarks, b: Landmarks, pose: np.ndarray) -> np.ndarray | None:
    """A pose (4, 4) between levelled frames, turned and shifted to what its landmarks say together; None
    where they stand in a line.
    """
    there = b.xy @ pose[:2, :2].T + pose[:2, 3]
    gap = np.linalg.norm(there[:, None] - a.xy[None], axis=2)
    nearest, use = gap.argmin(1), gap.min(1) < NEAR
    ours, theirs = a.xy[nearest[use]], b.xy[use]
    p, q = theirs - theirs.mean(0), ours - ours.mean(0)
    if np.linalg.svd(q, compute_uv=False)[1] < SPREAD * np.sqrt(len(q)):
        return None
    turned = rigid.about_z(np.arctan2((p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0]).sum(), (p * q).sum()))
    shift = ours.mean(0) - turned[:2, :2] @ theirs.mean(0)
    return rigid.make(turned, np.array([*shift, np.median((a.foot[nearest] - b.foot)[use])]))


@njit(cache=True, nogil=True)
def _hypotheses(a: np.ndarray, foot_a: np.ndarray, b: np.ndarray, foot_b: np.ndarray) -> np.ndarray:
    """(n, 5) turn, shift and how many of b's landmarks lie on one of a's, for pairs that fit each other."""
    out = []
    for i in range(len(a)):
        for j in range(i + 1, len(a)):
            ax, ay, rise = a[j, 0] - a[i, 0], a[j, 1] - a[i, 1], foot_a[j] - foot_a[i]
            length, heading = np.hypot(ax, ay), np.arctan2(ay, ax)
            if length < APART:
                continue
            for k in range(len(b)):
                for m in range(len(b)):
                    bx, by = b[m, 0] - b[k, 0], b[m, 1] - b[k, 1]
                    if k == m or abs(np.hypot(bx, by) - length) > NEAR:
                        continue
                    if abs(foot_b[m] - foot_b[k] - rise) > LEVEL:
                        continue
                    turn = heading - np.arctan2(by, bx)
                    c, s = np.cos(turn), np.sin(turn)
                    mx, my = (b[k, 0] + b[m, 0]) / 2, (b[k, 1] + b[m, 1]) / 2
                    dx = (a[i, 0] + a[j, 0]) / 2 - c * mx + s * my
                    dy = (a[i, 1] + a[j, 1]) / 2 - s * mx - c * my
                    dz = (foot_a[i] + foot_a[j] - foot_b[k] - foot_b[m]) / 2
                    agree = 0
                    for p in range(len(b)):
                        x, y = c * b[p, 0] - s * b[p, 1] + dx, s * b[p, 0] + c * b[p, 1] + dy
                        for q in range(len(a)):
                            if (x - a[q, 0]) ** 2 + (y - a[q, 1]) ** 2 < NEAR**2:
                                agree += 1
                                break
                    if agree >= AGREEING:
                        out.append((turn, dx, dy, dz, float(agree)))
    found = np.zeros((len(out), 5))
    for r in range(len(out)):
        for v in range(5):
            found[r, v] = out[r][v]
    return found
