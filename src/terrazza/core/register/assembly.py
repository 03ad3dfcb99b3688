"""An assembly of scans in islands, and why a placement is doubted."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.cloud_fit import unheld
from terrazza.core.register.contradiction import GROSS, Picture, Verdict, glance, judge
from terrazza.core.register.offers import (
    GIVEN,
    REFUSED,
    TOLD,
    TWINS,
    Offer,
    evidence,
    same,
    stacked,
    weighed,
)
from terrazza.core.register.surface import TOUCHING, Surface, touching

TWICE = 3.0  # evidence against each pair of stations that are stacked
# evidence below which a placement is doubted even without a rival: where surfaces hold it level both ways,
# and where it may slide (by chance, unrelated scans come to 3.9, and always slide)
FAINT, FAINT_LOOSE = 0.5, 4.5
# surface points (by squared cosine) that face a level direction and hold a placement along it; what being
# held both ways is worth as evidence: of 62 unrelated scans matched to a map none was, of true places all
HELD, HELD_WORTH = 30.0, 3.0
WELL = 8.0  # evidence below which a scan is matched to maps, sure or not: rivals are found there, too
MANY = 24  # scans up to which every pair is tried, so that each placement has met its rivals
# as many times that evidence in larger jobs: of a hundred scans a few fit a stranger by chance, their
# neighbours being untried
MORE_OF_MANY = 2.2
# evidence above which a placement without a rival is believed where it is within this of the pose in its
# file; and as many times the least evidence, where the pictures contradict the pose in the file itself
CLEAR, ROUGHLY, REFUTED = 10.0, (4.0, np.radians(20.0)), 3.0
ALTERNATIVES = 8
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
    ):
        """``judged``: verdicts known from another assembly of the same pictures; new ones are added.
        ``quiet``: how much counts what may have been moved. Without ``surfaces`` every placement is held.
        """
        self.surfaces = surfaces
        self.pictures, self.fixed, self.quiet, self._judged = (
            pictures,
            fixed,
            quiet,
            {} if judged is None else judged,
        )
        self.pose = [np.eye(4) for _ in pictures]
        self.island = list(range(len(pictures)))

    def verdict(self, a: int, b: int, pose: np.ndarray) -> Verdict:
        a, b, pose, key = _ordered(a, b, pose)
        if key not in self._judged:
            self._judged[key] = weighed(judge(self.pictures[a], self.pictures[b], pose), self.quiet)
        return self._judged[key]

    def gross(self, a: int, b: int, pose: np.ndarray) -> bool:
        """Whether a pair contradicts a pose at a glance, which is ten times as quick as its verdict."""
        a, b, pose, key = _ordered(a, b, pose)
        return key not in self._judged and glance(self.pictures[a], self.pictures[b], pose)[1] > GROSS

    def standing(self, a: int, b: int) -> Verdict:
        """The verdict on two scans of one island as they stand."""
        return self.verdict(a, b, rigid.inverse(self.pose[a]) @ self.pose[b])

    def twins(self, a: int, b: int) -> bool:
        """Whether two scans of one island stand in one place and saw the same."""
        apart = float(np.linalg.norm(self.pose[a][:3, 3] - self.pose[b][:3, 3]))
        return apart < TWINS and stacked(self.standing(a, b), apart, TWINS)

    def faint(self, moved: dict[int, np.ndarray], others: list[int]) -> float:
        """Evidence below which scans at some poses (4, 4) among others are doubted even without a rival."""
        return self._least(FAINT if self.held(moved, others) else FAINT_LOOSE)

    def _least(self, evidence: float) -> float:
        """An evidence of small jobs where little moves, for this one."""
        return evidence * self.unsure * (1.0 if len(self.pose) <= MANY else MORE_OF_MANY)

    def held(self, moved: dict[int, np.ndarray], others: list[int]) -> bool:
        """Whether surfaces of scans at some poses (4, 4) lie on those of others so that neither level
        direction is free.
        """
        if self.surfaces is None:
            return True
        facing = [np.zeros((0, 2))]
        for k, pose in moved.items():
            for j in others:
                way = rigid.inverse(self.pose[j]) @ pose
                if np.linalg.norm(way[:3, 3]) < BEYOND and self.verdict(j, k, way).common > 0:
                    normals = touching(self.surfaces[j], self.surfaces[k], way)
                    facing.append((normals @ self.pose[j][:3, :3].T)[:, :2])
        normals = np.concatenate(facing)
        return not unheld(normals, np.full(len(normals), float(TOUCHING)), HELD)

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

    def is_faint(self, k: int) -> bool:
        """Whether little speaks for where a scan stands."""
        others = self.beside(k)
        return (
            bool(others) and k not in self.fixed and self.evidence(k) < self.faint({k: self.pose[k]}, others)
        )

    def members(self, island: int) -> list[int]:
        return [k for k, i in enumerate(self.island) if i == island]

    def against(self, moved: dict[int, np.ndarray], others: list[int]) -> "Case":
        """Of scans at some poses among others as they stand: what all pairs across say. Poses (4, 4)."""
        area, weight, upon, cost = 0.0, 0.0, 0, 0.0
        for k, pose in moved.items():
            away = {j: float(np.linalg.norm(self.pose[j][:3, 3] - pose[:3, 3])) for j in others}
            for j in sorted(others, key=away.__getitem__):  # the nearest contradict most
                if (apart := away[j]) > BEYOND:
                    break
                way = rigid.inverse(self.pose[j]) @ pose
                if self.gross(j, k, way):
                    return Case(np.inf, weight, upon, np.inf)
                verdict = self.verdict(j, k, way)
                area = max(area, verdict.area)
                weight, cost = weight + evidence(verdict, apart), cost + verdict.cost
                upon += stacked(verdict, apart, TWINS)
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


def _ordered(a: int, b: int, pose: np.ndarray) -> tuple[int, int, np.ndarray, tuple[Any, ...]]:
    """A pair with the lower scan first, its pose (4, 4), and the key by which its verdict is known."""
    if a > b:
        a, b, pose = b, a, rigid.inverse(pose)
    return a, b, pose, (a, b, pose.round(3).tobytes())


def doubts_of(
    assembly: Assembly,
    rivals: list[list[np.ndarray]],
    given: dict[int, np.ndarray],
    fixed: set[int],
    witnessed: list[Offer],
) -> list[str]:
    """By scan why its placement is doubted; empty where it is not. Rivals that poses of the files or targets
    (offers ``witnessed``) speak against are taken away. Rivals (4, 4).
    """
    agree = [_agreeing(assembly, k, given) for k in range(len(assembly.pose))]
    return [_doubted(assembly, k, rivals, given, fixed, witnessed, agree) for k in range(len(agree))]


def _doubted(
    assembly: Assembly,
    k: int,
    rivals: list[list[np.ndarray]],
    given: dict[int, np.ndarray],
    fixed: set[int],
    witnessed: list[Offer],
    agreeing: list[tuple[int, int]],
) -> str:
    """``agreeing``: of every scan with how many others it stands as their files say, and of how many."""
    others, (good, of) = assembly.beside(k), agreeing[k]
    told = None if not of or 0 < good < of / 2 else good >= of / 2
    if not others or k in fixed:
        rivals[k] = []
        return ""
    mine = [o for o in witnessed if k in (o.a, o.b) and o.a + o.b - k in others]
    if mine:
        agree = [same(rigid.inverse(assembly.pose[o.a]) @ assembly.pose[o.b], o.fit.pose) for o in mine]
        rivals[k] = (
            []
            if all(agree)
            else [
                assembly.pose[o.a + o.b - k] @ o.seen_from(o.a + o.b - k)
                for o, good in zip(mine, agree)
                if not good
            ]
        )
        return "" if all(agree) else "It does not stand where the targets that it shares with others say."
    as_given = None if told is None else _as_given(assembly, k, others, given, given[k])
    if told is False:
        rough = 2 * (1 + max(agreeing[j][0] for j in (k, *others))) < 1 + of
        if not rivals[k] and _clearly_elsewhere(assembly, k, others, given, as_given, rough):
            return ""
        rivals[k] = [as_given, *(r for r in rivals[k] if not same(r, as_given, GIVEN))][:ALTERNATIVES]
    if told is True:  # two witnesses against whatever the files do not say
        rivals[k] = [r for r in rivals[k] if same(r, as_given, GIVEN)]
    if len(rivals[k]) > (told is False):
        away = rigid.difference(rivals[k][0], assembly.pose[k])
        return (
            f"{len(rivals[k]) + 1} placements explain it about as well; the next one lies {away[0]:.1f} "
            "m away" + (f", turned by {np.degrees(away[1]):.0f}°" if away[1] > 0.1 else "") + "."
        )
    if told is None and any(assembly.twins(j, k) for j in others):
        return (
            "It stands where another scan stands and saw the same: one place scanned twice, or two that "
            "look alike."
        )
    if told is not False and assembly.is_faint(k):
        share = max(assembly.evidence(k), 0) / TOLD
        said = f"Little speaks for where it stands ({share:.0%} of what it saw)"
        return f"{said}: the others saw hardly any of it."
    if told is False:
        return (
            "It does not stand where the pose in its file says, and nothing but the scans themselves says "
            "otherwise."
        )
    return ""


def _as_given(
    assembly: "Assembly", k: int, others: list[int], given: dict[int, np.ndarray], told: np.ndarray
) -> np.ndarray:
    """Where a scan whose file says ``told`` would be among the others as they stand: that on which most of
    their poses in files agree. Poses (4, 4).
    """
    said = [assembly.pose[j] @ rigid.inverse(given[j]) @ told for j in others if j in given]
    return max(said, key=lambda s: sum(same(s, o, GIVEN) for o in said))


def _clearly_elsewhere(
    assembly: "Assembly",
    k: int,
    others: list[int],
    given: dict[int, np.ndarray],
    as_given: np.ndarray,
    rough: bool,
) -> bool:
    """Whether the pose in a scan's file is a ``rough`` one, as most of its island then are, or was exchanged
    with another scan's, and the scans say clearly where it is instead. ``as_given`` (4, 4).
    """
    here = {k: assembly.pose[k]}
    rough = rough or same(as_given, here[k], ROUGHLY)
    if not rough and not any(
        same(_as_given(assembly, k, [i for i in others if i != j], given, given[j]), here[k], GIVEN)
        for j in others
        if j in given and len([i for i in others if i in given]) > 1
    ):
        return False
    least = CLEAR * assembly.unsure
    if assembly.against({k: as_given}, others).area > REFUSED:
        least = min(least, REFUTED * assembly.faint(here, others))
    return assembly.evidence(k) > least


def _agreeing(assembly: "Assembly", k: int, given: dict[int, np.ndarray]) -> tuple[int, int]:
    """With how many others of its island a scan stands as the poses in their files say, and how many of them
    have one; (0, 0) where it has none itself.
    """
    told = [j for j in assembly.beside(k) if j in given] if k in given else []
    as_told = lambda j: same(
        rigid.inverse(assembly.pose[j]) @ assembly.pose[k], rigid.inverse(given[j]) @ given[k], GIVEN
    )
    return sum(map(as_told, told)), len(told)
