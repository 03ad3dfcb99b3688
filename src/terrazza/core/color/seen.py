"""What a camera certainly sees of what its scan measured.

A *range picture* is (rows, columns) f32 around the camera's place, in the axes of its scan: the range (m) of
what is nearest in a pixel, 0 where nothing is known; azimuth falls with the column from π, elevation with the
row from π/2, both by ``step`` (rad).  It does not turn with the camera, so that a turn of the camera, known
only so well, changes nothing of what is hidden from it.

Along silhouettes a picture that points a little aside shows the other thing.  A point takes its colour only
where the whole neighbourhood that its picture may mean belongs to its own surface; if that is not so at the
point itself, at the nearest place on its surface where it is.
"""

from typing import Any

import numpy as np
from numba import njit, prange

from terrazza.core.color.cameras import CELLS
from terrazza.core.color.lenses import shown

JOINED, JOINED_SHARE = (
    0.03,
    0.01,
)  # m, and of the range: neighbours this near are one surface at any incidence
STRAIGHT, STRAIGHT_SHARE = 0.02, 0.005  # the same, off what the next pixel of either leads to expect
BETWEEN = 0.08  # of the range: opposite neighbours of an empty pixel that differ less leave no hole in it
QUARTERS = 4  # of a pixel: the unit of distances to silhouettes
FARTHEST = 12  # pixels: the largest such distance that can be asked for
NEAREST = 0.2  # m: nothing nearer to the camera is coloured
DEEP = 0.005  # of the range: how far from what was measured, beside the slack, a point may be
HIDDEN, SEEN, UNSURE, PASSED = 0, 1, 2, 3


def shape(step: float) -> tuple[int, int]:
    """Rows and columns of a picture of everything around."""
    return int(np.ceil(np.pi / step)), int(np.ceil(2 * np.pi / step))


@njit(cache=True, nogil=True)
def enter(
    xyz: np.ndarray, tone: np.ndarray, origin: np.ndarray, step: float, near: np.ndarray, tones: np.ndarray
):
    """Put points (n, 3, scan's axes) with their brightness (n,) f32 into a range picture and one of
    brightness: the nearest of each pixel stays.
    """
    rows, columns = near.shape
    for i in range(len(xyz)):
        x, y, z = xyz[i, 0] - origin[0], xyz[i, 1] - origin[1], xyz[i, 2] - origin[2]
        r = np.sqrt(x * x + y * y + z * z)
        if r < 1e-6:
            continue
        row = int((np.pi / 2 - np.arcsin(min(max(z / r, -1.0), 1.0))) / step)
        column = int((np.pi - np.arctan2(y, x)) / step) % columns
        row = min(max(row, 0), rows - 1)
        if near[row, column] == 0 or r < near[row, column]:
            near[row, column] = r
            tones[row, column] = tone[i]


@njit(cache=True, nogil=True)
def close(near: np.ndarray):
    """The picture (rows, columns) m without the small holes of what is seen at a slant, or was not measured:
    pixels between opposite neighbours of one surface take their mean where they are empty or show what lies
    behind.
    """
    rows, columns = near.shape
    out = near.copy()
    for row in range(1, rows - 1):
        for column in range(columns):
            left, right = (column - 1) % columns, (column + 1) % columns
            here = near[row, column]
            for k in range(4):
                if k == 0:
                    a, b = near[row, left], near[row, right]
                elif k == 1:
                    a, b = near[row - 1, column], near[row + 1, column]
                elif k == 2:
                    a, b = near[row - 1, left], near[row + 1, right]
                else:
                    a, b = near[row - 1, right], near[row + 1, left]
                if a == 0 or b == 0:
                    continue
                less, middle = min(a, b), (a + b) / 2
                apart = abs(a - b)
                if here == 0:
                    if apart < BETWEEN * less and (out[row, column] == 0 or middle < out[row, column]):
                        out[row, column] = middle
                elif apart < JOINED + JOINED_SHARE * less and here > max(a, b) + 2 * (
                    JOINED + JOINED_SHARE * less
                ):
                    out[row, column] = min(out[row, column], middle)
    return out


@njit(cache=True, nogil=True)
def _joined(o: float, p: float, q: float, s: float):
    """Whether p and q, beside each other with o before and s after them (m, 0 unknown), are one surface."""
    if p == 0 or q == 0:
        return False
    less = min(p, q)
    if abs(p - q) <= JOINED + JOINED_SHARE * less:
        return True
    slack = (STRAIGHT + STRAIGHT_SHARE * less) / (less * less)
    if o > 0 and abs(2 / p - 1 / o - 1 / q) <= slack:
        return True
    return s > 0 and abs(2 / q - 1 / s - 1 / p) <= slack


