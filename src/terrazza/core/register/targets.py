"""Checkerboard targets of any size in structured scans: found in the intensity grid, measured in the plane of
the board.

Where the edge is not told, rings of every size in ``EDGES`` are laid about every grid place; the largest
square that the pattern still explains is the board, and a pattern that goes on beyond it is a tiled floor or
a printed wall.
"""

from typing import TYPE_CHECKING

import numpy as np
from numba import njit, prange
from scipy import ndimage, optimize

from terrazza.core.geometry import planes
from terrazza.core.register.sighted import Grid, Nearby, Target

if TYPE_CHECKING:
    from terrazza.core.geometry.planes import Plane


RING = 16
EDGES = (0.05, 0.065, 0.085, 0.11, 0.14, 0.18, 0.235, 0.3, 0.39, 0.5, 0.65)  # m
CLEAR = 0.3  # least score of a ring: the share of its second harmonic
MOST = 4000  # points about a target that are used
# least share of the variance that four quarters about a place explain, before their centre is fitted
QUARTERS = 0.4
# of the edge: a zone about a board; where intensity varies there by this share of the board's contrast, the
# pattern goes on
ENDS, GOES_ON = (0.68, 1.1), 0.75


@njit(cache=True, parallel=True, nogil=True)
def _ring_scores(
    intensity: np.ndarray,
    ranges: np.ndarray,
    step_row: float,
    step_column: float,
    lowest: float,
    board: float,
    reach: float,
    out: np.ndarray,
):
    rows, columns = intensity.shape
    angle = 2 * np.pi * np.arange(RING) / RING
    cos1, sin1, cos2, sin2 = np.cos(angle), np.sin(angle), np.cos(2 * angle), np.sin(2 * angle)
    for r in prange(rows):
        flat = step_column * max(np.cos(lowest + r * step_row), 0.05)
        for c in range(columns):
            d = ranges[r, c]
            if d < 0.5 or d > reach:
                continue
            radius = 0.28 * board / d
            across = radius / flat
            up = radius / step_row
            if min(across, up) < 1.6 or across > columns / 8:
                continue
            re2, im2, re1, im1, mean = 0.0, 0.0, 0.0, 0.0, 0.0
            ok = True
            for k in range(RING):
                rr, cc = int(r + up * sin1[k] + 0.5), int(c + across * cos1[k] + columns + 0.5) % columns
                if (
                    r + up * sin1[k] < 0
                    or rr >= rows
                    or ranges[rr, cc] == 0
                    or abs(ranges[rr, cc] - d) > 0.6 * board
                ):
                    ok = False
                    break
                v = intensity[rr, cc]
                re2 += v * cos2[k]
                im2 += v * sin2[k]
                re1 += v * cos1[k]
                im1 += v * sin1[k]
                mean += v
            if ok and mean > 0:
                two, one = np.sqrt(re2 * re2 + im2 * im2), np.sqrt(re1 * re1 + im1 * im1)
                out[r, c] = (two - 1.2 * one) / mean


def checkerboards(grid: Grid, board: float | None = None, reach: float = 60.0) -> list[Target]:
    """Find two-by-two checkerboards of edge ``board`` (m; None: any of 5 to 65 cm) within ``reach`` (m) of
    the scanner.
    """
    index, xyz = grid.index, grid.xyz
    found: list[Target] = []
    # the largest first: smaller rings see the middle of a larger board too
    for edge in (board,) if board else EDGES[::-1]:
        scores = np.zeros(index.shape)
        _ring_scores(grid.image, grid.ranges, abs(grid.slope), grid.turn, grid.lowest, edge, reach, scores)
        peaks = (scores > CLEAR) & (scores == ndimage.maximum_filter(scores, 5))
        for r, c in zip(*np.nonzero(peaks)):
            if any(np.linalg.norm(xyz[index[r, c]] - t.centre) < 0.5 * t.edge for t in found):
                continue
            near = grid.nearby(r, c, 1.2 * edge)
            target = measure(near, xyz[index[r, c]], edge, not board)
            if target and all(
                np.linalg.norm(target.centre - t.centre) > 0.5 * max(edge, t.edge) for t in found
            ):
                found.append(target)
    return found


