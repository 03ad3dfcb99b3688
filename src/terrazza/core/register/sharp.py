"""What a person meant who touched a point: the middle of a target, a corner of three planes, a corner drawn
on a plane, or an edge, each placed by all the points about it, finer than these lie apart.

A corner in the intensities is the place that the tangents of all edges about it pass through (W. Förstner and
E. Gülch, A fast operator for detection and precise location of distinct points, corners and centres of
circular features, ISPRS Intercommission Workshop, Interlaken 1987), with gradients at the points themselves.
"""

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.optimize import least_squares
from scipy.spatial import cKDTree

from terrazza.core.geometry import planes
from terrazza.core.register import discs, spheres, targets
from terrazza.core.register.sighted import Nearby, Target

REACH = 0.7  # m: what is looked at about a touch
AROUND = (
    0.08,
    0.16,
    0.3,
)  # m, or so many steps as below: how far the planes of a corner or edge are followed
STEPS = 6.0
ASIDE = (0.02, 3.0)  # m, and steps: a feature farther from the touch than the larger is not what was meant
FLAT = 0.004  # m: least distance at which a point is off a plane
ALIKE = np.cos(np.radians(25.0))  # normals nearer to each other belong to one plane
SPACED = 0.01  # m: how far apart points are taken to lie where there are too few to say
FEWEST = 12  # points of a plane
SHARE = 0.06  # of the points about a touch that a plane has to have
CROSS = {3: 0.25, 2: 0.5}  # least volume or area that unit normals span: flatter ones make no corner or edge
FLOOR = 0.0005  # m: beyond this a beam's footprint does not place an edge
NEIGHBOURS = 9  # for a gradient of intensity
AS_WELL = 0.04  # of the intensity's variance: of targets that explain it about as well, the largest
BALL = (0.5, 2.0)  # of a radius: what the surface's own may be for a ball of it to be tried
ENOUGH = 1500  # points that a ball is fitted to
WHOLE = 0.85  # share of the points about a drawn corner that lie on its plane
MOVES, STILL = 8, 0.02  # steps of the window about a drawn corner, of its width when it rests
WAYS = np.radians(np.arange(0, 360, 30))  # in which a wedge may open, to begin with
EXPLAINED = 0.75  # share of the intensity's variance that a wedge has to explain
SAMPLED = 0.2  # of the spacing: how far a tip is off since the points about it lie where they lie
SURE = 0.4  # of the spacing: σ beyond which a drawn corner is none
HOLE = 0.25  # of the window: gradients so near the corner are blurred over both its edges
EDGES = 0.3  # of the steepest gradients: less is no edge
SPEAKS = 9.0  # times its noise that intensity has to swing
ROUND = 0.35  # least roundness 4 det / trace² of the gradients: less is a line, not a corner
DRAWN = (4.0, 7.0)  # steps about a corner drawn on a plane


@dataclass(frozen=True)
class Sharp:
    """``kind``: checkerboard, sphere, disc, corner, drawn corner, edge or point; ``centre`` (3,) m; ``sigma``
    (m) of it (of an edge: across it); ``normal`` (3,) of what it lies on, towards the scanner; ``points``
    used; ``fit`` (0 to 1) of a target; ``edge`` (m) of a board, or diameter.
    """

    kind: str
    centre: np.ndarray
    sigma: float
    normal: np.ndarray
    points: int
    fit: float = 0.0
    edge: float = 0.0


def about(xyz: np.ndarray, intensity: np.ndarray, touch: np.ndarray) -> Nearby:
    """Points (n, 3) m, scan's frame, with intensity (n,), that lie within ``REACH`` of a touched place (3,),
    and how far apart they lie there: in a square grid a point's fourth neighbour is one step away.
    """
    tree = cKDTree(xyz)
    near = tree.query(touch, min(40, len(xyz)))[1]
    apart = tree.query(xyz[np.atleast_1d(near)], min(5, len(xyz)))[0].max(1)
    return Nearby(xyz, intensity, float(np.median(apart)) / max(float(np.linalg.norm(touch)), 1e-9))


