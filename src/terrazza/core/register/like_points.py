"""Placing by like points: one to three points and more, touched in two clouds, and the cloud fit from there.

Touched points are decimetres off, so that what they say of heading and tilt is only as good as they lie
apart; the fit is tried from a few starts within that, at several widths, and the pictures of both scans
decide.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import cloud_fit, linking, offers
from terrazza.core.register.contradiction import judge
from terrazza.core.register.picture import Picture
from terrazza.core.register.surface import Surface
from terrazza.errors import InputError, ParamsError

TOUCH = 0.1  # m: how well points are touched
SURE = 4.0  # touches that points may lie off the placement before it is told
WIDE = 0.3  # m across the line of the others that three points need for a tilt
LEAN = np.radians(6.0)  # beyond this a scan was not set up level at all, and its tilt is the points' to say
APART = 0.4  # m: a pair of points nearer to each other gives no heading
WIDTHS = ((1.0, 0.5, 0.25, 0.12, 0.06, 0.03), (0.4, 0.2, 0.1, 0.05, 0.03), (0.12, 0.06, 0.03))  # m
NARROW = (0.06, 0.03)
# share of the point pairs that a place beside has to hold, to be as good: in simulated corridors true places
# beside wrong ones hold 0.98, wrong ones beside true ones 0.96 at most
AS_MANY = 0.97
ALIKE = (0.01, np.radians(0.1))  # fits of all points nearer than this ended in one place
TURNS = (0.0, -1.5, 1.5)  # standard deviations of the heading that fits begin at
SMALL = np.radians(1.0)  # a heading surer than this is tried once
BETTER = 0.05  # of evidence by which a slide has to be better
RIVALS = 3  # that are looked at closely
WEAK, NUDGE = 0.1, 0.03  # share of a fit's weakest shift below which it is tried from so far (m) beside it
AS_GOOD = 1.0  # of evidence: what a rival is behind by at most, to be told (it is e times less likely)


@dataclass(frozen=True)
class Side:
    """Scans that move as one: their ``surface`` put together in the frame they share, and each one's pose in
    it (4×4) with its picture in ``views``.
    """

    surface: Surface
    views: tuple[tuple[np.ndarray, Picture], ...]

    @classmethod
    def of(cls, poses: list[np.ndarray], surfaces: list[Surface], pictures: list[Picture]) -> "Side":
        """Of scans with their poses in the frame that they share. Poses (4, 4)."""
        if len(surfaces) == 1 and np.array_equal(poses[0], np.eye(4)):
            return cls(surfaces[0], ((poses[0], pictures[0]),))
        xyz = np.concatenate([rigid.apply(p, s.xyz) for p, s in zip(poses, surfaces)])
        normals = np.concatenate([s.normals @ p[:3, :3].T for p, s in zip(poses, surfaces)])
        flat = np.concatenate([s.flat for s in surfaces])
        whole = Surface(xyz, normals, flat, None, max(s.spacing for s in surfaces))
        return cls(whole, tuple(zip(poses, pictures)))


@dataclass(frozen=True)
class Found:
    """``pose`` of the moved side in the frame of the one that stays, its ``fit`` (None where nothing fitted),
    ``residuals`` (n,) m of the touched points, ``width`` (m) at which the fit began, the share that agrees,
    the surface (m²) ``against``, why it ``failed`` (empty: it did not), and ``rivals``: other poses as
    likely.
    """

    pose: np.ndarray
    fit: cloud_fit.Fit | None
    residuals: np.ndarray
    width: float = 0.0
    agree: float = 0.0
    against: float = 0.0
    failed: str = ""
    rivals: tuple[np.ndarray, ...] = ()

    def tie(self, a: int, b: int) -> linking.Tie:
        """What was found as a tie between scans ``a`` and ``b``."""
        return linking.Tie(a, b, self.fit, self.agree, self.against, self.failed)


def rough(mine: np.ndarray, theirs: np.ndarray, given: np.ndarray | None) -> list[np.ndarray]:
    """Poses (4×4) that points of a scan (n, 3) and of its neighbour (n, 3) say, the likeliest first.

    Of one point the heading is that of ``given``; of two both scans are taken as level, as also of three,
    where they agree with it.  Raises ParamsError where they say too little.
    """
    across = _across(mine), _across(theirs)
    if min(a[0] for a in across) < APART:
        if given is None:
            raise ParamsError(
                "One pair of points does not say how the scan is turned.",
                f"Touch a second pair, {APART:g} m away or more.",
            )
        turned = given[:3, :3]
        return [rigid.make(turned, (theirs - mine @ turned.T).mean(0))]
    level = rigid.fit(mine, theirs, level=True)[0]
    if len(mine) < 3 or min(a[1] for a in across) < WIDE:
        if given is None:
            return [level]
        lean = given[:3, :3] @ rigid.about_z(-rigid.heading(given))
        tilted = rigid.make(lean, np.zeros(3)) @ rigid.fit(mine, theirs @ lean, level=True)[0]
        return [level] if offers.same(level, tilted, offers.ONCE) else [level, tilted]
    free = rigid.fit(mine, theirs)[0]
    leans = np.arccos(np.clip(free[2, 2], -1, 1)) > LEAN and _misfit(level, mine, theirs) > 2 * TOUCH
    return [free] if leans else [level, free]


def _across(points: np.ndarray) -> tuple[float, float]:
    """Greatest distance (m) in plan from the middle, and across that line in space, both doubled."""
    off = points - points.mean(0)
    flat = 2 * float(np.hypot(off[:, 0], off[:, 1]).max(initial=0.0))
    if len(points) < 3:
        return flat, 0.0
    line = np.linalg.svd(off, full_matrices=False)[2][0]
    return flat, 2 * float(np.linalg.norm(off - np.outer(off @ line, line), axis=1).max())


def _misfit(pose: np.ndarray, mine: np.ndarray, theirs: np.ndarray) -> float:
    return float(np.sqrt(np.mean(np.sum((rigid.apply(pose, mine) - theirs) ** 2, 1))))


def place(stays: Side, moves: Side, starts: list[np.ndarray], pairs: np.ndarray | None = None) -> Found:
    """One side placed against another from ``starts`` (4×4 each, see ``rough``); ``pairs`` (n, 2, 3) are the
    touched points of the side that moves and of the one that stays, each in its own frame.
    """
    mine, theirs = (pairs[:, 0], pairs[:, 1]) if pairs is not None else (np.zeros((0, 3)),) * 2
    tried = []
    for start in (turned for s in starts for turned in _turned(s, mine, theirs)):
        for widths in WIDTHS:
            fit = _fitted(stays, moves, start, widths)
            if fit is None or len(mine) and _misfit(fit.pose, mine, theirs) > 2 * SURE * TOUCH:
                continue
            if any(offers.same(fit.pose, found.pose, offers.ONCE) for _, found in tried):
                continue  # two starts that end in one place
            tried.append(_judged(stays, moves, fit, widths[0], (mine, theirs)))
    if not tried:
        return Found(starts[0], None, _off(starts[0], mine, theirs))
    return _decided(stays, moves, tried, (mine, theirs))


def place_among(
    stays: Side, moves: Side, starts: list[np.ndarray], likely: Callable[[np.ndarray], bool]
) -> Found:
    """One side placed against another from many ``starts`` (4×4 each) of which nearly all are wrong; fits
    that end at a pose (4×4) that is not ``likely`` do not count, and the best few are looked at closely.
    """
    ends: list[tuple[float, cloud_fit.Fit]] = []
    for start in starts:
        fit = _fitted(stays, moves, start, WIDTHS[0])
        if fit is None or not likely(fit.pose) or any(offers.same(fit.pose, e.pose) for _, e in ends):
            continue
        ends.append((_seen(stays, moves, fit.pose)[0], fit))
    none = (np.zeros((0, 3)),) * 2
    if not ends:
        return Found(starts[0], None, np.zeros(0))
    ends.sort(key=lambda e: -e[0])
    tried = [_judged(stays, moves, fit, WIDTHS[0][0], none) for _, fit in ends[: RIVALS + 1]]
    return _decided(stays, moves, tried, none)


def _decided(
    stays: Side, moves: Side, tried: list[tuple[float, Found]], pairs: tuple[np.ndarray, np.ndarray]
) -> Found:
    """The best of what was tried, with what is said for each, and those that are about as good."""
    tried.sort(key=lambda t: (bool(t[1].failed), -t[0]))
    told, best = tried[0]
    as_good = [o for t, o in tried[1:] if bool(o.failed) == bool(best.failed) and t > told - AS_GOOD]
    best = _refined(stays, moves, best, pairs)
    others = [_refined(stays, moves, o, pairs) for o in as_good[:RIVALS]]
    beside = (_refined(stays, moves, o, pairs, NARROW) for o in _nudged(best))
    others += [o for o in beside if o.fit.used > AS_MANY * best.fit.used]
    rivals = (o.pose for o in others if not o.failed and not offers.same(o.pose, best.pose, ALIKE))
    return replace(best, rivals=tuple(rivals))


def _nudged(found: Found) -> list[Found]:
    """The same put a little aside along the shift that its fit holds least, where that is little."""
    along, share = cloud_fit.weak_direction(found.fit.information)
    if share > WEAK or found.fit.free:
        return []
    beside = (rigid.make(np.eye(3), way * along) @ found.pose for way in (NUDGE, -NUDGE))
    return [replace(found, pose=pose) for pose in beside]


def _refined(
    stays: Side,
    moves: Side,
    found: Found,
    pairs: tuple[np.ndarray, np.ndarray],
    widths: tuple[float, float, float] = WIDTHS[-1],
) -> Found:
    """The same, fitted by all points at the narrowest widths."""
    fit = _fitted(stays, moves, found.pose, widths) or found.fit
    return _judged(stays, moves, fit, found.width, pairs)[1]


def _fitted(stays: Side, moves: Side, start: np.ndarray, widths: tuple[float, ...]) -> cloud_fit.Fit | None:
    try:
        return cloud_fit.fit(stays.surface, moves.surface, start, widths)
    except InputError:
        return None


def _judged(
    stays: Side, moves: Side, fit: cloud_fit.Fit, width: float, pairs: tuple[np.ndarray, np.ndarray]
) -> tuple[float, Found]:
    """A fit with what the pictures of both sides say for it, as a logarithm; along shifts that no surface
    holds it is slid to where they contradict it least, and then to where the sides of things nearby hold it.
    """
    pose = fit.pose
    told, agree, against = _seen(stays, moves, pose)
    for free in fit.free:
        for step in offers.SLIDES:
            for way in (step, -step):
                slid = rigid.make(np.eye(3), way * free) @ pose
                other = _seen(stays, moves, slid)
                if other[0] > told + BETTER:
                    pose, (told, agree, against) = slid, other
                    break
    caught = cloud_fit.caught(stays.surface, moves.surface, replace(fit, pose=pose)) if fit.free else None
    if caught is not None and (there := _seen(stays, moves, caught.pose))[0] > told - offers.CLEARLY_BETTER:
        fit, pose, (told, agree, against) = caught, caught.pose, there
    failed = linking.why_not(against, fit.overlap)
    off = _off(pose, *pairs)
    return told, Found(pose, replace(fit, pose=pose), off, width, agree, against, failed)


def _seen(stays: Side, moves: Side, pose: np.ndarray) -> tuple[float, float, float]:
    """What the pictures of two sides say for a pose, as a logarithm; the largest share that agrees, and the
    largest surface (m²) that contradicts, of a pair.
    """
    told, agree, against = 0.0, 0.0, 0.0
    for pose_a, a in stays.views:
        for pose_b, b in moves.views:
            between = rigid.inverse(pose_a) @ pose @ pose_b
            verdict = judge(a, b, between)
            told += offers.evidence(verdict, np.inf)
            agree, against = max(agree, verdict.common), max(against, verdict.area)
    return told, agree, against


def _off(pose: np.ndarray, mine: np.ndarray, theirs: np.ndarray) -> np.ndarray:
    return np.linalg.norm(rigid.apply(pose, mine) - theirs, axis=1)


def _turned(pose: np.ndarray, mine: np.ndarray, theirs: np.ndarray) -> list[np.ndarray]:
    """A start, and the same turned about the points' middle by what their touch leaves open."""
    if not len(mine):
        return [pose]
    off = theirs - theirs.mean(0)
    wide = float(np.sqrt(np.sum(off[:, :2] ** 2)))
    sigma = TOUCH * np.sqrt(2) / max(wide, TOUCH) if len(mine) > 1 and wide > APART / 2 else np.radians(4.0)
    if sigma < SMALL:
        return [pose]
    sigma = min(sigma, np.radians(15.0))
    return [rigid.step(pose, np.array([0.0, 0.0, t * sigma]), np.zeros(3), theirs.mean(0)) for t in TURNS]
