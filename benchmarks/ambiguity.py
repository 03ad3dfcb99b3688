"""Whether the geometry of a simulated place tells where a scan stood: the place alone decides, as a scanner
without noise would see it with nobody about, not what the product makes of it.

A scan's rival (another pose of it, or of a block of scans moved as one) is *beaten* where its surfaces stand
in more than ``BEATEN`` m² where another scanner looked through (or the other way round), or agree over less
than ``LESS`` of what they do at the truth.  A scan is *held* where a shift of ``SHIFT`` m in any level
direction moves ``HOLDS`` of what it shares with the others off their surfaces.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from tests.boxes import Place, cast, lasting
from tests.places import FARTHEST, rays

NEAR, EDGE = 0.05, 0.01  # m and m a metre up to which two ranges are one
BEATEN, LESS = 0.15, 0.5
SHIFT, HOLDS, SHARED = 0.15, 0.004, 0.03
EVERY = 5  # ray of the scanner


@dataclass(frozen=True)
class View:
    """What a scan looked at: from one azimuth to another (rad, its own), and so far (rad) up and down."""

    low: float = -np.pi
    high: float = np.pi
    steep: float = np.pi / 2

    def of(self, xyz: np.ndarray) -> np.ndarray:
        """(n,) bool: whether points or directions (n, 3) of its frame are in it."""
        azimuth = np.arctan2(xyz[:, 1], xyz[:, 0])
        steep = np.abs(np.arctan2(xyz[:, 2], np.hypot(xyz[:, 0], xyz[:, 1])))
        return (azimuth >= self.low) & (azimuth <= self.high) & (steep <= self.steep)


class Evidence:
    """What scanners at the ``truth`` (poses (4, 4)) see of a place without noise and people.

    ``cast`` gives the ranges (n,) m, infinite where nothing is, from a point (3,) along directions (n, 3);
    ``views``: the scans that did not look all around; nothing is seen beyond ``farthest`` m, and one of
    ``every`` rays is cast.
    """

    def __init__(
        self,
        cast: Callable[[np.ndarray, np.ndarray], np.ndarray],
        truth: list[np.ndarray],
        views: "dict[int, View] | None" = None,
        farthest: float = FARTHEST,
        every: int = EVERY,
    ):
        self._cast, self._farthest = cast, farthest
        self.truth, self._directions, self._views = truth, rays()[2][::every], views or {}
        flat = np.hypot(self._directions[:, 0], self._directions[:, 1])
        self._angle = flat / flat.sum() * 4 * np.pi * 0.8  # solid angle of each ray, about
        self._ranges = [self._seen(k, self._directions) for k in range(len(truth))]

    @classmethod
    def of(
        cls, place: Place, truth: list[np.ndarray], crowded: bool, views: "dict[int, View] | None" = None
    ) -> "Evidence":
        """That of a place of boxes; where it is ``crowded`` what is often moved counts nothing."""
        solid = place.solids(lasting(place.boxes) if crowded else place.boxes)
        return cls(lambda origin, directions: cast(origin, directions, *solid), truth, views)

    def _seen(self, k: int, directions: np.ndarray) -> np.ndarray:
        """(n,) m that scan k sees along directions (n, 3) of its frame: infinite where nothing is, NaN where
        it did not look.
        """
        pose = self.truth[k]
        seen = self._cast(pose[:3, 3], np.ascontiguousarray(directions @ pose[:3, :3].T))
        return np.where(self._views.get(k, View()).of(directions), seen, np.nan)

    def _against(self, a: int, b: int, way: np.ndarray) -> tuple[float, float]:
        """Of what scan a sees, put into the frame of b by ``way``: the share that b sees as well, and the
        area (m²) that stands where b looked through.
        """
        hit = self._ranges[a] < self._farthest
        there = rigid.apply(way, self._directions[hit] * self._ranges[a][hit, None])
        away = np.linalg.norm(there, axis=1)
        seen = self._seen(b, there / away[:, None])
        slack = NEAR + EDGE * away
        inside = np.abs(np.degrees(np.arcsin(np.clip(there[:, 2] / away, -1, 1))) - 10) < 70
        agree, nearer = (np.abs(seen - away) < slack) & inside, (away < seen - slack) & inside
        angle = self._angle[hit]
        area = float((angle * self._ranges[a][hit] ** 2)[nearer].sum())
        return float(angle[agree].sum() / angle.sum()), area

    def told(self, moved: dict[int, np.ndarray], others: "set[int] | None" = None) -> tuple[float, float]:
        """Of scans at some poses (4, 4; the others at the truth): the shares in common with all ``others``
        (all that stay), summed, and the largest area that contradicts.
        """
        shares, worst = 0.0, 0.0
        for k, pose in moved.items():
            for j in (set(range(len(self.truth))) if others is None else others) - set(moved):
                if np.linalg.norm(pose[:3, 3] - self.truth[j][:3, 3]) < self._farthest:
                    way = rigid.inverse(self.truth[j]) @ pose
                    (one, first), (two, second) = (
                        self._against(k, j, way),
                        self._against(j, k, rigid.inverse(way)),
                    )
                    shares, worst = shares + (one + two) / 2, max(worst, first, second)
        return shares, worst

    def beaten(self, moved: dict[int, np.ndarray]) -> bool:
        """Whether the truth beats scans at some poses (4, 4)."""
        shares, area = self.told(moved)
        return area > BEATEN or shares < LESS * self.told({k: self.truth[k] for k in moved})[0]

    def held(self, k: int) -> bool:
        """Whether what others see of a scan holds it in every level direction."""
        here = {k: self.truth[k]}
        told = {j: self.told(here, {j})[0] for j in range(len(self.truth))}
        beside, shares = {j for j, share in told.items() if share > 0}, sum(told.values())
        if shares < SHARED:
            return False
        for turn in np.radians(np.arange(0, 360, 30)):
            pose = self.truth[k].copy()
            pose[:2, 3] += SHIFT * np.array([np.cos(turn), np.sin(turn)])
            less, area = self.told({k: pose}, beside)
            if area < BEATEN and shares - less < HOLDS:
                return False
        return True

    def decides(self, k: int, rivals: list[dict[int, np.ndarray]]) -> bool:
        """Whether the place tells where scan k stood: it is held, and the truth beats each rival."""
        return self.held(k) and all(map(self.beaten, rivals))