def sharpen(nearby: Nearby, touch: np.ndarray) -> Sharp:
    """What is sharp about a touched place (3,): all in the scan's frame, m."""
    spacing = float(np.linalg.norm(touch)) * nearby.step
    aside = max(ASIDE[0], ASIDE[1] * spacing)
    drawn = [d for r in DRAWN if (d := _drawn_about(nearby, touch, r * spacing)) is not None]
    sides = functools.cache(lambda reach: _planes_about(nearby, touch, spacing, reach))
    return (
        _target(nearby, touch, spacing, drawn)
        or _meeting(sides, touch, aside, 3)
        or _surest(drawn, touch, spacing, aside)
        or _meeting(sides, touch, aside, 2)
        or alone(touch, spacing)
    )


def alone(touch: np.ndarray, spacing: float = SPACED) -> Sharp:
    """A touched place (3,) as it is: as good as points lie apart there (m)."""
    return Sharp("point", touch, max(spacing / 2, FLOOR), _facing(touch), 1)


def _target(nearby: Nearby, touch: np.ndarray, spacing: float, drawn: list[Sharp]) -> Sharp | None:
    """The board, ball or disc under a touch, the one whose fit explains most."""
    found: list[Target | None] = []
    for edge in targets.EDGES:
        if edge > 4 * spacing:
            near = [d.centre for d in drawn if np.linalg.norm(d.centre - touch) < 0.35 * edge]
            found += [targets.measure(nearby, at, edge) for at in (*near[:1], touch)]
    for radius in _radii(nearby, touch):
        found.append(spheres.measure(nearby.within(touch, 3 * radius).thinned(ENOUGH), touch, radius))
    for radius in discs.RADII:
        if radius > discs.LEAST_ROWS * spacing:
            spot = _spot(nearby, _spot(nearby, touch, radius), radius)
            found.append(discs.measure(nearby, spot, radius))
    there = [t for t in found if t is not None and np.linalg.norm(t.centre - touch) < 0.6 * t.edge]
    if not there:
        return None
    top = max(t.fit for t in there)
    best = max((t for t in there if t.fit > top - AS_WELL), key=lambda t: t.edge)
    return Sharp(best.kind, best.centre, best.sigma, best.normal, best.points, best.fit, best.edge)


def _radii(nearby: Nearby, touch: np.ndarray) -> list[float]:
    """The radii (m) that the surface under the touch may be a ball of: its own, by a linear fit, is near."""
    out = []
    for radius in spheres.RADII:
        near = nearby.within(touch, 0.8 * radius).thinned(ENOUGH).xyz - touch
        if len(near) < FEWEST:
            continue
        plain = np.linalg.lstsq(np.c_[2 * near, np.ones(len(near))], (near**2).sum(1), rcond=None)[0]
        own = np.sqrt(max(plain[3] + plain[:3] @ plain[:3], 0.0))
        if BALL[0] * radius < own < BALL[1] * radius:
            out.append(radius)
    return out


def _spot(nearby: Nearby, touch: np.ndarray, radius: float) -> np.ndarray:
    """The middle of what is as light as the touched place, within a radius (m) and a bit of it."""
    near = nearby.within(touch, 1.4 * radius)
    order = np.argsort(np.linalg.norm(near.xyz - touch, axis=1))
    if len(order) < FEWEST:
        return touch
    here = np.median(near.intensity[order[:5]])
    far = np.percentile(near.intensity, [5, 95])
    other = far[np.argmax(np.abs(far - here))]
    like = np.abs(near.intensity - here) < np.abs(near.intensity - other)
    return near.xyz[like].mean(0) if like.any() else touch


