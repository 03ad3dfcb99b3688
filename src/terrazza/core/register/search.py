"""Where scans stand among each other: many likely placements a pair, judged by what contradicts them; one assembly that nothing contradicts; and for every scan its rivals.

A placement is believed where it beats every rival on the evidence that tells them apart.  Where others explain the data about as
well, they are kept to choose from, and the scan is doubted.
"""

from dataclasses import dataclass, field, replace
from itertools import combinations

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Part, Progress
from terrazza.core.register import cloud_fit
from terrazza.core.register.contradiction import Picture, Verdict, judge
from terrazza.core.register.plan_match import PlanShape, candidates
from terrazza.core.register.surface import Surface
from terrazza.errors import InputError

WIDE, NARROW = (0.6, 0.3, 0.15, 0.06), (0.2, 0.08)  # m: widths of fits from given poses, and from candidates that were slid to the cell
POINTS = 4000  # of a scan in such a fit
TRIED, KEPT = 16, 8
REFUSED = 1.2  # m² of contradicting surface that no true placement has (at most 0.2 at the truth of simulated jobs, 0.6 where everything movable was moved)
TOLD = 10.0  # what a whole scan in common is worth, as a logarithm of how much likelier it makes a placement
TWICE = 3.0  # evidence against each pair of stations that are stacked
WORTH, SLIDES = 2.5, (0.08, 0.04, 0.04, 0.02, 0.02, 0.01)  # m² of contradicting surface below which a placement is worth sliding along what nothing holds, and the steps, m
COMMON = 0.03  # share of a scan that a tie has to explain
ROUGH = 0.03  # m RMS of a fit that is not believed
SAME = (0.20, np.radians(2.0))  # two placements nearer than this are one
RIVAL = 1.5  # a rival's evidence is at most this much less than the placement's
BETTER = 0.3  # a rival with this much more evidence takes the placement's place
FAINT = 1.8  # evidence below which a placement is doubted even without a rival
GIVEN = (1.0, np.radians(10.0))  # a placement within this of the given one is backed by it
BACKED = 100.0  # evidence that this is worth: more than any third scans can add
STACKED, STACKED_WEIGHT = (2.5, 0.8), 0.3  # m and share agreed: stations nearer than this that see the same may be one room seen twice or two like rooms, which makes it weaker evidence
TWINS = 0.6  # m: stations nearer than this that see the same say nothing at all, because two set-ups rarely stand in one place; they are tried as one part, too
ALIKE = 0.3  # m² of contradicting surface below which two scans that can be stacked may stand for one another
BLOCKS = (0.1, 0.2, 0.4)  # shares in common: parts of an island that hang together by more than this are tried as one
BUSY = 0.3  # in common: pairs of which what contradicts tells how much moved between scans; the more did, the less a faint placement without contradictions says
ALTERNATIVES = 8
MAP = 14.0  # m from a map's centre to the stations that it is made of


def evidence(verdict: Verdict, apart: float) -> float:
    """What a pair's pictures say for a placement with their stations ``apart`` (m) against none, as a logarithm: what they have in common, less what contradicts."""
    alike = verdict.shared > STACKED[1]
    weight = 0.0 if alike and apart < TWINS else STACKED_WEIGHT if alike and apart < STACKED[0] else 1.0
    return weight * TOLD * verdict.told - verdict.cost


@dataclass
class Offer:
    """A placement of scan ``b`` in the frame of scan ``a``: fit, verdict of both pictures, and whether poses that came with the files back it."""

    a: int
    b: int
    fit: cloud_fit.Fit
    verdict: Verdict
    backed: bool = False

    @property
    def evidence(self) -> float:
        return evidence(self.verdict, float(np.linalg.norm(self.fit.pose[:3, 3])))

    @property
    def weight(self) -> float:
        return self.evidence + BACKED * self.backed


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
    """Placements of b in a's frame that little contradicts, best first."""
    starts = ([] if given is None else [(given, WIDE), (given, NARROW)]) + [(c.pose, NARROW) for c in candidates(shapes[a], shapes[b], TRIED)]
    found: list[Offer] = []
    seen: list[np.ndarray] = []
    for start, widths in starts:
        try:
            fit = cloud_fit.fit(surfaces[a], surfaces[b], start, widths, 8, POINTS)
        except InputError:
            continue
        if fit.rms > ROUGH or any(same(fit.pose, o, (0.03, np.radians(0.3))) for o in seen):
            continue
        seen.append(fit.pose)
        verdict = judge(pictures[a], pictures[b], fit.pose)
        if fit.free and verdict.area < WORTH:
            fit, verdict = _slid_on(fit, verdict, pictures[a], pictures[b])
        if verdict.area <= REFUSED and verdict.common >= COMMON:
            found.append(Offer(a, b, fit, verdict, given is not None and same(fit.pose, given, GIVEN)))
    found.sort(key=lambda o: -o.weight)
    kept: list[Offer] = []
    for offer in found:
        if not any(same(offer.fit.pose, o.fit.pose) for o in kept):
            kept.append(offer)
    return kept[:KEPT]


