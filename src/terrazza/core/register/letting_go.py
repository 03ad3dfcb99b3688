"""Back to where a scan belongs from where a hand let it go, half a metre and ten degrees off.

A fit from there slides along walls as often as not.  Placements that the plan match has near it, and the same
place under headings to either side, are fitted too; what the pictures of both scans say decides.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.like_points import Found, Side, place_among
from terrazza.core.register.offers import same
from terrazza.core.register.plan_match import PlanShape, candidates

REACH = (1.5, np.radians(25.0))  # m and rad: farther from where it was let go it does not belong
TRIED = 16  # candidates of the plan match
HEADINGS = np.radians([0.0, -6.0, 6.0, -12.0, 12.0])


def back(
    stays: Side,
    moves: Side,
    shapes: tuple[PlanShape, PlanShape],
    start: np.ndarray,
    reach: tuple[float, float] = REACH,
) -> Found:
    """The scan in ``moves`` placed against the one in ``stays``, from ``start`` (4×4) in its frame and no
    farther from there than ``reach`` (m, rad); ``shapes`` in plan, that of the one that stays first.
    """
    near = lambda pose: same(pose, start, reach)
    found = [c.pose for c in candidates(*shapes, TRIED) if near(c.pose)]
    turned = [rigid.step(start, np.array([0.0, 0.0, h]), np.zeros(3), start[:3, 3]) for h in HEADINGS]
    return place_among(stays, moves, [*found, *turned], near)
