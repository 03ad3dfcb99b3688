"""What simulated places are made of: boxes, upright cylinders, balls and one ground surface; walls with
doors, furniture, and rays that are cast at them.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit


@dataclass
class Place:
    """``boxes`` (low, high), ``posts`` (x, y, radius, from, to), ``balls`` (x, y, z, radius), ``waves`` of
    the ground (amplitude, kx, ky, phase; none: no ground), and station ``places`` (x, y, height of the floor
    under it).
    """

    boxes: list = field(default_factory=list)
    places: list = field(default_factory=list)
    posts: list = field(default_factory=list)
    balls: list = field(default_factory=list)
    waves: list = field(default_factory=list)
    moving: bool = True

    def ground(self, x, y):
        return sum(a * np.sin(kx * x + ky * y + p) for a, kx, ky, p in self.waves)

    def solids(self, boxes: list) -> tuple[np.ndarray, ...]:
        """What ``cast`` takes of ``boxes`` and of all else that is here."""
        low, high = (np.array([b[k] for b in boxes], float).reshape(-1, 3) for k in (0, 1))
        rest = ((self.posts, 5), (self.balls, 4), (self.waves, 4))
        return low, high, *(np.array(some, float).reshape(-1, n) for some, n in rest)

    def away(self, xyz: np.ndarray) -> np.ndarray:
        """(n,) m from points (n, 3) to the nearest surface of the boxes and posts."""
        out = np.full(len(xyz), np.inf)
        for low, high in self.boxes:
            outside = np.linalg.norm(np.maximum(np.maximum(low - xyz, xyz - high), 0), axis=1)
            inside = np.minimum(xyz - low, high - xyz).min(1)
            out = np.minimum(out, np.where(inside > 0, inside, outside))
        for x, y, radius, start, stop in self.posts:
            aside = np.abs(np.hypot(xyz[:, 0] - x, xyz[:, 1] - y) - radius)
            over = np.maximum(np.maximum(start - xyz[:, 2], xyz[:, 2] - stop), 0)
            out = np.minimum(out, np.hypot(aside, over))
        return out


@njit(cache=True)
def cast(origin, rays, low, high, posts, balls, waves):
    """Range (m) of each ray to what it meets first, infinite where there is nothing."""
    out = np.full(len(rays), np.inf)
    for i in range(len(rays)):
        d = rays[i]
        for k in range(len(low)):
            near, far = -np.inf, np.inf
            for a in range(3):
                s = d[a] if abs(d[a]) > 1e-12 else 1e-12
                t1, t2 = (low[k, a] - origin[a]) / s, (high[k, a] - origin[a]) / s
                near, far = max(near, min(t1, t2)), min(far, max(t1, t2))
            if near < far and 0.05 < near < out[i]:
                out[i] = near
        for k in range(len(posts)):
            ox, oy = origin[0] - posts[k, 0], origin[1] - posts[k, 1]
            a, b, c = d[0] ** 2 + d[1] ** 2, ox * d[0] + oy * d[1], ox * ox + oy * oy - posts[k, 2] ** 2
            if a > 1e-12 and b * b - a * c > 0:
                t = (-b - np.sqrt(b * b - a * c)) / a
                if 0.05 < t < out[i] and posts[k, 3] < origin[2] + t * d[2] < posts[k, 4]:
                    out[i] = t
        for k in range(len(balls)):
            ox, oy, oz = origin[0] - balls[k, 0], origin[1] - balls[k, 1], origin[2] - balls[k, 2]
            b, c = ox * d[0] + oy * d[1] + oz * d[2], ox * ox + oy * oy + oz * oz - balls[k, 3] ** 2
            if b * b - c > 0:
                t = -b - np.sqrt(b * b - c)
                if 0.05 < t < out[i]:
                    out[i] = t
        if len(waves):
            t, step = 0.3, 0.3
            while t < min(out[i], 60.0):
                h = 0.0
                for k in range(len(waves)):
                    h += waves[k, 0] * np.sin(
                        waves[k, 1] * (origin[0] + t * d[0])
                        + waves[k, 2] * (origin[1] + t * d[1])
                        + waves[k, 3]
                    )
                gap = origin[2] + t * d[2] - h
                if gap < 0:
                    if step < 1e-4:
                        out[i] = t
                        break
                    t -= step
                    step *= 0.5
                t += step
    return out


def wall(boxes, axis, at, start, stop, gaps, height, thick=0.12):
    """A wall along an axis with gaps (from, to, sill, head): doors and windows."""
    cuts = sorted({start, stop, *(g for gap in gaps for g in gap[:2])})
    for a, b in zip(cuts, cuts[1:]):
        gap = next((g for g in gaps if g[0] <= a and b <= g[1]), None)
        for low, high in [(0.0, height)] if gap is None else [(0.0, gap[2]), (gap[3], height)]:
            if high > low and b > a:
                lo, hi = [a, at - thick / 2, low], [b, at + thick / 2, high]
                boxes.append((lo, hi) if axis == 0 else ([lo[1], lo[0], lo[2]], [hi[1], hi[0], hi[2]]))


def shell(boxes, width, depth, height):
    boxes += [
        ([-0.3, -0.3, -0.2], [width + 0.3, depth + 0.3, 0.0]),
        ([-0.3, -0.3, height], [width + 0.3, depth + 0.3, height + 0.2]),
    ]


def furnish(boxes, rng, x0, x1, y0, y1, keep, n):
    for _ in range(n):
        w, d, h = (
            rng.uniform(0.4, 1.6),
            rng.uniform(0.4, 0.9),
            rng.choice([0.45, 0.75, 1.2, 2.0]) * rng.uniform(0.9, 1.1),
        )
        x, y = (
            rng.uniform(x0 + 0.1, max(x1 - w - 0.1, x0 + 0.2)),
            rng.choice([y0 + 0.08, y1 - d - 0.08])
            if rng.random() < 0.7
            else rng.uniform(y0 + 0.3, max(y1 - d - 0.3, y0 + 0.4)),
        )
        if not any(x - 0.5 < p[0] < x + w + 0.5 and y - 0.5 < p[1] < y + d + 0.5 for p in keep):
            boxes.append(([x, y, 0.0], [x + w, y + d, h]))


def moved(place: Place, by) -> Place:
    """A place of boxes, shifted by (x, y, z)."""
    by = np.array(by, float)
    return Place(
        [(np.array(lo) + by, np.array(hi) + by) for lo, hi in place.boxes],
        [tuple(np.array(p) + by) for p in place.places],
    )


def lasting(boxes: list) -> list:
    """Of boxes those that stay where they are in a crowd: what is high, wide or a floor."""
    return [b for b in boxes if b[1][2] - b[0][2] > 0.9 or b[1][2] < 0.1 or b[1][0] - b[0][0] > 1.2]
