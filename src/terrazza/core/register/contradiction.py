"""What two scans say against a placement: patches of surface that one saw where the other looked through.

Moving things and noise contradict in small scattered specks, or as things of a person's size that stand on
the floor; a wrong placement contradicts in compact patches of walls, doors and ends of corridors.  So
contradicted pixels are put together into patches, and what counts is the area of each, not the share of
points.
"""

from dataclasses import dataclass
from functools import cached_property
from itertools import product
from typing import Any

import numpy as np
from numba import njit
from scipy import ndimage

from terrazza.core.geometry import rigid, voxels

PIXEL = np.radians(1.0)
ROWS, COLUMNS = int(round(np.pi / PIXEL)), int(round(2 * np.pi / PIXEL))
# m, and per metre of range: how far before what the other saw a point has to stand, before and after a fine
# fit
WIDELY, CLOSELY = (0.12, 0.01), (0.04, 0.003)
CLOSE, FAR = 0.6, 20.0  # m: nearer points say nothing, and farther pixels are too wide to be told from specks
# m, and per metre of range, from the nearest of its eight neighbours: a pixel farther from all of them spans
# an edge, and its range lies anywhere between what is before and behind it
ALONE = (0.03, 0.01)
STRIP = 3  # such neighbours of a pixel in a strip of them, at most: in leaves there are more
# m² and pixels: smaller patches are specks; of fewer than many pixels (far away, at a grazing angle) they
# count in part
LEAST, FEWEST, MANY = 0.12, 6, 30
USUAL = 100.0  # m²: what agrees in a room; in a hall as much more may contradict as there is more to see
# m: width and height over the floor of what moves by itself or is moved; doors are higher, as are cupboards,
# which are moved rarely; cars are wider
PERSON, FURNITURE, CUPBOARD, CAR = (1.3, 1.93), (2.2, 1.35), (2.2, 2.4), (5.4, 2.0)
# m² of a patch that make a placement e times less likely, and as how many times that a patch counts at most:
# something may have been moved there
PATCH, SURE = 0.05, 6.0
WHOLE = 25_000  # pixels of a scan that saw all around; what agrees is a share of that where a scan saw less
# weights of what such a thing contradicts, and a cupboard or a car; and the share of its edge over which
# something farther is seen from which it is surely a thing by itself (at the truth of simulated rooms and
# floors all have 0.7 and more; of patches as small at wrong placements half have less than 0.1, of those up
# to the size of a cupboard nine tenths: they are pieces of walls)
MOVED, CARRIED, LOOSE, LEANING = 0.2, 0.3, 0.5, 0.3
STANDS, HIDDEN = 0.9, 1.4  # m over the floor to which a thing that stands on it is seen, and one by itself
EDGES = ((1, 1), (1, -1), (0, 1))  # axis and way to the flanks of a pixel, and over it
UNDER, FLOOR_CELL = 4.0, 0.5  # m about a station in which its floor is looked for, and cells of it
# at a glance: of so many points one is looked for, and m² that contradict that no patch by patch would excuse
ONE_OF, GROSS = 8, 14.0
# as many times as much as the other way may agree one way, across the rays: what is seen flat covers little
BOTH_WAYS = 10.0
# cosine within which the corners of what is flat about a pixel face one way, and sine of how far behind such
# a face another scanner has to stand: what that saw there is the other side of a wall
FLAT, BEHIND = np.cos(np.radians(25)), 0.05
SEEN = 5  # pixels of a column from which a scan saw something that way