def measure(nearby: Nearby, centre: np.ndarray, board: float, alone: bool = True) -> Target | None:
    """The board of edge ``board`` (m) whose middle lies within a third of that of ``centre`` (3,); None where
    there is none.  ``nearby`` reaches 1.2 edges; ``alone``: where the pattern goes on, it is no board.
    """
    around = nearby.within(centre, 1.2 * board, MOST)
    xyz, intensity = around.xyz, around.intensity.astype(float)
    away = np.linalg.norm(xyz - centre, axis=1)
    if (away < 0.35 * board).sum() < 12:
        return None
    plane = planes.fit(xyz[away < 0.35 * board])
    core = (np.abs(xyz @ plane.normal - plane.distance) < 0.012) & (away < 0.6 * board)
    if core.sum() < 16:
        return None
    plane = planes.fit(xyz[core])
    if plane.rms > 0.006:
        return None
    normal = plane.normal if plane.normal @ centre < 0 else -plane.normal
    e1, e2 = planes.along(normal)
    origin = centre - normal * (normal @ centre - normal @ xyz[core].mean(0))
    uv = (xyz[core] - origin) @ np.stack([e1, e2], 1)
    contrast, turn = _quarters(uv, intensity[core], board)
    frame = np.stack([e1, e2], 1)
    if contrast is None or (alone and _goes_on(around, plane, origin, frame, turn, contrast, board)):
        return None
    best = _pattern(uv, intensity[core], board, 0.3 * float(np.linalg.norm(centre)) * nearby.step)
    if best is None:
        return None
    (u, v), sigma, share, used, contrast, turn = best
    place = origin + u * e1 + v * e2
    if alone and _goes_on(around, plane, place, frame, turn, contrast, board):
        return None
    return Target(
        "checkerboard",
        place,
        sigma,
        normal,
        float(np.linalg.norm(place)),
        float(np.arccos(min(abs(normal @ place) / np.linalg.norm(place), 1))),
        share,
        used,
        board,
    )


def _quarters(uv: np.ndarray, value: np.ndarray, board: float) -> tuple[float | None, float]:
    """Contrast and turn of the four quarters about the origin, by their second harmonic; None where that
    explains too little of the intensity's variance.
    """
    inside = np.abs(uv).max(1) < 0.41 * board
    if inside.sum() < 16:
        return None, 0.0
    angle, v = np.arctan2(uv[inside, 1], uv[inside, 0]), value[inside] - value[inside].mean()
    c, s = float((v * np.cos(2 * angle)).mean()), float((v * np.sin(2 * angle)).mean())
    contrast = np.pi / 2 * np.hypot(c, s)
    return (contrast if contrast**2 > QUARTERS * max(v.var(), 1e-9) else None), 0.5 * np.arctan2(-c, s)


def _goes_on(
    around: Nearby,
    plane: "Plane",
    middle: np.ndarray,
    frame: np.ndarray,
    turn: float,
    contrast: float,
    board: float,
) -> bool:
    """Whether a pattern goes on beyond a board of that edge, as tiles do."""
    turned = frame @ np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    out = np.abs((around.xyz - middle) @ turned).max(1) / board
    flat = np.abs(around.xyz @ plane.normal - plane.distance) < 0.03
    beyond = around.intensity[(out > ENDS[0]) & (out < ENDS[1]) & flat].astype(float)
    return len(beyond) > 20 and beyond.std() > GOES_ON * contrast


def _pattern(
    uv: np.ndarray, value: np.ndarray, board: float, blur: float
) -> tuple[np.ndarray, float, float, int, float, float] | None:
    """Fit a blurred two-by-two pattern; returns (centre, sigma, explained share, points, contrast, turn) or
    None.
    """

    def model(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        x, y = q[:, 0] - p[0], q[:, 1] - p[1]
        c, s = np.cos(p[2]), np.sin(p[2])
        return p[3] + p[4] * np.tanh((c * x + s * y) / blur) * np.tanh((c * y - s * x) / blur)

    centre, result = np.zeros(2), None
    for _ in range(3):
        inside = np.abs(uv - centre).max(1) < 0.41 * board
        if inside.sum() < 16:
            return None
        q, z = uv[inside], value[inside]
        scale = z.std() or 1.0
        tries = (
            [result.x]
            if result is not None
            else [[*centre, a, z.mean(), s * scale] for a in (0.0, np.pi / 4) for s in (1, -1)]
        )
        result = min(
            (
                optimize.least_squares(
                    lambda p: (model(p, q) - z) / scale,
                    t,
                    loss="soft_l1",
                    x_scale=[0.01, 0.01, 0.1, scale, scale],
                )
                for t in tries
            ),
            key=lambda f: f.cost,
        )
        centre = result.x[:2]
        if np.abs(centre).max() > 0.4 * board:
            return None
    share = 1 - np.sum((model(result.x, q) - z) ** 2) / np.sum((z - z.mean()) ** 2)
    quarters = [
        np.sum((q[:, 0] > centre[0]) == a) and np.sum((q[:, 1] > centre[1]) == a) for a in (True, False)
    ]
    if share < 0.75 or abs(result.x[4]) < 0.25 * abs(result.x[3]) or not all(quarters):
        return None
    normal = result.jac.T @ result.jac
    variance = 2 * result.cost / max(len(z) - 5, 1)
    cov = np.linalg.pinv(normal) * variance
    return (
        centre,
        float(np.sqrt(max(cov[0, 0] + cov[1, 1], 0) / 2)),
        float(share),
        int(inside.sum()),
        abs(float(result.x[4])),
        float(result.x[2]),
    )