def _slid_on(fit: cloud_fit.Fit, verdict: Verdict, a: Picture, b: Picture) -> tuple[cloud_fit.Fit, Verdict]:
    """Along shifts that no surface holds, the place that the pictures contradict least: what one saw through openings still tells to a centimetre or two."""
    for free in fit.free:
        for step in SLIDES:
            for way in (step, -step):
                pose = rigid.make(np.eye(3), way * free) @ fit.pose
                other = judge(a, b, pose)
                if other.told * TOLD - other.cost > verdict.told * TOLD - verdict.cost + 0.05:
                    fit, verdict = replace(fit, pose=pose), other
                    break
    return fit, verdict


def _offers(asked, common, progress: Progress) -> list[Offer]:
    found = offers_of(*common, *asked)
    progress.advance(1.0, 1.0)
    return found


@dataclass(frozen=True)
class Case:
    """For and against some scans at some poses: the largest ``area`` (m²) that contradicts in a pair, the ``evidence`` of all pairs, and how many pairs are ``stacked``."""

    area: float
    evidence: float
    stacked: int

    @property
    def likely(self) -> float:
        return self.evidence - TWICE * self.stacked


class Assembly:
    """Scans in islands, each with poses in its island's frame, and what their pictures say of each other."""

    def __init__(self, pictures: list[Picture], fixed: set[int]):
        self.pictures, self.fixed = pictures, fixed
        self.pose = [np.eye(4) for _ in pictures]
        self.island = list(range(len(pictures)))
        self._judged: dict[tuple, Verdict] = {}

    def verdict(self, a: int, b: int, pose: np.ndarray) -> Verdict:
        if a > b:
            a, b, pose = b, a, rigid.inverse(pose)
        key = (a, b, pose.round(3).tobytes())
        if key not in self._judged:
            self._judged[key] = judge(self.pictures[a], self.pictures[b], pose)
        return self._judged[key]

    def standing(self, a: int, b: int) -> Verdict:
        """The verdict on two scans of one island as they stand."""
        return self.verdict(a, b, rigid.inverse(self.pose[a]) @ self.pose[b])

    def members(self, island: int) -> list[int]:
        return [k for k, i in enumerate(self.island) if i == island]

    def against(self, moved: dict[int, np.ndarray], others: list[int]) -> "Case":
        """Of scans at some poses among others as they stand: what all pairs across say."""
        area = weight = 0.0
        stacked = 0
        for k, pose in moved.items():
            for j in others:
                verdict, apart = self.verdict(j, k, rigid.inverse(self.pose[j]) @ pose), float(np.linalg.norm(self.pose[j][:3, 3] - pose[:3, 3]))
                area = max(area, verdict.area)
                weight += evidence(verdict, apart)
                stacked += apart < TWINS and verdict.shared > STACKED[1]
                if area > REFUSED:
                    return Case(area, weight, stacked)
        return Case(area, weight, stacked)

    def join(self, offer: Offer, twins: bool = False) -> bool:
        """Put two islands together by an offer where no pair across them contradicts it, and more speaks for it than against; ``twins``: also where they only lie upon each other."""
        stay, go = self.island[offer.a], self.island[offer.b]
        if stay == go:
            return False
        mover = self.pose[offer.a] @ offer.fit.pose @ rigid.inverse(self.pose[offer.b])
        if set(self.members(go)) & self.fixed:  # what is fixed stays, and the others come to it
            stay, go, mover = go, stay, rigid.inverse(mover)
        moved = {k: mover @ self.pose[k] for k in self.members(go)}
        case = self.against(moved, self.members(stay))
        if case.area > REFUSED or case.likely <= 0 and not offer.backed and not (twins and case.stacked and case.evidence >= 0):
            return False
        for k, pose in moved.items():
            self.pose[k], self.island[k] = pose, stay
        return True