@njit(cache=True, nogil=True)
def breaks(near: np.ndarray):
    """(rows, columns) bool: where a surface breaks off beside a pixel, or nothing is known beside it."""
    rows, columns = near.shape
    out = np.zeros(near.shape, np.bool_)
    for row in range(rows):
        for column in range(columns):
            p = near[row, column]
            right, far = (column + 1) % columns, (column + 2) % columns
            q = near[row, right]
            if (p > 0 or q > 0) and not _joined(near[row, (column - 1) % columns], p, q, near[row, far]):
                out[row, column] = out[row, right] = True
            if row + 1 < rows:
                q = near[row + 1, column]
                o = near[row - 1, column] if row > 0 else np.float32(0)
                s = near[row + 2, column] if row + 2 < rows else np.float32(0)
                if (p > 0 or q > 0) and not _joined(o, p, q, s):
                    out[row, column] = out[row + 1, column] = True
    return out


@njit(cache=True, nogil=True)
def clearances(broken: np.ndarray, step: float, reach: int):
    """(rows, columns) u8: how far a pixel is from where a surface breaks off, in quarters of a pixel, up to
    ``reach`` pixels.
    """
    rows, columns = broken.shape
    out = np.full(broken.shape, np.uint8(QUARTERS * reach))
    for row in range(rows):
        for column in range(columns):
            if not broken[row, column]:
                continue
            for other in range(max(row - reach, 0), min(row + reach + 1, rows)):
                narrow = max(np.sin((other + 0.5) * step), 0.05)
                wide = min(int(reach / narrow), columns // 2)
                for k in range(-wide, wide + 1):
                    away = QUARTERS * np.sqrt((other - row) ** 2 + (k * narrow) ** 2)
                    if away < out[other, (column + k) % columns]:
                        out[other, (column + k) % columns] = np.uint8(away)
    return out


@njit(cache=True, nogil=True)
def _slope(near: np.ndarray, row: int, column: int):
    """How much the range (m) changes from a pixel to the next of its surface, along the steeper way."""
    rows, columns = near.shape
    p, most = near[row, column], 0.0
    for k in range(2):
        if k == 0:
            a, b = near[row, (column - 1) % columns], near[row, (column + 1) % columns]
        else:
            a, b = near[max(row - 1, 0), column], near[min(row + 1, rows - 1), column]
        one = abs(a - p) if a > 0 else np.inf
        two = abs(b - p) if b > 0 else np.inf
        less = min(one, two)
        if less < 0.1 * p:
            most = max(most, less)
    return most


@njit(cache=True, nogil=True)
def _side(near: np.ndarray, row: int, column: int, r: float, slack: float, far: float):
    """Where a point at range ``r``, ``far`` pixels from a pixel, is to what was measured there: 0 on it, 1
    behind it, -1 before it or nothing known.
    """
    p = near[row, column]
    if p == 0:
        return -1
    most = slack + DEEP * r + _slope(near, row, column) * (far + 0.25)
    return 1 if r > p + most else (0 if r > p - most else -1)


@njit(cache=True, nogil=True)
def _visible(
    near: np.ndarray, fr: float, fc: float, r: float, slack: float, own: bool, step: float, aside: float
):
    """Whether a point at row and column ``fr``, ``fc`` (pixels, 0 in the middle of the first) is certainly
    seen; ``own``: it was measured by the camera's own scan, whose place is ``aside`` (m) from the camera.
    """
    rows, columns = near.shape
    row, column = min(max(int(np.rint(fr)), 0), rows - 1), int(np.rint(fc)) % columns
    nearest = _side(near, row, column, r, slack, 0.7)
    there = near[row, column]
    if own and aside <= min(r, there if there > 0 else r) * step / 2:
        return True
    top, left = int(np.floor(fr)), int(np.floor(fc))
    on = behind = 0
    for a in range(2):
        for b in range(2):
            at_row, at_column = min(max(top + a, 0), rows - 1), (left + b) % columns
            side = _side(near, at_row, at_column, r, slack, 1.0)
            on += side == 0
            # what the scanner saw beside something nearer, the camera sees unless it looks past it otherwise
            if side == 1 and not (own and aside * (1 / near[at_row, at_column] - 1 / r) < step / 2):
                behind += 1
    if nearest == 0 or (nearest == 1 and own and aside * (1 / there - 1 / r) < step / 2):
        return behind == 0
    return nearest == -1 and there > 0 and on > 0 and behind == 0


@njit(cache=True, nogil=True)
def _certain(near: np.ndarray, clear: np.ndarray, fr: float, fc: float, r: float, slack: float, need: float):
    """The row and column nearest to a point's own at which all that the picture may mean is its surface;
    (-1, -1) for none.
    """
    rows, columns = near.shape
    row, column = min(max(int(np.rint(fr)), 0), rows - 1), int(np.rint(fc)) % columns
    if clear[row, column] >= need and _side(near, row, column, r, slack, 0.7) == 0:
        return fr, fc
    reach = min(int(np.ceil(need / QUARTERS)) + 2, FARTHEST)
    best, at_row, at_column = np.inf, -1.0, -1.0
    for other in range(max(row - reach, 0), min(row + reach + 1, rows)):
        narrow = max(np.sin(np.pi * (other + 0.5) / rows), 0.05)
        wide = int(reach / narrow)
        for k in range(-wide, wide + 1):
            there = (column + k) % columns
            if clear[other, there] < need:
                continue
            away = np.sqrt((other - fr) ** 2 + ((column + k - fc) * narrow) ** 2)
            if away < best and _side(near, other, there, r, slack, away) == 0:
                best, at_row, at_column = away, float(other), float(column + k)
    return at_row, at_column


@njit(cache=True, nogil=True)
def _mix(image: np.ndarray, column: float, row: float, turns: bool, blend: bool, out: np.ndarray):
    """The colour at a column and row of a picture, at least 1 (black is kept apart from "no colour")."""
    h, w, _ = image.shape
    if not blend:
        column, row = np.rint(column), np.rint(row)
    c0, r0 = int(np.floor(column)), int(np.floor(row))
    fc, fr = column - c0, row - r0
    ra, rb = min(max(r0, 0), h - 1), min(max(r0 + 1, 0), h - 1)
    if turns:
        ca, cb = c0 % w, (c0 + 1) % w
    else:
        ca, cb = min(max(c0, 0), w - 1), min(max(c0 + 1, 0), w - 1)
    for k in range(3):
        top = image[ra, ca, k] * (1 - fc) + image[ra, cb, k] * fc
        low = image[rb, ca, k] * (1 - fc) + image[rb, cb, k] * fc
        out[k] = np.uint8(min(max(top * (1 - fr) + low * fr + 0.5, 1.0), 255.0))


@njit(cache=True, parallel=True, nogil=True)
def sample(image: np.ndarray, xyz: np.ndarray, lens: np.ndarray, turns: bool):
    """Colours (n, 3, u8, at least 1) of directions (n, 3, camera frame); 0 outside the picture."""
    out = np.zeros((len(xyz), 3), np.uint8)
    for i in prange(len(xyz)):
        column, row, inside = shown(xyz[i, 0], xyz[i, 1], xyz[i, 2], lens)
        if inside:
            c = (column + 0.5) * image.shape[1] / lens[1] - 0.5
            _mix(image, c, (row + 0.5) * image.shape[0] / lens[2] - 0.5, turns, True, out[i])
    return out


@njit(cache=True, parallel=True, nogil=True)
def colours(
    xyz: np.ndarray,
    pose: np.ndarray,
    near: Any,
    clear: Any,
    step: float,
    rotation: np.ndarray,
    lens: np.ndarray,
    image: Any,
    turns: bool,
    table: np.ndarray,
    doubted: np.ndarray,
    slack: float,
    own: bool,
    aside: float,
    need: int,
    loose: bool,
):
    """Colours of points as a camera sees them: (n, 3) u8, 0 for none, and (n,) u8 ``HIDDEN``, ``SEEN``,
    ``UNSURE`` or, where the picture shows something that passed by, ``PASSED``.

    ``xyz`` (n, 3) are mapped by ``pose`` (4×4) into the axes of the camera's scan about the camera's place,
    ``rotation`` (3×3) turns these axes into the camera's frame, ``lens`` is ``Camera.numbers``.  ``own``
    says that the points are those of the camera's scan, ``aside`` how far (m) the camera was from it.
    ``need`` is the certainty wanted, in quarters of a pixel of ``near``; with ``loose`` own points without
    such a place near them (leaves, wires) take the pixel that shows them, unmixed.  ``table`` (256, 3) u8
    says what becomes of the picture's values, ``doubted`` (``CELLS``) bool where something passed by.
    """
    out, state = np.zeros((len(xyz), 3), np.uint8), np.zeros(len(xyz), np.uint8)
    rows, columns = near.shape
    for i in prange(len(xyz)):
        a, b, c = xyz[i, 0], xyz[i, 1], xyz[i, 2]
        x = pose[0, 0] * a + pose[0, 1] * b + pose[0, 2] * c + pose[0, 3]
        y = pose[1, 0] * a + pose[1, 1] * b + pose[1, 2] * c + pose[1, 3]
        z = pose[2, 0] * a + pose[2, 1] * b + pose[2, 2] * c + pose[2, 3]
        r = np.sqrt(x * x + y * y + z * z)
        if r < NEAREST:
            continue
        fr = (np.pi / 2 - np.arcsin(min(max(z / r, -1.0), 1.0))) / step - 0.5
        fc = (np.pi - np.arctan2(y, x)) / step - 0.5
        near_row, near_column = min(max(int(np.rint(fr)), 0), rows - 1), int(np.rint(fc)) % columns
        inner = clear[near_row, near_column] >= max(need, 2 * QUARTERS)
        if inner:  # the same surface all around: what is seen is on it, all else behind it or not there
            if _side(near, near_row, near_column, r, slack, 0.7) != 0:
                if not own or r > near[near_row, near_column]:
                    continue
                inner = False
        column, row, inside = _turned(x, y, z, rotation, lens)
        if not inside or not (inner or _visible(near, fr, fc, r, slack, own, step, aside)):
            continue
        if inner:
            at_row, at_column = fr, fc
        else:
            at_row, at_column = _certain(near, clear, fr, fc, r, slack, need)
        blend = at_row >= 0
        if blend and (at_row != fr or at_column != fc):
            up, turn = np.pi / 2 - (at_row + 0.5) * step, np.pi - (at_column + 0.5) * step
            flat = np.cos(up)
            column, row, inside = _turned(
                flat * np.cos(turn), flat * np.sin(turn), np.sin(up), rotation, lens
            )
        if not inside or not (blend or (own and loose)):
            state[i] = UNSURE
            continue
        wide, high = image.shape[1] / lens[1], image.shape[0] / lens[2]
        _mix(image, (column + 0.5) * wide - 0.5, (row + 0.5) * high - 0.5, turns, blend, out[i])
        for k in range(3):
            out[i, k] = max(table[out[i, k], k], np.uint8(1))
        up = min(int((fr + 0.5) * step * CELLS[0] / np.pi), CELLS[0] - 1)
        turn = int((fc + 0.5) * step * CELLS[1] / (2 * np.pi)) % CELLS[1]
        state[i] = PASSED if doubted[up, turn] else SEEN
    return out, state


@njit(cache=True, nogil=True)
def cells(xyz: np.ndarray, pose: np.ndarray):
    """(n,) number of the cell (of ``CELLS``) in which points lie; see ``colours``."""
    out = np.empty(len(xyz), np.int64)
    for i in range(len(xyz)):
        a, b, c = xyz[i, 0], xyz[i, 1], xyz[i, 2]
        x = pose[0, 0] * a + pose[0, 1] * b + pose[0, 2] * c + pose[0, 3]
        y = pose[1, 0] * a + pose[1, 1] * b + pose[1, 2] * c + pose[1, 3]
        z = pose[2, 0] * a + pose[2, 1] * b + pose[2, 2] * c + pose[2, 3]
        r = max(np.sqrt(x * x + y * y + z * z), 1e-9)
        up = int((np.pi / 2 - np.arcsin(min(max(z / r, -1.0), 1.0))) * CELLS[0] / np.pi)
        turn = int((np.pi - np.arctan2(y, x)) * CELLS[1] / (2 * np.pi)) % CELLS[1]
        out[i] = min(up, CELLS[0] - 1) * CELLS[1] + turn
    return out


@njit(cache=True, nogil=True)
def _turned(x: float, y: float, z: float, m: np.ndarray, lens: np.ndarray):
    return shown(
        m[0, 0] * x + m[0, 1] * y + m[0, 2] * z,
        m[1, 0] * x + m[1, 1] * y + m[1, 2] * z,
        m[2, 0] * x + m[2, 1] * y + m[2, 2] * z,
        lens,
    )
