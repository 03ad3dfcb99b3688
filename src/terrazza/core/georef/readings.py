"""How a control file may be read, and which other placements explain it as well."""

from dataclasses import dataclass, field
from itertools import permutations

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.georef.fit import KNOWN_FACTORS
from terrazza.core.georef.match import Matching, match, solutions

NEAR = 4.0  # a rival's residuals may be this many times the best one's


@dataclass(frozen=True)
class Reading:
    """One way to read a control file: ``order`` of its columns, ``mirrored`` (east to west), ``factor`` to
    metres, ``heights``: times that target heights are added.
    """

    order: tuple[int, int, int]
    mirrored: bool = False
    factor: float = 1.0
    heights: float = 1.0

    def control(self, columns: np.ndarray, heights: np.ndarray) -> np.ndarray:
        """(n, 3) easting, northing, height of the targets' centres, m, of a file's ``columns`` and target
        ``heights``.
        """
        out = (
            columns[:, list(self.order)] * self.factor
            + np.c_[np.zeros((len(heights), 2)), self.heights * self.factor * heights]
        )
        return out * [-1.0, 1.0, 1.0] if self.mirrored else out


@dataclass(frozen=True)
class Given:
    """A control file's points: ``names``; ``columns`` (n, 3) easting, northing, height as the file has them,
    in m; target ``heights`` (n,) m; ``check`` (n,) bool.
    """

    names: list[str]
    columns: np.ndarray
    heights: np.ndarray
    check: np.ndarray

    @property
    def centres(self) -> np.ndarray:
        """(n, 3) where the targets' centres should be."""
        return self.columns + np.c_[np.zeros((len(self.heights), 2)), self.heights]


@dataclass
class Review:
    """``doubt``: sentences; ``detectable`` (n,): least blunder (m) that the fit would find in each used
    point; ``suspects``: names of points that sentences are about.
    """

    doubt: list[str] = field(default_factory=list)
    detectable: np.ndarray = field(default_factory=lambda: np.zeros(0))
    suspects: list[str] = field(default_factory=list)


def another_reading(
    columns: np.ndarray,
    heights: np.ndarray,
    targets: np.ndarray,
    base: Reading,
    found: int,
    tolerance: float,
    level: bool,
) -> tuple[str, int] | None:
    """Words for the reading of a file that explains clearly more points than the ``found`` ones of ``base``,
    and how many; None where there is none.

    ``columns`` (n, 3) in the unit given, ``heights`` (n,) target heights, ``targets`` (m, 3) job frame.
    """
    exchanged = base.order[1], base.order[0], base.order[2]
    trials: list[tuple[str, Reading]] = [
        (
            "mirrored: easting and northing are exchanged, or one of them has the wrong sign (the data "
            "cannot tell which)",
            Reading(base.order, True),
        )
    ]
    for order in permutations(range(3)):
        if order not in {base.order, exchanged}:
            trials.append((f"with the columns read as {order_words(order)}", Reading(order)))
    if heights.any():
        trials += [
            (
                "with target heights left away, so they seem to be in the heights already",
                Reading(base.order, heights=0.0),
            ),
            ("with target heights taken off instead of added", Reading(base.order, heights=-1.0)),
        ]
    for factor, words in KNOWN_FACTORS.items():
        trials.append(
            (f"with a scale of {factor:g}, which looks like {words}", Reading(base.order, factor=1 / factor))
        )
    best: tuple[str, int] | None = None
    for words, reading in trials:
        control = reading.control(columns, heights)
        if np.abs(control - control.mean(0)).max() > 1e5 or np.ptp(control, axis=0).max() < 0.3:
            continue
        count = len(match(control, targets, tolerance, level).pairs)
        if count >= max(3, found + 2) and (best is None or count > best[1]):
            best = (words, count)
    return best


def order_words(order: tuple[int, int, int]) -> str:
    names = {order[0]: "easting", order[1]: "northing", order[2]: "height"}
    return ", ".join(names[k] for k in range(3))


def rivals(
    control: np.ndarray, targets: np.ndarray, best: Matching, tolerance: float, level: bool
) -> list[Matching]:
    """Other placements that explain about as many points about as well as ``best``. ``control`` (n, 3) and
    ``targets`` (m, 3), m.
    """
    bar = NEAR * max(best.rms, 0.002)
    others = solutions(control, targets, tolerance, level, 4)
    return [
        o
        for o in others
        if o.pairs != best.pairs
        and len(o.pairs) >= max(3, len(best.pairs) - 1)
        and o.rms < bar
        and not _one(o, best, control)
    ]


def _one(a: Matching, b: Matching, control: np.ndarray) -> bool:
    apart = rigid.apply(a.pose, rigid.apply(rigid.inverse(b.pose), control)) - control
    return bool(np.linalg.norm(apart, axis=1).max() < 0.1)


def tilt(pose: np.ndarray, targets: np.ndarray, sigma: np.ndarray) -> tuple[float, float]:
    """How far (rad) a fit leans from upright, and its standard deviation. ``pose`` (4, 4), ``targets`` (n, 3)
    and ``sigma`` (n,), m.
    """
    placed = rigid.apply(pose, targets)
    centre = placed.mean(0)
    design = rigid.motion_of(placed - centre)
    inverse = np.linalg.inv(design.T @ (design / np.repeat(sigma, 3)[:, None] ** 2))
    lean = np.arccos(np.clip(pose[2, 2], -1, 1))
    axis = np.array([pose[1, 2], -pose[0, 2]])
    axis = axis / max(np.linalg.norm(axis), 1e-12)
    return float(lean), float(np.sqrt(axis @ inverse[:2, :2] @ axis))