def place(surfaces: list[Surface], shapes: list[PlanShape], pictures: list[Picture], given: dict[int, np.ndarray] | None = None, fixed: set[int] | None = None, progress: Progress = QUIET, fleet=None) -> Placed:
    """Where scans stand among each other; ``given`` poses (scan → job) compete with what the scans say, those of ``fixed`` scans stay."""
    n, given, fixed = len(surfaces), given or {}, fixed or set()
    offers: list[Offer] = []
    pairs = [(a, b) for a in range(n) for b in range(a + 1, n) if not {a, b} <= fixed]
    asked = [(a, b, rigid.inverse(given[a]) @ given[b] if {a, b} <= set(given) else None) for a, b in pairs]
    if fleet is None:
        for done, one in enumerate(asked):
            progress.advance(0.8 * done, len(pairs), "Placements of pairs")
            offers += offers_of(surfaces, shapes, pictures, *one)
    else:
        for found in fleet.map(_offers, asked, [1.0] * len(asked), Part(progress, 0, 0.8, float(len(asked) or 1)), "Placements of pairs", (surfaces, shapes, pictures)):
            offers += found
    assembly, used, rivals, doubt = _assembled(pictures, given, fixed, offers, Part(progress, 0.8, 0.85, float(len(pairs) or 1)))
    weak = [k for k in range(n) if k not in fixed and len(assembly.members(assembly.island[k])) == 1]
    more = _map_offers(assembly, weak, surfaces, shapes, fleet, Part(progress, 0.85, 0.95, float(len(weak) or 1)))
    if more:
        assembly, used, rivals, doubt = _assembled(pictures, given, fixed, offers + more, Part(progress, 0.95, 1.0, float(len(pairs) or 1)))
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


def _assembled(pictures, given, fixed, offers: list[Offer], progress: Progress) -> tuple[Assembly, list[Offer], list[list[np.ndarray]], list[str]]:
    """The assembly that offers lead to, those it rests on, and by scan the rivals and the doubt."""
    assembly = Assembly(pictures, fixed)
    for k in fixed:
        assembly.pose[k], assembly.island[k] = given[k], min(fixed)
    used = [o for o in sorted(offers, key=lambda o: -_support(o, offers)) if assembly.join(o)]
    used += [o for o in offers if o.verdict.shared > STACKED[1] and assembly.join(o, twins=True)]
    rivals = _rivals(assembly, offers, progress)
    return assembly, used, rivals, [_doubted(assembly, k, rivals, given, fixed) for k in range(len(pictures))]


def _map_offers(assembly: Assembly, weak: list[int], surfaces, shapes, fleet, progress: Progress) -> list[Offer]:
    """Placements of scans that are not sure, from matching each to the rest of every island as a map: it shows more of a place than any one scan."""
    asked: list[tuple] = []
    for island in dict.fromkeys(assembly.island):
        members = assembly.members(island)
        for k in weak:
            rest = [j for j in members if j != k]
            if len(rest) > 1:
                asked += [(k, centre, near, [assembly.pose[j] for j in near]) for centre, near in _neighbourhoods(assembly, rest)]
    results = fleet.map(_on_map, asked, [1.0] * len(asked), progress, "Matching to the map", (surfaces, shapes)) if fleet else [_on_map(one, (surfaces, shapes), progress) for one in asked]
    found: list[Offer] = []
    for (k, *_), poses in zip(asked, results):
        for fit in poses:
            here = {j: assembly.verdict(j, k, rigid.inverse(assembly.pose[j]) @ fit.pose) for j in range(len(assembly.pose)) if j != k}
            here = {j: v for j, v in here.items() if v.common >= COMMON and v.area <= REFUSED}
            if here:
                j = max(here, key=lambda j: here[j].told)
                found.append(Offer(j, k, replace(fit, pose=rigid.inverse(assembly.pose[j]) @ fit.pose), here[j]))
    return found


