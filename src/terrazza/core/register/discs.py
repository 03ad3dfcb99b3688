"""Flat discs, lighter or darker than the plate or wall that they are on, in structured scans: found in the
intensity grid, measured in their plane.
"""

import numpy as np
from numba import njit, prange
from scipy import ndimage
from scipy.optimize import least_squares

from terrazza.core.geometry import planes
from terrazza.core.register.sighted import Grid, Nearby, Target

RADII = (0.025, 0.032, 0.041, 0.052, 0.067, 0.086, 0.11, 0.14, 0.18)  # m: a ladder of 1.28
RING = 16
INNER, OUTER = (0.3, 0.62), 1.38  # of the radius: rings that show the disc and its ground
LEAST_ROWS = 3.2  # grid steps that the radius has to be
CONTRAST = 0.25  # least difference of disc and ground, of their sum
EVEN = 0.22  # of the contrast: spread of each ring
SHARE = 0.9  # of the intensity's variance that a disc explains
SHAPED = 0.16  # of the contrast: how much intensity may swing around the edge; a square's swings by half
LEAN, STEEPEST = 2, 2.2  # grid steps over which the slant is taken, and its largest tangent
BLUR = (0.15, 3.0)  # of the spacing: how wide an edge shows
SAMPLED = 0.17  # of the spacing: by how much each point near an edge is off it
MOST = 4000
PLANE = 0.006  # m


@njit(cache=True, parallel=True, nogil=True)
def _scores(
    image: np.ndarray,
    ranges: np.ndarray,
    slope: float,
    turn: float,
    lowest: float,
    radius: float,
    reach: float,
    out: np.ndarray,
):
    rows, columns = image.shape
    angle = 2 * np.pi * np.arange(RING) / RING
    up, right = np.sin(angle), np.cos(angle)
    for r in prange(rows):
        flat = max(np.cos(lowest + r * slope), 0.05)
        for c in range(columns):
            d = ranges[r, c]
            if d < 0.5 or d > reach:
                continue
            tall, wide = radius / (d * abs(slope)), radius / (d * turn * flat)
            if min(tall, wide) < LEAST_ROWS or wide > columns / 8:
                continue
            alike = False  # most places are told apart from a disc by what lies four ways around
            for k in range(0, RING, 4):
                rr, cc = int(r + OUTER * tall * up[k]), int(c + OUTER * wide * right[k]) % columns
                if (
                    rr < 0
                    or rr >= rows
                    or abs(image[rr, cc] - image[r, c]) < 0.5 * CONTRAST * (image[rr, cc] + image[r, c])
                ):
                    alike = True
                    break
            if alike:
                continue
            low, high, total = np.inf, -np.inf, 0.0
            ok = True
            lean, lean_up = (
                0.0,
                0.0,
            )  # metres that range grows for a metre to the right and up: a slanted disc looks narrow
            if 0 < r - LEAN and r + LEAN < rows:
                left, beside, below, above = (
                    ranges[r, (c - LEAN) % columns],
                    ranges[r, (c + LEAN) % columns],
                    ranges[r - LEAN, c],
                    ranges[r + LEAN, c],
                )
                if min(left, beside, below, above) > 0:
                    lean, lean_up = (
                        (beside - left) / (2 * LEAN * d * turn * flat),
                        (above - below) / (2 * LEAN * d * abs(slope)),
                    )
                    if abs(lean) > STEEPEST or abs(lean_up) > STEEPEST:
                        continue
            for ring in range(2):
                for k in range(RING):
                    narrow = INNER[ring] / np.sqrt(1 + (lean * right[k] + lean_up * up[k]) ** 2)
                    rr, cc = (
                        int(np.floor(r + narrow * tall * up[k] + 0.5)),
                        int(np.floor(c + narrow * wide * right[k] + 0.5)) % columns,
                    )
                    deep = d + narrow * radius * (lean * right[k] + lean_up * up[k])
                    if rr < 0 or rr >= rows or abs(ranges[rr, cc] - deep) > 0.5 * radius:
                        ok = False
                        break
                    low, high = min(low, image[rr, cc]), max(high, image[rr, cc])
                    total += image[rr, cc]
            if not ok:
                continue
            inside = total / (2 * RING)
            ground, squares = 0.0, 0.0
            for k in range(RING):
                narrow = OUTER / np.sqrt(1 + (lean * right[k] + lean_up * up[k]) ** 2)
                rr, cc = (
                    int(np.floor(r + narrow * tall * up[k] + 0.5)),
                    int(np.floor(c + narrow * wide * right[k] + 0.5)) % columns,
                )
                deep = d + narrow * radius * (lean * right[k] + lean_up * up[k])
                if rr < 0 or rr >= rows or abs(ranges[rr, cc] - deep) > 0.6 * radius:
                    ok = False
                    break
                ground += image[rr, cc] / RING
                squares += image[rr, cc] ** 2 / RING
            contrast = abs(inside - ground)
            if (
                ok
                and contrast > CONTRAST * (inside + ground)
                and high - low < 3.2 * EVEN * contrast
                and squares - ground * ground < (EVEN * contrast) ** 2
            ):
                out[r, c] = contrast / (inside + ground) - (high - low) / (10 * contrast)


