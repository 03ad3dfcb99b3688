"""An assembly of scans in islands, and what their pictures say of it."""

from collections.abc import Iterable, Iterator
from copy import copy
from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.cloud_fit import unheld
from terrazza.core.register.contradiction import GROSS, Verdict, covered, glance, judge
from terrazza.core.register.offers import (
    COMMON,
    REFUSED,
    TOLD,
    TWINS,
    Offer,
    evidence,
    same,
    twins,
    weighed,
)
from terrazza.core.register.picture import Picture
from terrazza.core.register.surface import TOUCHING, Surface, touching

TWICE = 3.0  # evidence against each pair of stations that are stacked
# evidence below which a placement is doubted even without a rival: where surfaces hold it level both ways,
# and where it may slide (by chance, unrelated scans come to 3.9, and always slide)
FAINT, FAINT_LOOSE = 0.5, 4.5
# the same of what was seen in less than this share of the horizon: nothing behind its back contradicts a
# sector where it does not belong (of 40 to 160° in simulated rooms, wrong places came to 18 held, 17 loose)
SECTOR, FAINT_SECTOR, FAINT_LOOSE_SECTOR = 0.6, 20.0, 30.0
# surface points (by squared cosine) that face a level direction and hold a placement along it; what being
# held both ways is worth as evidence: of 62 unrelated scans matched to a map none was, of true places all
HELD, HELD_WORTH = 30.0, 3.0
# share of the evidence that has to go both ways: 0.52 and more at the truth of all scans of 20 simulated jobs
# but two in shut rooms (0.40 and 0.50), and 0.3 one room beside its own behind the same wall
MUTUAL = 0.5
WELL = 8.0  # evidence below which a scan is matched to maps, sure or not: rivals are found there, too
MANY = 24  # scans up to which every pair is tried, so that each placement has met its rivals
# as many times that evidence in larger jobs: of a hundred scans a few fit a stranger by chance, their
# neighbours being untried
MORE_OF_MANY = 2.2
# evidence of one pair against a placement that no other pair makes up for: 2.7 at most at the truth of all
# pairs of thirteen simulated jobs, 8 and 10 where yards and storeys that look alike lay over each other
DENIED = 5.0
ALTERNATIVES = 8
NEARBY = (0.3, np.radians(3))  # m, rad: places nearer than this to where a scan stands are the same one
WORTH_IT = 0.2  # evidence by which one of those is better
BYTE = 127  # of a normal: all that a signed byte holds
BEYOND = 60.0  # m between stations that say nothing of each other


@dataclass(frozen=True)
class Case:
    """For and against some scans at some poses: the largest ``area`` (m²) that contradicts in a pair, the
    ``evidence`` of all pairs, how many pairs are ``stacked``, and the ``cost`` of what contradicts.
    """

    area: float
    evidence: float
    stacked: int
    cost: float

    @property
    def keeps_out(self) -> bool:
        """Whether the scans cannot stand there beside the others: they contradict them, or lie upon them."""
        return self.area > REFUSED or self.stacked > 0

    @property
    def likely(self) -> float:
        return self.evidence - TWICE * self.stacked