def _neighbourhoods(assembly: Assembly, members: list[int]) -> list[tuple[np.ndarray, list[int]]]:
    """Centres of maps and the scans in each: as few as leave every station within half a map's reach of one."""
    left, out = list(members), []
    while left:
        centre = np.median([assembly.pose[j][:3, 3] for j in left], axis=0) if not out else assembly.pose[left[0]][:3, 3]
        near = [j for j in members if np.linalg.norm(assembly.pose[j][:2, 3] - centre[:2]) < MAP]
        if not set(near) & set(left):
            centre = assembly.pose[left[0]][:3, 3]
            near = [j for j in members if np.linalg.norm(assembly.pose[j][:2, 3] - centre[:2]) < MAP]
        out.append((centre, near))
        left = [j for j in left if j not in near]
    return out


def _on_map(asked, common, progress: Progress) -> list[cloud_fit.Fit]:
    """Fits (``pose``: scan to island) of one scan to a map."""
    (k, centre, near, poses), (surfaces, shapes) = asked, common
    shape, surface = PlanShape.of_map([surfaces[j] for j in near], poses, centre)
    found: list[cloud_fit.Fit] = []
    for candidate in candidates(shape, shapes[k], TRIED):
        try:
            fit = cloud_fit.fit(surface, surfaces[k], candidate.pose, NARROW, 8, POINTS)
        except InputError:
            continue
        if fit.rms < ROUGH and not any(same(fit.pose, f.pose, (0.03, np.radians(0.3))) for f in found):
            found.append(fit)
    progress.advance(1.0, 1.0)
    return [replace(f, pose=rigid.make(np.eye(3), centre) @ f.pose) for f in found]


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
                    through[c] = max(through.get(c, 0.0), min(one.evidence, two.evidence))
    return offer.weight + sum(through.values())


def _rivals(assembly: Assembly, offers: list[Offer], progress: Progress) -> list[list[np.ndarray]]:
    """For every scan other poses that explain about as much, alone or together with a part of its island, best first; a part that would stand clearly better elsewhere is put there first."""
    n = len(assembly.pose)
    for _ in range(2 * n):
        found: list[list[tuple[float, np.ndarray]]] = [[] for _ in range(n)]
        better: tuple[float, frozenset, np.ndarray] | None = None
        parts, alike = _parts(assembly), _alike(offers, n)
        for done, part in enumerate(parts):
            progress.advance(done, len(parts), "Rivals")
            others = [j for j in assembly.members(assembly.island[min(part)]) if j not in part]
            rest = [j for j in others if not any(j in alike[k] for k in part)] or others  # what may stand for it may have to give way to it
            now = assembly.against({k: assembly.pose[k] for k in part}, rest)
            for mover in _movers(assembly, part, rest, offers):
                case = assembly.against({m: mover @ assembly.pose[m] for m in part}, rest)
                gain = case.evidence - now.evidence
                if case.area > REFUSED or gain < -RIVAL and not (now.stacked and case.evidence > FAINT):
                    continue
                if case.likely > now.likely + BETTER and (better is None or case.likely - now.likely > better[0]):
                    better = case.likely - now.likely, part, mover
                for k in part:
                    found[k].append((gain, mover @ assembly.pose[k]))
        if better is None:
            break
        for k in better[1]:
            assembly.pose[k] = better[2] @ assembly.pose[k]
    return [_distinct(f) for f in found]


def _alike(offers: list[Offer], n: int) -> list[set[int]]:
    """For each scan those that could stand in its place: they saw the same, as like rooms do."""
    out: list[set[int]] = [set() for _ in range(n)]
    for o in offers:
        if o.verdict.shared > STACKED[1] and o.verdict.area < ALIKE and np.linalg.norm(o.fit.pose[:3, 3]) < STACKED[0]:
            out[o.a].add(o.b)
            out[o.b].add(o.a)
    return out


def _distinct(found: list[tuple[float, np.ndarray]]) -> list[np.ndarray]:
    out: list[np.ndarray] = []
    for _, pose in sorted(found, key=lambda f: -f[0]):
        if len(out) < ALTERNATIVES and not any(same(pose, o) for o in out):
            out.append(pose)
    return out