def _planes_about(
    nearby: Nearby, touch: np.ndarray, spacing: float, reach: float
) -> list[tuple[np.ndarray, planes.Plane]]:
    """Points (n, 3) and plane of up to three surfaces about a touch, the largest first."""
    near = nearby.within(touch, max(reach, STEPS * spacing), 6000).xyz
    if len(near) < FEWEST:
        return []
    normals = planes.local_planes(near, min(12, len(near)))[0]
    left, found = np.ones(len(near), bool), []
    for _ in range(3):
        seeds = np.flatnonzero(left)
        seeds = seeds[:: max(1, len(seeds) // 150)]
        on = lambda normal, distance: (
            left & (np.abs(near @ normal - distance) < FLAT) & (np.abs(normals @ normal) > ALIKE)
        )
        best = max((on(normals[k], normals[k] @ near[k]) for k in seeds), key=np.sum, default=None)
        if best is None or best.sum() < max(FEWEST, SHARE * len(near)):
            break
        plane = planes.fit(near[best])
        best = on(plane.normal, plane.distance)
        if best.sum() < FEWEST:
            break
        found.append((near[best], planes.fit(near[best])))
        left &= np.abs(near @ plane.normal - plane.distance) > FLAT
    return found


def _variance(points: np.ndarray, plane: planes.Plane, place: np.ndarray) -> float:
    """Variance (m²) of a plane's height at a place on it, or beyond its points."""
    axes = np.stack(planes.along(plane.normal), 1)
    off = (points - points.mean(0)) @ axes
    lever = (place - points.mean(0)) @ axes
    noise = plane.rms**2 * len(points) / (len(points) - 3)
    return noise * float(1 / len(points) + lever @ np.linalg.solve(off.T @ off, lever))


def _meeting(planes_about: Any, touch: np.ndarray, aside: float, count: int) -> Sharp | None:
    """The nearest place to the touch where three planes about it, or two, meet: of the nearest reach that
    shows so many (``planes_about`` gives them by reach).
    """
    for reach in AROUND:
        sides = planes_about(reach)[:count]
        normals = np.array([p.normal for _, p in sides])
        if len(sides) < count or np.sqrt(np.linalg.det(normals @ normals.T)) < CROSS[count]:
            continue
        across = np.linalg.pinv(normals)
        place = touch + across @ ([p.distance for _, p in sides] - normals @ touch)
        if np.linalg.norm(place - touch) < aside:
            variance = across @ np.diag([_variance(q, p, place) for q, p in sides]) @ across.T
            sigma = float(np.hypot(np.sqrt(np.trace(variance) / count), FLOOR))
            kind = "corner" if count == 3 else "edge"
            return Sharp(kind, place, sigma, _facing(touch), sum(len(q) for q, _ in sides))
    return None


def _facing(place: np.ndarray) -> np.ndarray:
    return -place / max(float(np.linalg.norm(place)), 1e-9)


def _surest(drawn: list[Sharp], touch: np.ndarray, spacing: float, aside: float) -> Sharp | None:
    """The drawn corner near the touch that is placed best; None where none is placed well."""
    sure = [d for d in drawn if d.sigma < SURE * spacing]
    near = [d for d in sure if np.linalg.norm(d.centre - touch) < max(aside, DRAWN[0] * spacing)]
    return min(near, key=lambda d: d.sigma, default=None)


def _drawn_about(nearby: Nearby, touch: np.ndarray, reach: float) -> Sharp | None:
    """The corner that intensities draw on the plane about a touch, once the window no longer moves."""
    place = touch
    for _ in range(MOVES):
        near = nearby.within(place, 2 * reach)
        core = near.within(place, reach).xyz
        if len(core) < FEWEST:
            return None
        plane = planes.fit(core)
        flat = np.abs(near.xyz @ plane.normal - plane.distance) < max(3 * plane.rms, FLAT)
        if flat.mean() < WHOLE:
            return None
        normal = plane.normal if plane.normal @ place < 0 else -plane.normal
        axes = np.stack(planes.along(normal), 1)
        foot = place - normal * (normal @ place - np.sign(normal @ plane.normal) * plane.distance)
        uv, value = (near.xyz[flat] - foot) @ axes, near.intensity[flat].astype(float)
        corner = _tangents(uv, value, reach)
        if corner is None or np.linalg.norm(corner[0]) > reach:
            return None
        at, sigma, used = corner
        place = foot + axes @ at
        if np.linalg.norm(at) < STILL * reach:
            near = np.hypot(*(uv - at).T) < reach
            wedge = _wedge(uv[near] - at, value[near], float(np.linalg.norm(touch)) * nearby.step)
            if wedge is not None:
                place, sigma = place + axes @ wedge[0], wedge[1]
            return Sharp("drawn corner", place, float(np.hypot(sigma, FLOOR)), normal, used)
    return None


def _wedge(uv: np.ndarray, value: np.ndarray, spacing: float) -> tuple[np.ndarray, float] | None:
    """The tip (2,) and its σ (m) of a wedge, lighter or darker than what is about it, by all intensities (n,)
    at places (n, 2) about its rough tip; None where a wedge does not explain them.
    """
    blur, scale, middle = 0.4 * spacing, value.std() or 1.0, np.median(value)

    def model(p: list[float] | np.ndarray) -> np.ndarray:
        sides = [
            1 / (1 + np.exp(-np.clip(((uv - p[:2]) @ [np.cos(a), np.sin(a)]) / blur, -30, 30)))
            for a in p[2:4]
        ]
        return p[4] + p[5] * sides[0] * sides[1]

    off = lambda p: (model(p) - value) / scale
    starts = [[0.0, 0.0, turn, turn + np.pi / 2, middle, way * 2 * scale] for turn in WAYS for way in (1, -1)]
    rough = sorted(starts, key=lambda p: float(np.sum(off(p) ** 2)))[:3]
    spans = [spacing, spacing, 0.3, 0.3, scale, scale]
    fits = [least_squares(off, p, loss="soft_l1", x_scale=spans, max_nfev=60) for p in rough]
    best = min(fits, key=lambda f: f.cost)
    rest = float(np.sum(off(best.x) ** 2))
    if rest > (1 - EXPLAINED) * len(uv) or np.hypot(*best.x[:2]) > 2 * spacing or len(uv) < 12:
        return None
    covariance = np.linalg.pinv(best.jac.T @ best.jac) * rest / (len(uv) - 6)
    sampled = SAMPLED * spacing
    return best.x[:2], float(np.hypot(np.sqrt((covariance[0, 0] + covariance[1, 1]) / 2), sampled))


def _tangents(uv: np.ndarray, value: np.ndarray, reach: float) -> tuple[np.ndarray, float, int] | None:
    """Where the tangents of all edges within ``reach`` (m) of the origin meet: place (2,), σ (m), points;
    None where intensity does not draw a corner.  ``uv`` (n, 2) m reach farther, for the gradients.
    """
    inner = np.flatnonzero(np.hypot(*uv.T) < reach)
    if len(inner) < FEWEST or len(uv) < NEIGHBOURS + 1:
        return None
    neighbours = cKDTree(uv).query(uv[inner], NEIGHBOURS)[1]
    off = uv[neighbours] - uv[neighbours].mean(1, keepdims=True)
    rise = value[neighbours] - value[neighbours].mean(1, keepdims=True)
    moment = np.einsum("nki,nkj->nij", off, off) + 1e-12 * np.eye(2)
    gradient = np.linalg.solve(moment, np.einsum("nki,nk->ni", off, rise)[..., None])[..., 0]
    rest = np.sqrt(np.mean((rise - np.einsum("nki,ni->nk", off, gradient)) ** 2, 1))
    swing = np.subtract(*np.percentile(value[inner], [95, 5]))
    if swing < SPEAKS * np.percentile(rest, 20):
        return None
    middle = uv[neighbours].mean(1)
    steep = np.hypot(*gradient.T)
    out = np.hypot(*middle.T) / reach
    weight = np.exp(-2 * out**2) * (1 - np.exp(-0.5 * (out / HOLE) ** 2))
    weight *= steep > EDGES * np.percentile(
        steep, 90
    )  # what is no edge would draw the place to the window's middle
    outer = np.einsum("n,ni,nj->nij", weight, gradient, gradient)
    whole = outer.sum(0)
    trace, det = np.trace(whole), np.linalg.det(whole)
    if trace <= 0 or 4 * det / trace**2 < ROUND:
        return None
    at = np.linalg.solve(whole, np.einsum("nij,nj->i", outer, middle))
    misses = float(np.einsum("nij,ni,nj->", outer, middle - at, middle - at))
    freedom = max((weight.sum() ** 2 / (weight**2).sum()) - 2, 1.0)
    variance = np.linalg.inv(whole) * misses / freedom
    return at, float(np.sqrt(np.trace(variance) / 2)), len(inner)