class Assembly:
    """Scans in islands, each with poses in its island's frame, and what their pictures say of each other."""

    def __init__(
        self,
        pictures: list[Picture],
        fixed: set[int],
        judged: dict[tuple[Any, ...], Verdict] | None = None,
        quiet: float = 1.0,
        surfaces: "list[Surface] | None" = None,
        holds: dict[frozenset[Any], bool] | None = None,
    ):
        """``judged``: verdicts known from another assembly of the same pictures, and ``holds``: what is known
        to be held or not; new ones are added. ``quiet``: how much counts what may have been moved. Without
        ``surfaces`` every placement is held.
        """
        self.surfaces, self._holds = surfaces, {} if holds is None else holds
        self._covers: dict[tuple[Any, ...], float] = {}
        self._touches: dict[tuple[Any, ...], np.ndarray] = {}
        self.pictures, self.fixed, self.quiet, self.judged = (
            pictures,
            fixed,
            quiet,
            {} if judged is None else judged,
        )
        self.pose = [np.eye(4) for _ in pictures]
        self.island = list(range(len(pictures)))

    def copy(self) -> "Assembly":
        """Another assembly of the same scans that stand as here; what is known is known to both."""
        other = copy(self)
        other.pose, other.island = list(self.pose), list(self.island)
        return other

    def apart(self, scans: Iterable[int]) -> "Assembly":
        """A copy in which each of some scans is an island of its own."""
        other = self.copy()
        for k in scans:
            other.island[k] = max(other.island) + 1
        return other

    def verdict(self, a: int, b: int, pose: np.ndarray) -> Verdict:
        a, b, pose, key = _ordered(a, b, pose)
        if key not in self.judged:
            self.judged[key] = weighed(judge(self.pictures[a], self.pictures[b], pose), self.quiet)
        return self.judged[key]

    def gross(self, a: int, b: int, pose: np.ndarray) -> bool:
        """Whether a pair contradicts a pose at a glance, which is ten times as quick as its verdict."""
        a, b, pose, key = _ordered(a, b, pose)
        return key not in self.judged and glance(self.pictures[a], self.pictures[b], pose)[1] > GROSS

    def standing(self, a: int, b: int) -> Verdict:
        """The verdict on two scans of one island as they stand."""
        return self.verdict(a, b, rigid.inverse(self.pose[a]) @ self.pose[b])

    def twins(self, a: int, b: int) -> bool:
        """Whether two scans of one island stand in one place and saw the same."""
        apart = float(np.linalg.norm(self.pose[a][:3, 3] - self.pose[b][:3, 3]))
        return apart < TWINS[-1][0] and twins(self.standing(a, b), apart)

    def like_twins(self, a: int, b: int) -> bool:
        """Whether two scans are twins that may be two rooms: not one scan that is there twice."""
        return self.twins(a, b) and not np.array_equal(self.pictures[a].xyz, self.pictures[b].xyz)

    def faint(self, moved: dict[int, np.ndarray], others: list[int], backed: bool = False) -> float:
        """Evidence below which scans at some poses (4, 4) among others are doubted even without a rival;
        ``backed``: something else than surfaces says so, too.
        """
        held = self.held(moved, others)
        if not backed and self.around(moved, others) < SECTOR:
            return self._least(FAINT_SECTOR if held else FAINT_LOOSE_SECTOR)
        return self._least(FAINT if held else FAINT_LOOSE)

    def around(self, moved: dict[int, np.ndarray], others: list[int]) -> float:
        """Share of the horizon that both of some pair saw of those in which scans at some poses (4, 4) and
        others have something in common.
        """
        most = 0.0
        for k, pose in moved.items():
            for j in others:
                both = min(self.pictures[j].around, self.pictures[k].around)
                if both > most and self._common(j, k, rigid.inverse(self.pose[j]) @ pose) >= COMMON:
                    most = both
        return most

    def common(self, a: int, b: int) -> float:
        """What two scans of one island have in common as they stand."""
        return self._common(a, b, rigid.inverse(self.pose[a]) @ self.pose[b])

    def _common(self, a: int, b: int, way: np.ndarray) -> float:
        """What two scans have in common at a pose (4, 4): nothing where their stations are far apart."""
        return self.verdict(a, b, way).common if np.linalg.norm(way[:3, 3]) < BEYOND else 0.0

    def _least(self, evidence: float) -> float:
        """An evidence of small jobs where little moves, for this one."""
        return evidence * self.unsure * (1.0 if len(self.pose) <= MANY else MORE_OF_MANY)

    def held(self, moved: dict[int, np.ndarray], others: list[int]) -> bool:
        """Whether surfaces of scans at some poses (4, 4) lie on those of others so that neither level
        direction is free.
        """
        if self.surfaces is None:
            return True
        ways = [(j, k, rigid.inverse(self.pose[j]) @ pose) for k, pose in moved.items() for j in others]
        ways = [way for way in ways if self._common(*way) > 0]
        key = frozenset((j, k, way.round(3).tobytes()) for j, k, way in ways)
        if key not in self._holds:
            facing = [np.zeros((0, 2))]
            for j, k, way in ways:
                facing.append((self._touching(j, k, way) @ self.pose[j][:3, :3].T)[:, :2])
            normals = np.concatenate(facing)
            self._holds[key] = not unheld(normals, np.full(len(normals), float(TOUCHING)), HELD)
        return self._holds[key]

    def _touching(self, j: int, k: int, way: np.ndarray) -> np.ndarray:
        """(n, 3) normals of one scan's surface, in its frame, where another's lies on it at a pose (4, 4), to
        half a degree: many sets of scans have the pair in common, and a byte each is little to keep.
        """
        key = (j, k, way.round(3).tobytes())
        if key not in self._touches and self.surfaces is not None:
            normals = touching(self.surfaces[j], self.surfaces[k], way)
            self._touches[key] = (normals * BYTE).round().astype(np.int8)
        return self._touches[key] / BYTE

    @property
    def unsure(self) -> float:
        """By how much more evidence differs by chance than in a job where little moves."""
        return 1.0 / np.sqrt(self.quiet)

    def evidence(self, k: int) -> float:
        """What speaks for where a scan stands among the others of its island."""
        return self.against({k: self.pose[k]}, self.beside(k)).evidence

    def beside(self, k: int) -> list[int]:
        """The others of a scan's island."""
        return [j for j in self.members(self.island[k]) if j != k]

    def is_faint(self, k: int, backed: bool = False) -> bool:
        """Whether little speaks for where a scan stands; ``backed``: as in ``faint``."""
        others, excused = self.beside(k), 0.0
        if not others or k in self.fixed:
            return False
        if backed:  # somebody who walked about is no reason to doubt two witnesses
            near = [j for j in others if np.linalg.norm(self.pose[j][:3, 3] - self.pose[k][:3, 3]) < BEYOND]
            excused = self.quiet * sum(self.standing(j, k).moved for j in near)
        speaks = self.evidence(k) + excused
        enough = speaks >= self._least(FAINT_LOOSE_SECTOR)  # for whatever it is held by, which takes longer
        return not enough and speaks < self.faint({k: self.pose[k]}, others, backed)

    def goes_one_way(self, k: int) -> bool:
        """Whether most of what speaks for a scan agrees one way only, as its side of a thin wall does with
        the other: others look along it, and a pixel spans both.
        """
        here = {k: self.pose[k]}
        speak = {j: e for j in self.beside(k) if (e := self.against(here, [j]).evidence) > 0}
        both = sum(e * self.standing(j, k).mutual for j, e in speak.items())
        return both < MUTUAL * sum(speak.values())

    def members(self, island: int) -> list[int]:
        return [k for k, i in enumerate(self.island) if i == island]

    def against(
        self,
        moved: dict[int, np.ndarray],
        others: list[int],
        also: dict[int, np.ndarray] | None = None,
    ) -> "Case":
        """Of scans at some poses among others as they stand, and some that are ``also`` there: what all pairs
        across say. Poses (4, 4).
        """
        area, weight, upon, cost = 0.0, 0.0, 0, 0.0
        at = {j: self.pose[j] for j in others} | (also or {})
        for k, pose in moved.items():
            away = {j: float(np.linalg.norm(p[:3, 3] - pose[:3, 3])) for j, p in at.items()}
            for j in sorted(at, key=away.__getitem__):  # the nearest contradict most
                if (apart := away[j]) > BEYOND:
                    break
                way = rigid.inverse(at[j]) @ pose
                if self.gross(j, k, way):
                    return Case(np.inf, weight, upon, np.inf)
                verdict = self.verdict(j, k, way)
                says = evidence(verdict, apart)
                area = max(area, verdict.area if says > -DENIED * self.unsure else np.inf)
                weight, cost = weight + says, cost + verdict.cost
                upon += twins(verdict, apart)
                if area > REFUSED:
                    return Case(area, weight, upon, cost)
        return Case(area, weight, upon, cost)

    def join(self, offer: Offer, twins: bool = False) -> bool:
        """Put two islands together by an offer where no pair across them contradicts it, and more speaks for
        it than against; ``twins``: also where they only lie upon each other.
        """
        stay, go = self.island[offer.a], self.island[offer.b]
        if stay == go:
            return False
        mover = self.pose[offer.a] @ offer.fit.pose @ rigid.inverse(self.pose[offer.b])
        if set(self.members(go)) & self.fixed:  # what is fixed stays, and the others come to it
            stay, go, mover = go, stay, rigid.inverse(mover)
        moved = {k: mover @ self.pose[k] for k in self.members(go)}
        case = self.against(moved, self.members(stay))
        least = 0.0  # blocks are islands of their own rather than put together by little
        if min(len(moved), len(self.members(stay))) > 1 and case.likely < self._least(FAINT_LOOSE):
            least = self.faint(moved, self.members(stay))
        if (
            case.area > REFUSED
            or case.likely <= least
            and not offer.backed
            and not (twins and case.stacked and case.evidence >= 0)
        ):
            return False
        for k, pose in moved.items():
            self.pose[k], self.island[k] = pose, stay
        return True

    def covered(self, moved: dict[int, np.ndarray], others: list[int]) -> float:
        """What of scans at some poses (4, 4) others saw, as the evidence of it, however many saw the same."""
        out = 0.0
        for k, pose in moved.items():
            ways = {j: rigid.inverse(pose) @ self.pose[j] for j in others}
            ways = {j: way for j, way in ways.items() if np.linalg.norm(way[:3, 3]) < BEYOND}
            key = (k, *((j, way.round(3).tobytes()) for j, way in sorted(ways.items())))
            if key not in self._covers:
                seen = [(self.pictures[j], way) for j, way in ways.items()]
                self._covers[key] = covered(self.pictures[k], seen)
            out += self._covers[key]
        return TOLD * out

    def offered(self, k: int, others: list[int], offers: list[Offer]) -> Iterator[tuple[Offer, np.ndarray]]:
        """The offers of a scan to some others, and where it would be by each as those stand. Poses (4, 4)."""
        for o in offers:
            j = o.a + o.b - k
            if k in (o.a, o.b) and j in others:
                yield o, self.pose[j] @ o.seen_from(j)

    def settle(self, offers: list[Offer]) -> None:
        """Put scans of which little is sure where most speaks for them, of the places near where they stand
        that offers say: one of a pair slides where the others together hold it.
        """
        for k in range(len(self.pose)):
            others = self.beside(k)
            if not others or k in self.fixed or self.evidence(k) > WELL:
                continue
            best = self._worth(k, self.pose[k], others) + WORTH_IT
            for _, pose in self.offered(k, others, offers):
                if same(pose, self.pose[k], NEARBY) and (worth := self._worth(k, pose, others)) > best:
                    best, self.pose[k] = worth + WORTH_IT, pose

    def _worth(self, k: int, pose: np.ndarray, others: list[int]) -> float:
        """Evidence for a pose (4, 4) of a scan, held ones first; none where something contradicts it."""
        case = self.against({k: pose}, others)
        if case.area > REFUSED:
            return -np.inf
        return case.evidence + HELD_WORTH * self.held({k: pose}, others)


def _ordered(a: int, b: int, pose: np.ndarray) -> tuple[int, int, np.ndarray, tuple[Any, ...]]:
    """A pair with the lower scan first, its pose (4, 4), and the key by which its verdict is known."""
    if a > b:
        a, b, pose = b, a, rigid.inverse(pose)
    return a, b, pose, (a, b, pose.round(3).tobytes())