def _movers(assembly: Assembly, part: frozenset, rest: list[int], offers: list[Offer]):
    """Motions of a part, each by an offer of one of its scans to one of the rest, that put it elsewhere."""
    one, seen = min(part), [assembly.pose[min(part)]]
    for offer in offers:
        inside, outside = (offer.b, offer.a) if offer.b in part else (offer.a, offer.b)
        if inside not in part or outside not in rest:
            continue
        relative = offer.fit.pose if outside == offer.a else rigid.inverse(offer.fit.pose)
        mover = assembly.pose[outside] @ relative @ rigid.inverse(assembly.pose[inside])
        pose = mover @ assembly.pose[one]
        if not any(same(pose, s, (0.3, np.radians(3)) if k == 0 else SAME) for k, s in enumerate(seen)):
            seen.append(pose)
            yield mover


def _doubted(assembly: Assembly, k: int, rivals: list[list[np.ndarray]], given, fixed) -> str:
    """Why a scan's placement is doubted; empty where it is not.  Rivals that poses of the files speak against are taken away."""
    others = [j for j in assembly.members(assembly.island[k]) if j != k]
    if not others or k in fixed:
        rivals[k] = []
        return ""
    told = _told(assembly, k, others, given)
    if told is True:  # what came with the files and what the scans say agree: two witnesses
        rivals[k] = []
    if rivals[k]:
        away = rigid.difference(rivals[k][0], assembly.pose[k])
        return f"{len(rivals[k]) + 1} placements explain it about as well; the next one lies {away[0]:.1f} m away" + (f", turned by {np.degrees(away[1]):.0f}°" if away[1] > 0.1 else "") + "."
    double = [j for j in others if np.linalg.norm(assembly.pose[j][:3, 3] - assembly.pose[k][:3, 3]) < TWINS and assembly.standing(j, k).shared > STACKED[1]]
    if told is None and double:
        return "It stands where another scan stands and saw the same: one place scanned twice, or two that look alike."
    busy = [v.cost for a, b in combinations([k, *others], 2) if (v := assembly.standing(a, b)).told > BUSY]
    least = FAINT * (1 + float(np.mean(busy)) / 2) if busy else FAINT
    if told is None and (faint := assembly.against({k: assembly.pose[k]}, others).evidence) < least:
        return f"Little speaks for where it stands ({max(faint, 0) / TOLD:.0%} of what it saw): the others saw hardly any of it."
    if told is False:
        return "It does not stand where the pose in its file says, and nothing but the scans themselves says otherwise."
    return ""


def _told(assembly, k: int, others: list[int], given: dict[int, np.ndarray]) -> bool | None:
    """Whether most scans with given poses stand to this one as those poses say; None where no such poses are given."""
    told = [j for j in others if j in given]
    if k not in given or not told:
        return None
    good = sum(same(rigid.inverse(assembly.pose[j]) @ assembly.pose[k], rigid.inverse(given[j]) @ given[k], GIVEN) for j in told)
    return good >= len(told) / 2


def _parts(assembly: Assembly) -> list[frozenset]:
    """What may stand elsewhere by itself: each scan with its twins; what hangs on its island by one scan; what hangs together more than with the rest.  At most half of an island, nothing fixed."""
    parts: dict[frozenset, None] = {}
    for island in dict.fromkeys(assembly.island):
        members = assembly.members(island)
        common = {(a, b): v.common for a, b in combinations(members, 2) if (v := assembly.standing(a, b)).area <= REFUSED}
        near = {a: {b for b in members if common.get((min(a, b), max(a, b)), 0) >= COMMON} for a in members}
        twins = {a: {a} | {b for b in near[a] if np.linalg.norm(assembly.pose[a][:3, 3] - assembly.pose[b][:3, 3]) < TWINS and assembly.standing(a, b).shared > STACKED[1]} for a in members}
        found = [{a} for a in members] + [_reached(a, twins, set()) for a in members]
        for cut in members:
            found += [_reached(a, near, {cut}) for a in members if a != cut]
        for share in BLOCKS:
            strong = {a: {b for b in near[a] if common[min(a, b), max(a, b)] >= share} for a in members}
            found += [_reached(a, strong, set()) for a in members]
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
