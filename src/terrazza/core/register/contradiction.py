"""What two scans say against a placement: patches of surface that one saw where the other looked through.

Moving things and noise contradict in small scattered specks, or as things of a person's size that stand on
the floor; a wrong placement contradicts in compact patches of walls, doors and ends of corridors.  So
contradicted pixels are put together into patches, and what counts is the area of each, not the share of
points.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.connected import connected
from terrazza.core.register.in_picture import AGAINST, AGREES, HIDDEN, PIXEL, hide
from terrazza.core.register.picture import ONE_OF, Picture

# m, and per metre of range: how far before what the other saw a point has to stand, before and after a fine
# fit
WIDELY, CLOSELY = (0.12, 0.01), (0.04, 0.003)
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
STANDS, SHADED = 0.9, 1.4  # m over the floor to which a thing that stands on it is seen, and one by itself
GROSS = 14.0  # m² that contradict at a glance and that no patch by patch would excuse
# as many times as much as the other way may agree one way, across the rays: what is seen flat covers little
BOTH_WAYS = 10.0


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


def _areas(xyz: np.ndarray) -> np.ndarray:
    """What a pixel covers (m²) across its ray, where points (n, 3) lie."""
    r = np.linalg.norm(xyz, axis=1)
    return r * PIXEL**2 * np.hypot(xyz[:, 0], xyz[:, 1])  # the cosine of its elevation is flat / r


def _patches(
    picture: Picture, state: np.ndarray, floor: float
) -> list[tuple[float, np.ndarray, float, bool]]:
    """(area, centre (3,), weight, whether it may have been moved) of the contradicted patches in a picture;
    ``floor`` is the height under its station.
    """
    chosen = np.flatnonzero(state == AGAINST)
    chosen = chosen[~picture.alone[chosen]]
    if len(chosen) < FEWEST:
        return []
    row, column = picture.row[chosen], picture.column[chosen]
    touching = connected(row, column, picture.jumps)
    own, count = touching.label[row, column], touching.edges.shape[1]
    xyz = picture.xyz[chosen]
    area = _areas(xyz)
    total, pixels = np.bincount(own, area, count), np.bincount(own, minlength=count)
    large = np.flatnonzero((total > LEAST) & (pixels >= FEWEST))
    if not len(large):
        return []
    loose, out = touching.loose, []
    for label in large:
        mine = xyz[own == label]
        size = np.ptp(np.quantile(mine, [0.03, 0.97], axis=0), axis=0)
        top, low = mine[:, 2].max() - floor, mine[:, 2].min() - floor
        stands = low < (SHADED if loose[label] >= LOOSE else STANDS)
        fits = lambda kind: stands and np.hypot(*size[:2]) < kind[0] and top < kind[1]
        weight, moved = 1.0, False
        if fits(PERSON) or fits(FURNITURE):
            weight, moved = max(MOVED, 1.0 - (1.0 - MOVED) * loose[label] / LOOSE), True
        elif fits(CUPBOARD) and loose[label] >= LEANING or fits(CAR) and loose[label] >= LOOSE:
            weight, moved = CARRIED, True
        part = min(1.0, pixels[label] / MANY)
        out.append((float(total[label]), mine.mean(0), float(weight * part), moved))
    return out


def glance(a: Picture, b: Picture, pose: np.ndarray) -> tuple[float, float]:
    """(agree, against), m², of ``pose`` (b to a) by a few points of each and with a wide slack; what is
    against counts for each ``USUAL`` m² that agree where that is more. ``pose`` (4, 4).
    """
    agree = against = 0.0
    for mine, other, way in ((b, a, pose), (a, b, rigid.inverse(pose))):
        state = mine.few.states(other, way, WIDELY)
        agree += ONE_OF * mine.few.covers(state, AGREES)
        against += ONE_OF * mine.few.covers(state, AGAINST)
    return agree, against * min(1.0, USUAL / max(agree, 1e-9))


def _states(
    mine: Picture, other: Picture, way: np.ndarray, eye: np.ndarray, slack: tuple[float, float]
) -> np.ndarray:
    """What each point of one picture is in another (see ``Points.states``), which lies ``way`` (4, 4) from it
    and whose scanner stands at ``eye`` (3,).
    """
    state = mine.points.states(other, way, slack)
    hide(mine.xyz, mine.facing, np.ascontiguousarray(eye), state)
    return state


def covered(mine: Picture, others: list[tuple[Picture, np.ndarray]]) -> float:
    """Share of a scan all around that some of the others agree with, each with its pose (4, 4) in the frame
    of the first.
    """
    seen = np.zeros(len(mine.xyz), bool)
    for other, pose in others:
        seen |= _states(mine, other, rigid.inverse(pose), pose[:3, 3], CLOSELY) == AGREES
    return float(seen.sum() / max(len(mine.xyz), WHOLE))


def judge(a: Picture, b: Picture, pose: np.ndarray, slack: tuple[float, float] = CLOSELY) -> Verdict:
    """What two scans say of ``pose`` (b to a): each one's first returns are looked for in the other's
    picture. ``pose`` (4, 4).
    """
    shares, found, common, told, agreed = [], [], [], [], []
    back = rigid.inverse(pose)
    for mine, other, way, eye in ((b, a, pose, back[:3, 3]), (a, b, back, pose[:3, 3])):
        state = _states(mine, other, way, eye, slack)
        counts = np.bincount(state, minlength=HIDDEN + 1)
        yes, judged = int(counts[AGREES]), int(counts[AGREES] + counts[AGAINST])
        agreed.append(mine.points.covers(state, AGREES))
        if np.isfinite(other.near).any():
            shares.append(yes / max(int(counts[1:].sum()), 1))
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
