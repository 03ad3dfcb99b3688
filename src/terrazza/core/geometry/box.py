"""Boxes that lie at an angle in the frame of the points, and what lies inside or, turned inside out, outside
of them.
"""

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from terrazza.core.geometry import rigid


class Noded(Protocol):
    """A cloud in nodes, as far as boxes ask it."""

    def touched(
        self, low: np.ndarray, high: np.ndarray, pose: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]: ...


@dataclass(frozen=True)
class Box:
    """``frame`` (4×4) maps points to the box's own axes, in which it reaches from ``low`` to
    ``high`` (3,).
    """

    low: np.ndarray
    high: np.ndarray
    frame: np.ndarray
    outside: bool = False

    def holds(self, points: np.ndarray) -> np.ndarray:
        """Mask of (n, 3) points that the box shows."""
        q = rigid.apply(self.frame, points)
        return ((q >= self.low) & (q <= self.high)).all(1) != self.outside

    def nodes(self, cloud: Noded, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which nodes of a cloud, whose points ``pose`` brings here, may hold points that the box shows, and
        which hold only such (masks). Masks (k,), ``pose`` (4, 4).
        """
        meets, within = cloud.touched(self.low, self.high, self.frame @ pose)
        return (~within, ~meets) if self.outside else (meets, within)


def turned(centre: list[float], size: list[float], heading: float, outside: bool = False) -> Box:
    """About a centre (3,), of a size (3, m), turned by ``heading`` (rad, counter-clockwise) about the
    vertical.
    """
    half = np.asarray(size, float) / 2
    return Box(
        -half, half, rigid.inverse(rigid.make(rigid.about_z(heading), np.asarray(centre, float))), outside
    )
