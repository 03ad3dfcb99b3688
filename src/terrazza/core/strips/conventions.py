"""What the numbers of a trajectory mean, told from the path itself: which column is what, degrees or radians,
what headings are counted from and which way round, and what times are counted from.
"""

from dataclasses import dataclass
from itertools import permutations

import numpy as np

from terrazza.core.strips.flight import Flight, passes
from terrazza.errors import InputError

WEEK, ADJUSTED = 604_800.0, 1e9  # s: of a GPS week; GPS seconds less this are adjusted standard time
CRAB = np.radians(40.0)  # by which a craft may point beside its course
NEAR = np.radians(0.3)  # ways of counting that fit the courses as well as that cannot be told by them
QUARTERS = ("east", "north", "west", "south")


@dataclass(frozen=True)
class Heading:
    """How headings are counted: ``sense`` 1 counter-clockwise or -1, from ``quarter`` times 90° from east,
    ``unit`` rad; ``off`` (rad) is how far they lie from the course.
    """

    sense: int
    quarter: int
    unit: float
    off: float

    def of(self, values: np.ndarray) -> np.ndarray:
        """Headings (rad) counter-clockwise from east, without jumps. Both (n,)."""
        return np.unwrap(self.sense * values * self.unit + self.quarter * np.pi / 2)

    @property
    def words(self) -> str:
        way = "counter-clockwise" if self.sense > 0 else "clockwise"
        unit = "degrees" if self.unit < 1 else "radians"
        return f"heading {way} from {QUARTERS[self.quarter]}, {unit}"


def headings(values: np.ndarray, time: np.ndarray, xyz: np.ndarray) -> list[Heading]:
    """How a column of headings (n,) may be counted, by the courses of the straight pieces of the path: the
    ways that fit all of them about as well as the best, which comes first.
    """
    flat = Flight(time, xyz, np.zeros((len(time), 3)))
    found = passes(flat)
    if not found:
        raise InputError("The trajectory has no straight piece.", "Choose the path of the whole flight.")
    pieces = [(np.flatnonzero((time >= p.start) & (time <= p.end)), p.course) for p in found]
    tried = []
    for unit in (np.pi / 180, 1.0):
        for sense in (1, -1):
            for quarter in range(4):
                off = [sense * values[i] * unit + quarter * np.pi / 2 - course for i, course in pieces]
                worst = max(float(np.median(np.abs((o + np.pi) % (2 * np.pi) - np.pi))) for o in off)
                tried.append(Heading(sense, quarter, unit, worst))
    tried.sort(key=lambda one: one.off)
    return [one for one in tried if one.off < tried[0].off + NEAR]


def heading(values: np.ndarray, time: np.ndarray, xyz: np.ndarray) -> Heading:
    """The best of ``headings``. ``values`` and ``time`` (n,), ``xyz`` (n, 3) m."""
    return headings(values, time, xyz)[0]


def named(
    columns: dict[str, np.ndarray],
    unnamed: np.ndarray,
    low: np.ndarray,
    high: np.ndarray,
    when: tuple[float, float],
) -> dict[str, np.ndarray]:
    """All columns by name, where a file names none: ``low`` and ``high`` (3,) bound the points, ``when`` are
    their first and last times.  The angles are “a” “b” and “heading”.
    """
    if {"time", "x", "y", "z", "heading"} <= set(columns):
        return columns
    left = list(range(unnamed.shape[1]))
    rising = [k for k in left if (np.diff(unnamed[:, k]) > 0).mean() > 0.99]
    if not rising:
        raise InputError("No column of the trajectory rises steadily as times do.", "Name the columns.")
    time = next((k for k in rising if shifted(unnamed[[0, -1], k], when) is not None), rising[0])
    left.remove(time)
    middle, reach = (low + high) / 2, np.linalg.norm(high - low)
    off = lambda x, y: np.abs(np.median(unnamed[:, [x, y]], axis=0) - middle[:2]).sum() / reach
    moving = lambda x, y: np.ptp(unnamed[:, [x, y]], axis=0).min()
    x, y = min(permutations(left, 2), key=lambda two: (round(off(*two), 2), -moving(*two)))
    out = {"time": unnamed[:, time], "x": unnamed[:, x], "y": unnamed[:, y]}
    rest = [k for k in left if k not in (x, y)]
    flat = np.stack([out["x"], out["y"], 0 * out["x"]], 1)
    along = min(rest, key=lambda k: heading(unnamed[:, k], out["time"], flat).off)
    rest.remove(along)
    up = max(
        rest, key=lambda k: float(np.median(unnamed[:, k]))
    )  # a craft is over the ground, angles are small
    rest.remove(up)
    out |= {"z": unnamed[:, up], "heading": unnamed[:, along]}
    return out | {"a": unnamed[:, rest[0]], "b": unnamed[:, rest[1]]}


def shifted(path: np.ndarray, points: tuple[float, float]) -> tuple[str, float] | None:
    """(in words, what points' times need added before a remainder by week where the words say so) for the
    times of a path (first, last) and of points to meet; None where they do not.
    """
    meets = lambda a, b: a < path[-1] and b > path[0]
    low, high = points
    if meets(low, high):
        return "", 0.0
    if meets(low + ADJUSTED, high + ADJUSTED):
        return "adjusted standard time", ADJUSTED
    if meets(low - ADJUSTED, high - ADJUSTED):
        return "GPS time beside adjusted standard time", -ADJUSTED
    for shift in (ADJUSTED, 0.0):
        week = WEEK * np.floor((low + shift) / WEEK)
        if meets(low + shift - week, high + shift - week):
            return "seconds of the GPS week", shift - week
    return None
