"""Where scans stand among each other: many likely placements a pair, judged by what contradicts them; one assembly that nothing contradicts; and for every scan its rivals.

A placement is believed where it beats every rival on the evidence that tells them apart.  Where others explain the data about as
well, they are kept to choose from, and the scan is doubted.
"""

from dataclasses import dataclass, field

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Part, Progress
from terrazza.core.register import cloud_fit
from terrazza.core.register.contradiction import Picture, Verdict, judge
from terrazza.core.register.plan_match import PlanShape, candidates
from terrazza.core.register.surface import Surface
from terrazza.errors import InputError

COARSE, COARSE_POINTS = (0.6, 0.3, 0.15), 2500
FINE = (0.15, 0.06)
TRIED, KEPT = 16, 8
REFUSED = 1.2  # m² of contradicting surface that no true placement has (at most 0.3 at the truth of simulated jobs, people weighed down)
COARSELY = 6.0  # m² before the fine fit
STACKED_WEIGHT = 0.1
COMMON = 0.04  # share of a scan that a tie has to explain
ROUGH = 0.03  # m RMS of a fit that is not believed
SAME = (0.20, np.radians(2.0))  # two placements nearer than this are one
RIVAL = 0.42  # a rival weighs at least this share of what the placement weighs (see ``Assembly.against``)
GIVEN = (1.0, np.radians(10.0))  # a placement within this of the given one is backed by it
BACKED = 10.0  # what that is worth, as a share of a scan explained: more than any third scans can add
STACKED = (2.5, 0.8)  # m and share agreed: stations nearer than this that see the same are likelier two like rooms than one; what they explain is no evidence
ALTERNATIVES = 8


@dataclass
class Offer:
    """A placement of scan ``b`` in the frame of scan ``a``: fit, verdict of both pictures, and whether poses that came with the files back it."""

    a: int
    b: int
    fit: cloud_fit.Fit
    verdict: Verdict
    backed: bool = False

    @property
    def weight(self) -> float:
        return self.verdict.common * max(0.0, 1 - self.verdict.area / REFUSED) + BACKED * self.backed


@dataclass
class Placed:
    """The result: rough poses by scan in the frame of its island (None where nothing ties it), ``island`` numbers from 1 (0: none), the ``offers`` the assembly rests on,
    ``doubt`` a sentence where a placement is not certain, and ``rivals``: other poses of a scan in its island's frame, best first."""

    poses: list[np.ndarray | None]
    island: list[int]
    offers: list[Offer] = field(default_factory=list)
    doubt: list[str] = field(default_factory=list)
    rivals: list[list[np.ndarray]] = field(default_factory=list)


def same(a: np.ndarray, b: np.ndarray, reach: tuple[float, float] = SAME) -> bool:
    """Whether two poses are one to within a shift (m) and a turn (rad)."""
    shift, turn = rigid.difference(a, b)
    return shift < reach[0] and turn < reach[1]


def offers_of(surfaces, shapes, pictures, a: int, b: int, given: np.ndarray | None = None) -> list[Offer]:
    """Placements of b in a's frame that nothing contradicts, best first."""
    starts = ([] if given is None else [given]) + [c.pose for c in candidates(shapes[a], shapes[b], TRIED)]
    found: list[Offer] = []
    for start in starts:
        try:
            rough = cloud_fit.fit(surfaces[a], surfaces[b], start, COARSE, 6, COARSE_POINTS)
        except InputError:
            continue
        if any(same(rough.pose, o.fit.pose) for o in found):
            continue
        verdict = judge(pictures[a], pictures[b], rough.pose)
        if verdict.area > COARSELY or verdict.common < COMMON:
            continue
        try:
            fit = cloud_fit.fit(surfaces[a], surfaces[b], rough.pose, FINE, 8)
        except InputError:
            continue
        verdict = judge(pictures[a], pictures[b], fit.pose)
        if verdict.area <= REFUSED and verdict.common >= COMMON and fit.rms < ROUGH and not any(same(fit.pose, o.fit.pose) for o in found):
            found.append(Offer(a, b, fit, verdict, given is not None and same(fit.pose, given, GIVEN)))
    return sorted(found, key=lambda o: -o.weight)[:KEPT]


def _offers(asked, common, progress: Progress) -> list[Offer]:
    found = offers_of(*common, *asked)
    progress.advance(1.0, 1.0)
    return found