@dataclass(frozen=True)
class Picture:
    """The first return of each pixel of 1°: ``xyz`` (n, 3) in the scanner's frame with ``row``, ``column``,
    and ``near`` and ``far`` (rows, columns), the least and the greatest range among a pixel and its
    neighbours (NaN where a pixel saw nothing).
    """

    xyz: np.ndarray
    row: np.ndarray
    column: np.ndarray
    near: np.ndarray
    far: np.ndarray

    @cached_property
    def floor(self) -> float:
        """Height (m, scanner frame) of the floor under the station, −1.6 where none is seen: the median of
        what is lowest in each cell of the plan, since walls and furniture stand on floor that is seen.
        """
        below = self.xyz[(self.xyz[:, 2] < -0.4) & (np.hypot(self.xyz[:, 0], self.xyz[:, 1]) < UNDER)]
        if len(below) <= 50:
            return -1.6
        cells, cell = np.unique(voxels.keys(below * [1, 1, 0], FLOOR_CELL), return_inverse=True)
        return float(np.median(ndimage.minimum(below[:, 2], cell, np.arange(len(cells)))))

    @cached_property
    def around(self) -> float:
        """Share of the horizon in which something was seen, floor and ceiling too: 1 of a scan all around, a
        fifth of a sector of 72°.
        """
        return float((np.bincount(self.column, minlength=COLUMNS) >= SEEN).mean())

    @cached_property
    def few(self) -> np.ndarray:
        """(n, 3): one of ``ONE_OF`` points."""
        return np.ascontiguousarray(self.xyz[::ONE_OF])

    @cached_property
    def jumps(self) -> np.ndarray:
        """(rows, columns) uint8: bit by bit whether something farther, or nothing, was seen next to a pixel
        in the directions of ``EDGES``. All of them where there is no picture.
        """
        if not np.isfinite(self.near).any():
            return np.full((ROWS, COLUMNS), 2 ** len(EDGES) - 1, np.uint8)
        r, out = self._ranges(), np.zeros((ROWS, COLUMNS), np.uint8)
        for bit, (axis, way) in enumerate(EDGES):
            beside = np.maximum(np.roll(r, -way, axis), np.roll(r, -2 * way, axis))
            out |= (beside > r * (1 + WIDELY[1]) + WIDELY[0]).astype(np.uint8) << bit
        return out

    @cached_property
    def alone(self) -> np.ndarray:
        """(n,) bool: pixels of which no neighbour is about as far, in strips as along an edge and not in
        leaves; none where there is no picture.
        """
        r = self._ranges()
        ways = [way for way in product((-1, 0, 1), repeat=2) if any(way)]
        least = np.full((ROWS, COLUMNS), np.inf)
        with np.errstate(invalid="ignore"):  # nothing beside nothing
            for way in ways:
                least = np.fmin(least, np.abs(np.roll(r, way, (0, 1)) - r))
        alone = (least > ALONE[0] + ALONE[1] * r) & np.isfinite(self.near).any()
        like = sum(np.roll(alone, way, (0, 1)).astype(np.uint8) for way in ways)
        return (alone & (like <= STRIP))[self.row, self.column]

    @cached_property
    def facing(self) -> np.ndarray:
        """(n, 3): unit normals of what is flat about a pixel, towards the scanner; zeros where the corners of
        its cross of neighbours do not face one way, or one of them saw nothing.
        """
        grid = np.full((ROWS, COLUMNS, 3), np.nan)
        grid[self.row, self.column] = self.xyz
        up, left, down, right = (np.roll(grid, way, axis) - grid for way in (-1, 1) for axis in (0, 1))
        up[-1] = down[0] = np.nan  # zenith and nadir
        ways = (left, up), (up, right), (right, down), (down, left)
        with np.errstate(invalid="ignore", divide="ignore"):  # nothing beside nothing
            corners = np.stack([np.cross(*way) for way in ways])
            corners /= np.linalg.norm(corners, axis=-1, keepdims=True)
            mean = corners.sum(0)
            mean /= np.linalg.norm(mean, axis=-1, keepdims=True)
            flat = ((corners * mean).sum(-1) > FLAT).all(0)
            mean *= -np.sign((mean * grid).sum(-1, keepdims=True))
        mean[~flat] = 0.0
        return np.ascontiguousarray(mean[self.row, self.column])

    def _ranges(self) -> np.ndarray:
        """(rows, columns) m of each pixel, infinite where nothing was seen."""
        r = np.full((ROWS, COLUMNS), np.inf)
        r[self.row, self.column] = np.linalg.norm(self.xyz, axis=1)
        return r

    @classmethod
    def of(cls, xyz: np.ndarray, station: bool = True) -> "Picture":
        """Of a scan's points (n, 3); without a ``station`` at the origin it has points to be looked for, and
        no picture to look for others in.
        """
        r = np.linalg.norm(xyz, axis=1)
        use = r > CLOSE
        xyz, r = xyz[use], r[use]
        row = np.clip(
            ((np.arcsin(np.clip(xyz[:, 2] / r, -1, 1)) + np.pi / 2) / PIXEL).astype(int), 0, ROWS - 1
        )
        column = ((np.arctan2(xyz[:, 1], xyz[:, 0]) + np.pi) / PIXEL).astype(int) % COLUMNS
        pixel = row * COLUMNS + column
        order = np.lexsort((r, pixel))
        first = order[np.r_[True, pixel[order][1:] != pixel[order][:-1]]]
        near, far = np.full((ROWS, COLUMNS), np.inf), np.full((ROWS, COLUMNS), -np.inf)
        np.minimum.at(near, (row, column), r)
        np.maximum.at(far, (row, column), r)
        empty = ~np.isfinite(near)
        near, far = (
            ndimage.minimum_filter(near, 3, mode=("nearest", "wrap")),
            ndimage.maximum_filter(far, 3, mode=("nearest", "wrap")),
        )
        near[empty] = far[empty] = np.nan
        if not station:
            near[:] = far[:] = np.nan
            first = np.random.default_rng(1).choice(
                len(xyz), min(len(xyz), ROWS * COLUMNS // 2), replace=False
            )
        return cls(
            np.ascontiguousarray(xyz[first]),
            row[first].astype(np.int32),
            column[first].astype(np.int32),
            near.astype(np.float32),
            far.astype(np.float32),
        )


@dataclass(frozen=True)
class Verdict:
    """On a placement of two scans: ``agree`` each way (share of what could be judged), ``common`` (share of
    the smaller scan's points that could be judged and agree), ``told`` (the same as a share of a scan all
    around), ``area`` (m²) of the patches that contradict, people weighed down, for each ``USUAL`` m² that
    agree where that is more, ``cost``: the same as a logarithm of how much less likely it makes the
    placement, patch by patch, ``moved`` and ``moved_area``: the parts of it and of the area that things which
    may have been moved make up, and ``patches``: (area m², centre (3,) in a's frame), largest first.
    """

    agree: tuple[float, float]
    common: float
    told: float
    area: float
    cost: float
    patches: list[Any]
    moved: float = 0.0
    moved_area: float = 0.0
    mutual: float = 1.0

    @property
    def shared(self) -> float:
        return min(self.agree)


@njit(cache=True, nogil=True)
def _angle(y: float, x: float) -> float:
    """The angle (rad) of a direction to 0.00001, which is a thousandth of a pixel: by the polynomial of
    Abramowitz and Stegun 1964, 4.4.49, because it takes a third of the time.
    """
    wide, tall = abs(x), abs(y)
    t = min(wide, tall) / max(wide, tall, 1e-300)
    q = t * t
    angle = t * (0.9998660 + q * (-0.3302995 + q * (0.1801410 + q * (-0.0851330 + q * 0.0208351))))
    if tall > wide:
        angle = np.pi / 2 - angle
    if x < 0:
        angle = np.pi - angle
    return -angle if y < 0 else angle


@njit(cache=True, nogil=True)
def _project(
    xyz: np.ndarray,
    pose: np.ndarray,
    near: np.ndarray,
    far: np.ndarray,
    slack: float,
    slope: float,
    state: np.ndarray,
):
    """For each point, brought to the other scan: 1 agrees, 2 contradicts (it stands where the other saw
    through), 3 lies hidden, 0 cannot be judged.
    """
    for i in range(len(xyz)):
        state[i] = _state(xyz[i, 0], xyz[i, 1], xyz[i, 2], pose, near, far, slack, slope)


@njit(cache=True, nogil=True)
def _hide(xyz: np.ndarray, facing: np.ndarray, eye: np.ndarray, state: np.ndarray):
    """Of points that agree (state 1) those lie hidden (3) that face away (``facing``, (n, 3)) from the other
    scanner's ``eye`` (3,).
    """
    for i in range(len(xyz)):
        if state[i] == 1:
            x, y, z = eye[0] - xyz[i, 0], eye[1] - xyz[i, 1], eye[2] - xyz[i, 2]
            before = x * facing[i, 0] + y * facing[i, 1] + z * facing[i, 2]
            if before < -BEHIND * np.sqrt(x * x + y * y + z * z):
                state[i] = 3


@njit(cache=True, nogil=True)
def _state(
    u: float,
    v: float,
    w: float,
    pose: np.ndarray,
    near: np.ndarray,
    far: np.ndarray,
    slack: float,
    slope: float,
) -> int:
    """What one point (u, v, w) is in another scan's picture (see ``_project``)."""
    x = pose[0, 0] * u + pose[0, 1] * v + pose[0, 2] * w + pose[0, 3]
    y = pose[1, 0] * u + pose[1, 1] * v + pose[1, 2] * w + pose[1, 3]
    z = pose[2, 0] * u + pose[2, 1] * v + pose[2, 2] * w + pose[2, 3]
    r = np.sqrt(x * x + y * y + z * z)
    if r < CLOSE:
        return 0
    row = min(max(int((_angle(z, np.sqrt(x * x + y * y)) + np.pi / 2) / PIXEL), 0), ROWS - 1)
    column = int((_angle(y, x) + np.pi) / PIXEL) % COLUMNS
    low, high = near[row, column], far[row, column]
    if not np.isfinite(low):
        return 0
    room = slack + slope * r
    if r < low - room:
        return 2 if r < FAR and u * u + v * v + w * w < FAR * FAR else 0
    return 3 if r > high + room else 1


def _areas(xyz: np.ndarray) -> np.ndarray:
    """What a pixel covers (m²) across its ray, where points (n, 3) lie."""
    r = np.linalg.norm(xyz, axis=1)
    return r * PIXEL**2 * np.hypot(xyz[:, 0], xyz[:, 1])  # the cosine of its elevation is flat / r


def _closed(mask: np.ndarray) -> np.ndarray:
    """A mask (rows, columns) with gaps of a pixel or two filled, around the circle too: a 3×3 closing, by
    shifts because that is a hundred times quicker than a general one.
    """
    wide = np.pad(np.pad(mask, ((2, 2), (0, 0))), ((0, 0), (2, 2)), mode="wrap")
    tall = wide[:-2] | wide[1:-1] | wide[2:]
    grown = tall[:, :-2] | tall[:, 1:-1] | tall[:, 2:]
    low = grown[:-2] & grown[1:-1] & grown[2:]
    return (low[:, :-2] & low[:, 1:-1] & low[:, 2:]) | mask


def _patches(
    picture: Picture, state: np.ndarray, floor: float
) -> list[tuple[float, np.ndarray, float, bool]]:
    """(area, centre (3,), weight, whether it may have been moved) of the contradicted patches in a picture;
    ``floor`` is the height under its station.
    """
    bad = np.zeros((ROWS, COLUMNS), bool)
    chosen = (state == 2) & ~picture.alone
    bad[picture.row[chosen], picture.column[chosen]] = True
    if not bad.any():
        return []
    closed = _closed(bad)
    labels, count = ndimage.label(closed, np.ones((3, 3)))
    for row in np.flatnonzero((labels[:, 0] > 0) & (labels[:, -1] > 0)):  # the picture closes around
        labels[labels == labels[row, -1]] = labels[row, 0]
    own = labels[picture.row[chosen], picture.column[chosen]]
    xyz = picture.xyz[chosen]
    area = _areas(xyz)
    total, pixels = np.bincount(own, area, count + 1), np.bincount(own, minlength=count + 1)
    large = np.flatnonzero((total > LEAST) & (pixels >= FEWEST))
    if not len(large):
        return []
    loose, out = _loose(picture, closed, labels, count + 1), []
    for label in large:
        mine = xyz[own == label]
        size = np.ptp(np.quantile(mine, [0.03, 0.97], axis=0), axis=0)
        top, low = mine[:, 2].max() - floor, mine[:, 2].min() - floor
        stands = low < (HIDDEN if loose[label] >= LOOSE else STANDS)
        fits = lambda kind: stands and np.hypot(*size[:2]) < kind[0] and top < kind[1]
        weight, moved = 1.0, False
        if fits(PERSON) or fits(FURNITURE):
            weight, moved = max(MOVED, 1.0 - (1.0 - MOVED) * loose[label] / LOOSE), True
        elif fits(CUPBOARD) and loose[label] >= LEANING or fits(CAR) and loose[label] >= LOOSE:
            weight, moved = CARRIED, True
        part = min(1.0, pixels[label] / MANY)
        out.append((float(total[label]), mine.mean(0), float(weight * part), moved))
    return out


def _loose(picture: Picture, mask: np.ndarray, labels: np.ndarray, count: int) -> np.ndarray:
    """How much each patch (count,) is a thing by itself: the share of its upper edge, and of that of its
    flanks which shows more of it, over which its own scan saw something farther. A piece of a wall has wall
    beside it and over it.
    """
    shares = []
    for bit, (axis, way) in enumerate(EDGES):
        edge = np.flatnonzero(mask & ~np.roll(mask, -way, axis))
        at, jumps = labels.ravel()[edge], (picture.jumps.ravel()[edge] >> bit) & 1
        shares.append(np.bincount(at, jumps, count) / np.maximum(np.bincount(at, minlength=count), 1))
    return np.minimum(shares[2], np.maximum(shares[0], shares[1]))


def glance(a: Picture, b: Picture, pose: np.ndarray) -> tuple[float, float]:
    """(agree, against), m², of ``pose`` (b to a) by a few points of each and with a wide slack; what is
    against counts for each ``USUAL`` m² that agree where that is more. ``pose`` (4, 4).
    """
    agree = against = 0.0
    for mine, other, way in ((b, a, pose), (a, b, rigid.inverse(pose))):
        yes, no = _glanced(mine.few, np.ascontiguousarray(way), other.near, other.far, *WIDELY)
        agree, against = agree + ONE_OF * yes, against + ONE_OF * no
    return agree, against * min(1.0, USUAL / max(agree, 1e-9))


@njit(cache=True, nogil=True)
def _glanced(
    xyz: np.ndarray, pose: np.ndarray, near: np.ndarray, far: np.ndarray, slack: float, slope: float
) -> tuple[float, float]:
    """What points cover (m²) that agree with the other scan, and that contradict it (see ``_project``)."""
    agree, against = 0.0, 0.0
    for i in range(len(xyz)):
        state = _state(xyz[i, 0], xyz[i, 1], xyz[i, 2], pose, near, far, slack, slope)
        if state == 0 or state == 3:
            continue
        flat = np.sqrt(xyz[i, 0] ** 2 + xyz[i, 1] ** 2)
        area = np.sqrt(flat * flat + xyz[i, 2] ** 2) * flat * PIXEL * PIXEL
        if state == 1:
            agree += area
        else:
            against += area
    return agree, against


def judge(a: Picture, b: Picture, pose: np.ndarray, slack: tuple[float, float] = CLOSELY) -> Verdict:
    """What two scans say of ``pose`` (b to a): each one's first returns are looked for in the other's
    picture. ``pose`` (4, 4).
    """
    shares, found, common, told, agreed = [], [], [], [], []
    back = rigid.inverse(pose)
    for mine, other, way, eye in ((b, a, pose, back[:3, 3]), (a, b, back, pose[:3, 3])):
        state = np.zeros(len(mine.xyz), np.uint8)
        _project(mine.xyz, way, other.near, other.far, *slack, state)
        _hide(mine.xyz, mine.facing, np.ascontiguousarray(eye), state)
        near = state == 1
        agreed.append(float(_areas(mine.xyz[near]).sum()))
        yes, judged = int(near.sum()), int((near | (state == 2)).sum())
        if np.isfinite(other.near).any():
            shares.append(yes / max(int((state > 0).sum()), 1))
            common.append(yes / max(len(mine.xyz), 1))
            told.append(yes / max(len(mine.xyz), WHOLE))
        centre = (lambda p: rigid.apply(pose, p[None])[0]) if mine is b else (lambda p: p)
        found += (
            [
                (area * weight, centre(middle), moved)
                for area, middle, weight, moved in _patches(mine, state, mine.floor)
            ]
            if judged
            else []
        )
    found.sort(key=lambda p: -p[0])
    shares = shares or [0.0]
    part = min(1.0, USUAL / max(sum(agreed), 1e-9))
    one_picture = len(common) < 2
    cost = [min(p[0] * part / PATCH, SURE) for p in found]
    return Verdict(
        (shares[-1], shares[0]),
        max(common, default=0.0),
        max(told, default=0.0),
        float(sum(p[0] for p in found)) * part,
        float(sum(cost)),
        [p[:2] for p in found],
        float(sum(c for c, p in zip(cost, found) if p[2])),
        float(sum(p[0] for p in found if p[2])) * part,
        1.0 if one_picture else min(1.0, BOTH_WAYS * min(agreed) / max(max(agreed), 1e-9)),
    )
