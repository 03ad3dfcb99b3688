"""An assembly of scans in islands, the parts of it that might as well stand elsewhere, and why a placement is
doubted.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.core.register.contradiction import Picture, Verdict, judge
from terrazza.core.register.offers import (
    COMMON,
    GIVEN,
    REFUSED,
    SAME,
    TOLD,
    TWINS,
    Offer,
    evidence,
    same,
    stacked,
    weighed,
)

TWICE = 3.0  # evidence against each pair of stations that are stacked
RIVAL = 1.5  # a rival's evidence is at most this much less than the placement's
BETTER = 0.3  # a rival with this much more evidence takes the placement's place
FAINT = 1.8  # evidence below which a placement is doubted even without a rival
MANY = 24  # scans up to which every pair is tried, so that each placement has met its rivals
# the same in larger jobs: of a hundred scans a few fit a stranger by chance, their neighbours being untried
FAINT_OF_MANY = 4.0
ALIKE = 0.3  # m² of contradicting surface below which two scans that can be stacked may stand for one another
BLOCKS = (
    0.1,
    0.2,
    0.4,
)  # shares in common: parts of an island that hang together by more than this are tried as one
# evidence above which a placement without a rival is believed where it is within this of the pose in its file
CLEAR, ROUGHLY = 10.0, (4.0, np.radians(20.0))
LOUD = 0.6  # quietness below which pairs of scans are tried elsewhere together
ALTERNATIVES = 8
BEYOND = 60.0  # m between stations that say nothing of each other


@dataclass(frozen=True)
class Case:
    """For and against some scans at some poses: the largest ``area`` (m²) that contradicts in a pair, the
    ``evidence`` of all pairs, and how many pairs are ``stacked``.
    """

    area: float
    evidence: float
    stacked: int

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
    ):
        """``judged``: verdicts known from another assembly of the same pictures; new ones are added.
        ``quiet``: how much counts what may have been moved.
        """
        self.pictures, self.fixed, self.quiet, self._judged = (
            pictures,
            fixed,
            quiet,
            {} if judged is None else judged,
        )
        self.pose = [np.eye(4) for _ in pictures]
        self.island = list(range(len(pictures)))

    def verdict(self, a: int, b: int, pose: np.ndarray) -> Verdict:
        if a > b:
            a, b, pose = b, a, rigid.inverse(pose)
        key = (a, b, pose.round(3).tobytes())
        if key not in self._judged:
            self._judged[key] = weighed(judge(self.pictures[a], self.pictures[b], pose), self.quiet)
        return self._judged[key]

    def standing(self, a: int, b: int) -> Verdict:
        """The verdict on two scans of one island as they stand."""
        return self.verdict(a, b, rigid.inverse(self.pose[a]) @ self.pose[b])

    def twins(self, a: int, b: int) -> bool:
        """Whether two scans of one island stand in one place and saw the same."""
        apart = float(np.linalg.norm(self.pose[a][:3, 3] - self.pose[b][:3, 3]))
        return apart < TWINS and stacked(self.standing(a, b), apart, TWINS)

    @property
    def faint(self) -> float:
        """Evidence below which a placement is doubted even without a rival."""
        return (FAINT if len(self.pose) <= MANY else FAINT_OF_MANY) * self.unsure

    @property
    def unsure(self) -> float:
        """By how much more evidence differs by chance than in a job where little moves."""
        return 1.0 / np.sqrt(self.quiet)

    def members(self, island: int) -> list[int]:
        return [k for k, i in enumerate(self.island) if i == island]

    def against(self, moved: dict[int, np.ndarray], others: list[int]) -> "Case":
        """Of scans at some poses among others as they stand: what all pairs across say. Poses (4, 4)."""
        area, weight, upon = 0.0, 0.0, 0
        for k, pose in moved.items():
            for j in others:
                apart = float(np.linalg.norm(self.pose[j][:3, 3] - pose[:3, 3]))
                if apart > BEYOND:
                    continue
                verdict = self.verdict(j, k, rigid.inverse(self.pose[j]) @ pose)
                area = max(area, verdict.area)
                weight += evidence(verdict, apart)
                upon += stacked(verdict, apart, TWINS)
                if area > REFUSED:
                    return Case(area, weight, upon)
        return Case(area, weight, upon)

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
        if (
            case.area > REFUSED
            or case.likely <= 0
            and not offer.backed
            and not (twins and case.stacked and case.evidence >= 0)
        ):
            return False
        for k, pose in moved.items():
            self.pose[k], self.island[k] = pose, stay
        return True


def rivals_of(assembly: Assembly, offers: list[Offer], progress: Progress) -> list[list[np.ndarray]]:
    """For every scan other poses that explain about as much, alone or together with a part of its island,
    best first; a part that would stand clearly better elsewhere is put there first. Poses (4, 4).
    """
    n, alike = len(assembly.pose), _alike(offers, len(assembly.pose))
    for _ in range(2 * n):
        found: list[list[tuple[float, np.ndarray]]] = [[] for _ in range(n)]
        better: tuple[float, frozenset[Any], np.ndarray] | None = None
        parts, faint = _parts(assembly), {k for k in range(n) if _faint(assembly, k)}
        for done, part in enumerate(parts):
            progress.advance(done, len(parts), "Rivals")
            others = [j for j in assembly.members(assembly.island[min(part)]) if j not in part]
            rest = [
                j for j in others if not any(j in alike[k] for k in part)
            ] or others  # what may stand for it may have to give way to it
            rest = [
                j for j in rest if j not in faint
            ] or rest  # and what little speaks for does not hold it where it stands
            now = assembly.against({k: assembly.pose[k] for k in part}, rest)
            for mover in _movers(assembly, part, rest, offers):
                case = assembly.against({m: mover @ assembly.pose[m] for m in part}, rest)
                gain = case.evidence - now.evidence
                if (
                    case.area > REFUSED
                    or gain < -RIVAL * assembly.unsure**2
                    and not (now.stacked and case.evidence > FAINT)
                ):
                    continue
                if case.likely > now.likely + BETTER and (
                    better is None or case.likely - now.likely > better[0]
                ):
                    better = case.likely - now.likely, part, mover
                for k in part:
                    found[k].append((gain, mover @ assembly.pose[k]))
        if better is None:
            break
        for k in better[1]:
            assembly.pose[k] = better[2] @ assembly.pose[k]
    return [_distinct(f) for f in found]


def _faint(assembly: Assembly, k: int) -> bool:
    """Whether little speaks for where a scan stands."""
    others = [j for j in assembly.members(assembly.island[k]) if j != k]
    return (
        bool(others)
        and k not in assembly.fixed
        and assembly.against({k: assembly.pose[k]}, others).evidence < assembly.faint
    )


def _alike(offers: list[Offer], n: int) -> list[set[int]]:
    """For each scan those that could stand in its place: they saw the same, as like rooms do."""
    out: list[set[int]] = [set() for _ in range(n)]
    for o in offers:
        if o.verdict.area < ALIKE and stacked(o.verdict, o.apart):
            out[o.a].add(o.b)
            out[o.b].add(o.a)
    return out


def _distinct(found: list[tuple[float, np.ndarray]]) -> list[np.ndarray]:
    out: list[np.ndarray] = []
    for _, pose in sorted(found, key=lambda f: -f[0]):
        if len(out) < ALTERNATIVES and not any(same(pose, o) for o in out):
            out.append(pose)
    return out


def _movers(
    assembly: Assembly, part: frozenset[Any], rest: list[int], offers: list[Offer]
) -> Iterator[np.ndarray]:
    """Motions of a part, each by an offer of one of its scans to one of the rest, that put it elsewhere."""
    one, seen = min(part), [assembly.pose[min(part)]]
    for offer in offers:
        inside, outside = (offer.b, offer.a) if offer.b in part else (offer.a, offer.b)
        if inside not in part or outside not in rest:
            continue
        mover = assembly.pose[outside] @ offer.seen_from(outside) @ rigid.inverse(assembly.pose[inside])
        pose = mover @ assembly.pose[one]
        if not any(same(pose, s, (0.3, np.radians(3)) if k == 0 else SAME) for k, s in enumerate(seen)):
            seen.append(pose)
            yield mover


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
    return [_doubted(assembly, k, rivals, given, fixed, witnessed) for k in range(len(assembly.pose))]


def _doubted(
    assembly: Assembly,
    k: int,
    rivals: list[list[np.ndarray]],
    given: dict[int, np.ndarray],
    fixed: set[int],
    witnessed: list[Offer],
) -> str:
    others = [j for j in assembly.members(assembly.island[k]) if j != k]
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
    told = _told(assembly, k, others, given)
    if told is False:
        as_given = _as_given(assembly, k, others, given)
        if (
            not rivals[k]
            and same(as_given, assembly.pose[k], ROUGHLY)
            and assembly.against({k: assembly.pose[k]}, others).evidence > CLEAR * assembly.unsure
        ):
            return ""  # the pose of the file is a rough one, and the scans say clearly where it is
        rivals[k] = [as_given, *(r for r in rivals[k] if not same(r, as_given, GIVEN))][:ALTERNATIVES]
    if told is True:  # what came with the files and what the scans say agree: two witnesses
        rivals[k] = []
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
    if told is None and (faint := assembly.against({k: assembly.pose[k]}, others).evidence) < assembly.faint:
        return (
            f"Little speaks for where it stands ({max(faint, 0) / TOLD:.0%} of what it saw): the others "
            "saw hardly any of it."
        )
    if told is False:
        return (
            "It does not stand where the pose in its file says, and nothing but the scans themselves says "
            "otherwise."
        )
    return ""


def _as_given(assembly: "Assembly", k: int, others: list[int], given: dict[int, np.ndarray]) -> np.ndarray:
    """Where the poses of the files would have a scan among the others as they stand: that on which most of
    them agree.
    """
    said = [assembly.pose[j] @ rigid.inverse(given[j]) @ given[k] for j in others if j in given]
    return max(said, key=lambda s: sum(same(s, o, GIVEN) for o in said))


def _told(assembly: "Assembly", k: int, others: list[int], given: dict[int, np.ndarray]) -> bool | None:
    """Whether most scans with given poses stand to this one as those poses say; None where no such poses are
    given.
    """
    told = [j for j in others if j in given]
    if k not in given or not told:
        return None
    good = sum(
        same(rigid.inverse(assembly.pose[j]) @ assembly.pose[k], rigid.inverse(given[j]) @ given[k], GIVEN)
        for j in told
    )
    return good >= len(told) / 2


def _parts(assembly: Assembly) -> list[frozenset[Any]]:
    """What may stand elsewhere by itself: each scan with its twins; what hangs on its island by one scan;
    what hangs together more than with the rest.  At most half of an island, nothing fixed.
    """
    parts: dict[frozenset[Any], None] = {}
    for island in dict.fromkeys(assembly.island):
        members = assembly.members(island)
        common = {
            (a, b): v.common
            for a, b in combinations(members, 2)
            if (v := assembly.standing(a, b)).area <= REFUSED
        }
        near = {a: {b for b in members if common.get((min(a, b), max(a, b)), 0) >= COMMON} for a in members}
        twins = {a: {a} | {b for b in near[a] if assembly.twins(a, b)} for a in members}
        found = [{a} for a in members] + [_reached(a, twins, set()) for a in members]
        for cut in members:
            hanging = [_reached(a, near, {cut}) for a in members if a != cut]
            found += hanging
            found.append(
                {cut}.union(*(h for h in hanging if len(h) < len(members) / 2))
            )  # a scan with all that hangs on it
        for share in BLOCKS:
            strong = {a: {b for b in near[a] if common[min(a, b), max(a, b)] >= share} for a in members}
            found += [_reached(a, strong, set()) for a in members]
        if assembly.quiet < LOUD:  # two may have found each other wrongly together
            found += [{a, b} for a, b in combinations(members, 2) if common.get((a, b), 0) >= BLOCKS[-1]]
        for part in found:
            if len(part) <= len(members) / 2 and not part & assembly.fixed:
                parts[frozenset(part)] = None
    return list(parts)


def _reached(start: int, near: dict[int, set[int]], without: set[int]) -> set[int]:
    seen, todo = {start}, [start]
    while todo:
        for j in near[todo.pop()] - seen - without:
            seen.add(j)
            todo.append(j)
    return seen