class Assembly:
    """Scans in islands, each with poses in its island's frame, and what their pictures say of each other."""

    def __init__(self, pictures: list[Picture], fixed: set[int]):
        self.pictures, self.fixed = pictures, fixed
        self.pose = [np.eye(4) for _ in pictures]
        self.island = list(range(len(pictures)))
        self._judged: dict[tuple, Verdict] = {}

    def verdict(self, a: int, b: int, pose: np.ndarray) -> Verdict:
        key = (a, b, pose.round(3).tobytes())
        if key not in self._judged:
            self._judged[key] = judge(self.pictures[a], self.pictures[b], pose)
        return self._judged[key]

    def members(self, island: int) -> list[int]:
        return [k for k, i in enumerate(self.island) if i == island]

    def against(self, moved: dict[int, np.ndarray], others: list[int]) -> tuple[float, float]:
        """Of scans at some poses among others as they stand: the largest area (m²) that contradicts in a pair, and their weight: what all pairs have in common, less for all that contradicts."""
        area = common = everything = 0.0
        for k, pose in moved.items():
            for j in others:
                if j not in moved:
                    verdict = self.verdict(j, k, rigid.inverse(self.pose[j]) @ pose)
                    area, everything = max(area, verdict.area), everything + verdict.area
                    stacked = np.linalg.norm(self.pose[j][:3, 3] - pose[:3, 3]) < STACKED[0] and verdict.shared > STACKED[1]
                    common += verdict.common * (STACKED_WEIGHT if stacked else 1.0)
                    if area > REFUSED:
                        return area, common
        return area, common * max(0.05, 1 - everything / REFUSED)

    def join(self, offer: Offer) -> bool:
        """Put two islands together by an offer where no pair across them contradicts it."""
        stay, go = self.island[offer.a], self.island[offer.b]
        if stay == go:
            return False
        mover = self.pose[offer.a] @ offer.fit.pose @ rigid.inverse(self.pose[offer.b])
        if set(self.members(go)) & self.fixed:  # what is fixed stays, and the others come to it
            stay, go, mover = go, stay, rigid.inverse(mover)
        moved = {k: mover @ self.pose[k] for k in self.members(go)}
        if self.against(moved, self.members(stay))[0] > REFUSED:
            return False
        for k, pose in moved.items():
            self.pose[k], self.island[k] = pose, stay
        return True


def place(surfaces: list[Surface], shapes: list[PlanShape], pictures: list[Picture], given: dict[int, np.ndarray] | None = None, fixed: set[int] | None = None, progress: Progress = QUIET, fleet=None) -> Placed:
    """Where scans stand among each other; ``given`` poses (scan → job) compete with what the scans say, those of ``fixed`` scans stay."""
    n, given, fixed = len(surfaces), given or {}, fixed or set()
    assembly, offers = Assembly(pictures, fixed), []
    for k in fixed:
        assembly.pose[k], assembly.island[k] = given[k], min(fixed)
    pairs = [(a, b) for a in range(n) for b in range(a + 1, n) if not {a, b} <= fixed]
    asked = [(a, b, rigid.inverse(given[a]) @ given[b] if {a, b} <= set(given) else None) for a, b in pairs]
    if fleet is None:
        for done, one in enumerate(asked):
            progress.advance(0.8 * done, len(pairs), "Placements of pairs")
            offers += offers_of(surfaces, shapes, pictures, *one)
    else:
        for found in fleet.map(_offers, asked, [1.0] * len(asked), Part(progress, 0, 0.8, float(len(asked) or 1)), "Placements of pairs", (surfaces, shapes, pictures)):
            offers += found
    supported = sorted(offers, key=lambda o: -_support(o, offers))
    used = [o for o in supported if assembly.join(o)]
    doubt, rivals = [""] * n, [[] for _ in range(n)]
    _doubt(assembly, offers, given, fixed, doubt, rivals, Part(progress, 0.8, 1.0, float(len(pairs) or 1)))
    groups = sorted({i: assembly.members(i) for i in assembly.island}.values(), key=lambda g: (not set(g) & fixed, -len(g), g[0]))
    number = {k: i for i, group in enumerate([g for g in groups if len(g) > 1 or set(g) & (fixed | set(given)) or n == 1], 1) for k in group}
    poses: list[np.ndarray | None] = [None] * n
    for group in groups:
        if group[0] in number:
            base = _base(group, assembly, given, fixed)
            for k in group:
                poses[k] = base @ assembly.pose[k]
                rivals[k] = [base @ r for r in rivals[k]]
    return Placed(poses, [number.get(k, 0) for k in range(n)], used, doubt, rivals)