def discs(grid: Grid, diameter: float | None = None, reach: float = 60.0) -> list[Target]:
    """Find flat discs of ``diameter`` (m; None: any of 5 to 36 cm) within ``reach`` (m) of the scanner."""
    found: list[Target] = []
    for radius in (diameter / 2,) if diameter else RADII[::-1]:
        scores = np.zeros(grid.ranges.shape)
        _scores(grid.image, grid.ranges, grid.slope, grid.turn, grid.lowest, radius, reach, scores)
        for r, c in zip(*np.nonzero((scores > 0) & (scores == ndimage.maximum_filter(scores, 5)))):
            place = grid.xyz[grid.index[r, c]]
            if all(np.linalg.norm(place - t.centre) > 0.7 * t.edge for t in found):
                target = measure(grid.nearby(int(r), int(c), 1.8 * radius), place, radius)
                if target is not None and all(
                    np.linalg.norm(target.centre - t.centre) > 0.7 * t.edge for t in found
                ):
                    found.append(target)
    return found


def measure(nearby: Nearby, place: np.ndarray, radius: float) -> Target | None:
    """The disc of a radius about ``radius`` (m) whose middle lies within half of that of ``place`` (3,); None
    where there is none.  ``nearby`` reaches 1.7 radii.
    """
    around = nearby.within(place, 1.7 * radius, MOST)
    if len(around.xyz) < 30:
        return None
    plane = planes.fit(around.xyz)
    if plane.rms > PLANE:
        return None
    normal = plane.normal if plane.normal @ place < 0 else -plane.normal
    frame = np.stack(planes.along(normal), 1)
    origin = place - normal * (normal @ (place - around.xyz.mean(0)))
    uv, value = (around.xyz - origin) @ frame, around.intensity
    spacing = float(np.linalg.norm(place)) * nearby.step
    scale = value.std() or 1.0

    def model(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        return p[3] + p[4] * np.tanh(
            (p[2] - np.hypot(q[:, 0] - p[0], q[:, 1] - p[1])) / (spacing * np.clip(p[5], *BLUR))
        )

    start = _start(uv, value, radius)
    if start is None or _shaped(uv - start[:2], value, start[2], abs(start[4]), spacing, 2 * SHAPED):
        return None
    result = least_squares(
        lambda p: (model(p, uv) - value) / scale,
        start,
        loss="soft_l1",
        x_scale=[0.01, 0.01, 0.01, scale, scale, 0.3],
    )
    u, v, found, ground, swing, _ = result.x
    share = 1 - float(np.sum((model(result.x, uv) - value) ** 2) / np.sum((value - value.mean()) ** 2))
    if (
        share < SHARE
        or not 0.75 * radius < found < 1.35 * radius
        or np.hypot(u, v) > 0.5 * radius
        or abs(swing) < CONTRAST * abs(ground)
        or _shaped(uv - [u, v], value, found, abs(swing), spacing, SHAPED)
    ):
        return None
    edge = np.abs(np.hypot(*(uv - [u, v]).T) - found) < spacing
    sampled = SAMPLED * spacing / np.sqrt(max(edge.sum(), 4) / 2)
    covariance = np.linalg.pinv(result.jac.T @ result.jac) * 2 * result.cost / max(len(value) - 6, 1)
    centre = origin + frame @ [u, v]
    away = float(np.linalg.norm(centre))
    return Target(
        "disc",
        centre,
        float(np.sqrt((covariance[0, 0] + covariance[1, 1]) / 2 + sampled**2)),
        normal,
        away,
        float(np.arccos(min(abs(normal @ centre) / away, 1))),
        share,
        len(value),
        2 * float(found),
    )


def _start(uv: np.ndarray, value: np.ndarray, radius: float) -> list[float] | None:
    """Where a fit begins: the middle and radius of what differs from the ground; None where a disc there
    explains too little.
    """
    out = np.hypot(*uv.T)
    if out.max() <= 1.25 * radius or out.min() >= 0.6 * radius:
        return None
    ground, inside = np.median(value[out > 1.25 * radius]), np.median(value[out < 0.6 * radius])
    other = (np.abs(value - inside) < np.abs(value - ground)) & (out < 1.4 * radius)
    if other.sum() < 12 or ground == inside:
        return None
    middle = uv[other].mean(0)
    size = float(np.sqrt(2 * np.mean(np.sum((uv[other] - middle) ** 2, 1))))
    step = np.where(np.hypot(*(uv - middle).T) < size, inside, ground)
    if np.sum((step - value) ** 2) > 0.5 * np.sum((value - value.mean()) ** 2):
        return None
    return [*middle, size, float((ground + inside) / 2), float((inside - ground) / 2), 0.5]


def _shaped(
    uv: np.ndarray, value: np.ndarray, radius: float, swing: float, spacing: float, most: float
) -> bool:
    """Whether intensity swings around the edge of a disc two to four times a turn: then it is an ellipse, a
    triangle or a square.
    """
    from_edge = np.hypot(*uv.T) - radius
    here = np.abs(from_edge) < max(0.12 * radius, 0.8 * spacing)
    if here.sum() < 12:
        return True
    angle = np.arctan2(uv[here, 1], uv[here, 0])
    design = np.stack(
        [np.ones(here.sum()), from_edge[here] / radius]
        + [f(m * angle) for m in (1, 2, 3, 4) for f in (np.cos, np.sin)],
        1,
    )
    c = np.linalg.lstsq(design, value[here] / (2 * swing), rcond=None)[0]
    return bool(max(np.hypot(c[2 * m], c[2 * m + 1]) for m in (2, 3, 4)) > most)