def _base(group, assembly, given, fixed) -> np.ndarray:
    """From an island's frame to the one it is told in: that of its fixed scans, of most of its given poses, or of its first scan."""
    if set(group) & fixed:
        return np.eye(4)
    told = [given[k] @ rigid.inverse(assembly.pose[k]) for k in group if k in given]
    if told:
        return max(told, key=lambda t: sum(same(t, o) for o in told))
    return rigid.inverse(assembly.pose[group[0]])


def _support(offer: Offer, offers: list[Offer]) -> float:
    """The weight of an offer and of the third scans through which others come to the same placement."""
    through: dict[int, float] = {}
    by: dict[tuple[int, int], list[Offer]] = {}
    for o in offers:
        by.setdefault((o.a, o.b), []).append(o)
    for c in {k for o in offers for k in (o.a, o.b)} - {offer.a, offer.b}:
        for one in by.get((min(offer.a, c), max(offer.a, c)), []):
            first = one.fit.pose if one.a == offer.a else rigid.inverse(one.fit.pose)
            for two in by.get((min(c, offer.b), max(c, offer.b)), []):
                second = two.fit.pose if two.a == c else rigid.inverse(two.fit.pose)
                if same(first @ second, offer.fit.pose):
                    through[c] = max(through.get(c, 0.0), min(one.verdict.common, two.verdict.common))
    return offer.weight + sum(through.values())


def _doubt(assembly, offers, given, fixed, doubt, rivals, progress) -> None:
    """Look for rivals of every scan, and of every part that hangs on one tie, against all that stands otherwise."""
    for k in range(len(assembly.pose)):
        progress.advance(k, len(assembly.pose), f"Rivals of scan {k + 1}")
        others = [j for j in assembly.members(assembly.island[k]) if j != k]
        if not others or k in fixed:
            continue
        best, weights = assembly.against({k: assembly.pose[k]}, others)[1], []
        for part in _parts(assembly, k, others):
            rest = [j for j in assembly.members(assembly.island[k]) if j not in part]
            for offer in offers:
                inside, outside = (offer.b, offer.a) if offer.a in rest and offer.b in part else (offer.a, offer.b) if offer.b in rest and offer.a in part else (None, None)
                if inside is None:
                    continue
                relative = offer.fit.pose if outside == offer.a else rigid.inverse(offer.fit.pose)
                mover = assembly.pose[outside] @ relative @ rigid.inverse(assembly.pose[inside])
                pose = mover @ assembly.pose[k]
                if same(pose, assembly.pose[k], (0.3, np.radians(3))) or any(same(pose, r) for r in rivals[k]):
                    continue
                area, common = assembly.against({m: mover @ assembly.pose[m] for m in part}, rest)
                if area <= REFUSED and common >= RIVAL * best:
                    rivals[k].append(pose)
                    weights.append(common)
        rivals[k] = [rivals[k][i] for i in np.argsort(-np.array(weights), kind="stable")][:ALTERNATIVES]
        told = _told(assembly, k, others, given)
        if rivals[k] and told is True:  # what came with the files and what the scans say agree: two witnesses
            rivals[k] = []
        if rivals[k]:
            away = rigid.difference(rivals[k][0], assembly.pose[k])
            doubt[k] = f"{len(rivals[k]) + 1} placements explain it about as well; the next one lies {away[0]:.1f} m away" + (f", turned by {np.degrees(away[1]):.0f}°" if away[1] > 0.1 else "") + "."
        elif told is False:
            doubt[k] = "It does not stand where the pose in its file says, and nothing but the scans themselves says otherwise."


def _told(assembly, k: int, others: list[int], given: dict[int, np.ndarray]) -> bool | None:
    """Whether most scans with given poses stand to this one as those poses say; None where no such poses are given."""
    told = [j for j in others if j in given]
    if k not in given or not told:
        return None
    good = sum(same(rigid.inverse(assembly.pose[j]) @ assembly.pose[k], rigid.inverse(given[j]) @ given[k], GIVEN) for j in told)
    return good >= len(told) / 2


def _parts(assembly, k: int, others: list[int]) -> list[set[int]]:
    """The scan alone, and the parts of its island with it that hang on the rest by one scan only."""
    parts, members = [{k}], [k, *others]
    near = {a: {b for b in members if b != a and (v := assembly.verdict(min(a, b), max(a, b), rigid.inverse(assembly.pose[min(a, b)]) @ assembly.pose[max(a, b)])).common >= COMMON and v.area <= REFUSED} for a in members}
    for cut in others:
        seen, todo = {k}, [k]
        while todo:
            for j in near[todo.pop()] - seen - {cut}:
                seen.add(j)
                todo.append(j)
        if 1 < len(seen) <= len(members) / 2 and seen not in parts:
            parts.append(seen)
    return parts
