"""Where scans stand among each other: many likely placements a pair, judged by what contradicts them; one
assembly that nothing contradicts; and for every scan its rivals.

A placement is believed where it beats every rival on the evidence that tells them apart.  Where others
explain the data about as well, they are kept to choose from, and the scan is doubted.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Part, Progress
from terrazza.core.register.across import beside_like_ones, claimed, little_held, torn
from terrazza.core.register.assembly import ALTERNATIVES, MANY, WELL, Assembly
from terrazza.core.register.contradiction import Verdict, judge
from terrazza.core.register.doubts import as_filed, doubts_of, put_back
from terrazza.core.register.giving_way import made_way
from terrazza.core.register.guesses import guesses
from terrazza.core.register.offers import (
    COMMON,
    REFUSED,
    STACKED,
    Offer,
    by_targets,
    offers_of,
    on_map,
    quietness,
    same,
    weighed,
)
from terrazza.core.register.picture import Picture
from terrazza.core.register.plan_match import PlanShape
from terrazza.core.register.rivals import moved_to_better, rivals_among
from terrazza.core.register.support import support, ways_of
from terrazza.core.register.sure import doubt_on
from terrazza.core.register.surface import Surface
from terrazza.core.register.witnesses import Sighting, placement

MAP = 14.0  # m from a map's centre to the stations that it is made of
# of large jobs, where not every pair is tried: most alike tried for a scan, those after it (a crew goes on to
# where it sees the last place), and m between given places
LIKELY, NEXT, NEAR = 1, 5, 12.0
ROUNDS = (
    3  # scans that are not sure are matched to maps so often at most: each newly placed one enlarges them
)
# islands that a scan of a large job is matched to as maps: those that it looks like or was taken next to
MAPS = 3
CONTESTED = "Another scan would fit here about as well, and only one of them can be right."
REPEATED = "Rooms repeat themselves here, and little speaks for this one rather than another."
LIKE_ONES = (
    "It lies beside two scans that stand in one place and saw the same; if these are two rooms that look "
    "alike, it fits the one as well as the other."
)
TORN = "It would fit into another group of scans about as well, and only one of them can be right."


@dataclass
class Placed:
    """The result: rough poses by scan in the frame of its island (None where nothing ties it), ``island``
    numbers from 1 (0: none), ``doubt`` a sentence where a placement is not certain, and ``rivals``: other
    poses of a scan in its island's frame, best first.
    """

    poses: list[np.ndarray | None]
    island: list[int]
    doubt: list[str] = field(default_factory=list)
    rivals: list[list[np.ndarray]] = field(default_factory=list)


@dataclass(frozen=True)
class _Task:
    """What is asked of a search: scans, ``given`` poses and ``fixed`` scans; who does the work (a fleet,
    which has the three lists as ``common``, or nobody else), and the verdicts and holds known so far.
    """

    surfaces: list[Surface]
    shapes: list[PlanShape]
    pictures: list[Picture]
    given: dict[int, np.ndarray]
    fixed: set[int]
    fleet: Any = None
    common: Any = None
    judged: dict[Any, Any] = field(default_factory=dict)
    holds: dict[Any, bool] = field(default_factory=dict)

    def each(self, work: Callable[..., Any], asked: list[Any], progress: Progress, label: str) -> list[Any]:
        """What ``work`` finds for each of those ``asked``, here or over the fleet."""
        seen = (self.surfaces, self.shapes, self.pictures)
        if self.fleet is not None:
            shared = self.common or seen
            return self.fleet.map(work, asked, [1.0] * len(asked), progress, label, shared)
        found: list[Any] = []
        for one in asked:
            progress.advance(len(found), len(asked), label)
            found.append(work(one, seen, QUIET))
        return found


def _offers(
    asked: tuple[int, int, np.ndarray | None, bool],
    common: tuple[list[Surface], list[PlanShape], list[Picture]],
    progress: Progress,
) -> list[Offer]:
    found = offers_of(*common, *asked)
    progress.advance(1.0, 1.0)
    return found


def place(
    surfaces: list[Surface],
    shapes: list[PlanShape],
    pictures: list[Picture],
    given: dict[int, np.ndarray] | None = None,
    fixed: set[int] | None = None,
    progress: Progress = QUIET,
    fleet: Any = None,
    common: Any = None,
    off: set[tuple[int, int]] | None = None,
    sightings: Callable[[], list[Sighting]] = list,
) -> Placed:
    """Where scans stand among each other; ``given`` poses (scan → job) compete with what the scans say, those
    of ``fixed`` scans stay. ``common``: the three lists as a ``fleet`` has shared them.

    Pairs (a < b) that are ``off`` are not tried. Where surfaces do not decide, targets that scans saw
    (``sightings`` gives them) place them if three or more agree. Poses (4, 4).
    """
    n, given, fixed, off = len(surfaces), given or {}, fixed or set(), off or set()
    task = _Task(surfaces, shapes, pictures, given, fixed, fleet, common)
    pairs = [(a, b) for a, b in _pairs(shapes, given) if not {a, b} <= fixed and (a, b) not in off]
    asked = [
        (a, b, rigid.inverse(given[a]) @ given[b] if {a, b} <= set(given) else None, n > MANY)
        for a, b in pairs
    ]
    offers = _all_offers(task, asked, Part(progress, 0, 0.8, float(len(asked) or 1)))
    quiet = quietness(offers)
    offers = [replace(o, verdict=weighed(o.verdict, quiet)) for o in offers]
    assembled = lambda offers, witnessed, part: _assembled(task, quiet, offers, witnessed, part)
    steps = float(len(pairs) or 1)
    found = assembled(offers, [], Part(progress, 0.8, 0.85, steps))
    tried: set[Any] = set()
    known: tuple[list[int], list[np.ndarray]] = [], []
    for done in range(ROUNDS):
        weak = _weak(found[0], found[2], WELL if done == 0 else 0.0)
        if weak == known[0] and all(map(same, known[1], found[0].pose)):
            break
        known = weak, list(found[0].pose)
        part = Part(progress, 0.85 + 0.05 * done, 0.9 + 0.05 * done, float(len(weak) or 1))
        more = _map_offers(task, found[0], weak, part, tried)
        if not more:
            break
        offers += more
        found = assembled(offers, [], Part(part, 0.9, 1.0, steps))
    if any(found[2]) or len(set(found[0].island)) > 1:
        witnessed = _by_targets(sightings(), surfaces, pictures, off)
        if witnessed:
            found = assembled(offers + witnessed, witnessed, progress)
    return _numbered(*found, given, fixed, offers)


def _weak(assembly: Assembly, doubt: list[str], least: float) -> list[int]:
    """The scans that are doubted, or for which ``least`` evidence speaks at most."""
    return [
        k
        for k in range(len(doubt))
        if k not in assembly.fixed and (doubt[k] or assembly.evidence(k) <= least)
    ]


def _numbered(
    assembly: Assembly,
    rivals: list[list[np.ndarray]],
    doubt: list[str],
    given: dict[int, np.ndarray],
    fixed: set[int],
    offers: list[Offer],
) -> Placed:
    """Islands numbered from 1, that with fixed scans first and then the largest; lone scans stand aside, with
    guesses where they belong in the first.
    """
    n = len(assembly.island)
    groups = sorted(
        {i: assembly.members(i) for i in assembly.island}.values(),
        key=lambda g: (not set(g) & fixed, -len(g), g[0]),
    )
    counted = [g for g in groups if len(g) > 1 or set(g) & (fixed | set(given)) or n == 1]
    number = {k: i for i, group in enumerate(counted, 1) for k in group}
    poses: list[np.ndarray | None] = [None] * n
    for group in groups:
        if group[0] in number:
            base = _base(group, assembly, given, fixed)
            for k in group:
                poses[k] = base @ assembly.pose[k]
                rivals[k] = [base @ r for r in rivals[k]]
        elif counted:
            base = _base(counted[0], assembly, given, fixed)
            rivals[group[0]] = [base @ g for g in guesses(assembly, offers, group[0], counted[0])]
    return Placed(poses, [number.get(k, 0) for k in range(n)], doubt, rivals)


def _all_offers(
    task: _Task, asked: list[tuple[int, int, np.ndarray | None, bool]], progress: Progress
) -> list[Offer]:
    """The placements that the pairs asked for offer."""
    return [o for some in task.each(_offers, asked, progress, "Placements of pairs") for o in some]


def _pairs(shapes: list[PlanShape], given: dict[int, np.ndarray]) -> list[tuple[int, int]]:
    """Pairs worth trying: all of a few scans; of many, those whose shapes look most alike whatever their
    turn, those that follow each other, and those that are given near each other.
    """
    n = len(shapes)
    if n <= MANY:
        return [(a, b) for a in range(n) for b in range(a + 1, n)]
    looks = np.array([s.look for s in shapes])
    chosen = {(a, b) for a in range(n) for b in range(a + 1, min(a + 1 + NEXT, n))}
    for a in range(n):
        apart = np.abs(looks - looks[a]).sum(1)
        apart[a] = np.inf
        chosen |= {(min(a, int(b)), max(a, int(b))) for b in np.argsort(apart, kind="stable")[:LIKELY]}
    for a in given:
        near = [b for b in given if a < b and np.linalg.norm(given[a][:3, 3] - given[b][:3, 3]) < NEAR]
        chosen |= {(a, b) for b in near}
    return sorted(chosen)


def _assembled(
    task: _Task, quiet: float, offers: list[Offer], witnessed: list[Offer], progress: Progress
) -> tuple[Assembly, list[list[np.ndarray]], list[str]]:
    """The assembly that offers lead to, and by scan the rivals and the doubt; ``witnessed`` are those that
    targets say, ``quiet`` is how much counts what may have been moved.
    """
    assembly = Assembly(task.pictures, task.fixed, task.judged, quiet, task.surfaces, task.holds)
    for k in task.fixed:
        assembly.pose[k], assembly.island[k] = task.given[k], min(task.fixed)
    ways = ways_of(offers)
    ranked = sorted(offers, key=lambda o: -support(o, ways))
    for o in ranked:
        assembly.join(o)
    for o in offers:
        if o.verdict.shared > STACKED[1]:
            assembly.join(o, twins=True)
    way = made_way(assembly, ranked)
    assembly = way.assembly
    filed = lambda: as_filed(assembly, task.given)
    assembly.settle(offers)
    elsewhere = moved_to_better(assembly, offers, progress, filed)
    if put_back(assembly, task.given, offers):
        elsewhere = moved_to_better(assembly, offers, progress, filed)
    rivals = rivals_among(assembly, offers, progress, filed(), elsewhere)
    rivals = [[*some, *more][:ALTERNATIVES] for some, more in zip(rivals, way.rivals)]
    doubts = doubts_of(assembly, rivals, task.given, witnessed)
    if not witnessed:
        stay = filed()
        contested = way.contested | claimed(assembly, offers)
        suspect = {
            CONTESTED: contested,
            TORN: torn(assembly, offers),
            LIKE_ONES: beside_like_ones(assembly, rivals),
        }
        suspect[REPEATED] = little_held(assembly, frozenset().union(*suspect.values()))
        for why, some in suspect.items():
            for k in some - stay:
                doubts[k] = doubts[k] or why
        doubt_on(assembly, offers, doubts, rivals, stay | task.fixed, progress)
    return assembly, rivals, doubts


def _by_targets(
    sightings: list[Sighting], surfaces: list[Surface], pictures: list[Picture], off: set[tuple[int, int]]
) -> list[Offer]:
    """Placements of pairs that three targets or more agree on, fitted closely where surfaces can, where
    little contradicts them.
    """
    seen: dict[int, list[Sighting]] = {}
    for s in sightings:
        seen.setdefault(s.scan, []).append(s)
    out = []
    for a, b in combinations(sorted(seen), 2):
        pose = placement(seen[a], seen[b]) if (a, b) not in off else None
        if pose is not None:
            fit = by_targets(surfaces[a], surfaces[b], pose)
            verdict = judge(pictures[a], pictures[b], fit.pose)
            if verdict.area <= REFUSED:
                out.append(Offer(a, b, fit, verdict, backed=True))
    return out


def _map_offers(
    task: _Task, assembly: Assembly, weak: list[int], progress: Progress, tried: set[Any]
) -> list[Offer]:
    """Placements of scans that are not sure, from matching each to the rest of every island as a map: it
    shows more of a place than any one scan. What was ``tried`` before, with the map standing as now, is not
    tried again.
    """
    asked: list[tuple[Any, ...]] = []
    n, unsure = len(assembly.pose), set(weak)
    hopeful = {k: _hopeful(assembly, task.shapes, k) for k in weak} if n > MANY else {}
    for island in dict.fromkeys(assembly.island):
        members = assembly.members(island)
        sure = [j for j in members if j not in unsure]
        for k in weak:
            rest = [j for j in (sure if len(sure) > 1 else members) if j != k]
            if len(rest) > 1:
                for centre, near in _neighbourhoods(assembly, rest):
                    poses = [assembly.pose[j] for j in near]
                    key = (k, *near, *(np.array(poses)[:, :3, 3].round(1) + 0.0).ravel())
                    if key not in tried and (n <= MANY or hopeful[k] & set(near)):
                        tried.add(key)
                        stands = assembly.pose[k] if assembly.island[k] == island else None
                        asked.append((assembly.quiet, (k, centre, near, poses, stands)))
    found: list[Offer] = []
    for offers, judged in task.each(_on_map, asked, progress, "Matching to the map"):
        found += offers
        task.judged.update(judged)
    return found


def _on_map(
    asked: tuple[float, tuple[int, np.ndarray, list[int], list[np.ndarray], np.ndarray | None]],
    common: tuple[list[Surface], list[PlanShape], list[Picture]],
    progress: Progress,
) -> tuple[list[Offer], dict[Any, Verdict]]:
    """The placements of a scan on a map that nothing near there contradicts, each against the scan with which
    it has most in common, and the verdicts that this took. Asked: how much counts what may have been moved,
    and what ``offers.on_map`` is asked.
    """
    quiet, (k, _, near, poses, _) = asked
    assembly = Assembly(common[2], set(), quiet=quiet)
    for j, pose in zip(near, poses):
        assembly.pose[j] = pose
    found: list[Offer] = []
    for fit in on_map(asked[1], common, progress):
        case = assembly.against({k: fit.pose}, near)
        if case.area > REFUSED:
            continue
        here = {j: assembly.verdict(j, k, rigid.inverse(assembly.pose[j]) @ fit.pose) for j in near}
        here = {j: v for j, v in here.items() if v.common >= COMMON}
        if here:
            j = max(here, key=lambda j: here[j].told)
            at = replace(fit, pose=rigid.inverse(assembly.pose[j]) @ fit.pose)
            one = Offer(j, k, at, here[j])
            found.append(replace(one, among=case.evidence - one.evidence))
    return found, assembly.judged


def _hopeful(assembly: Assembly, shapes: list[PlanShape], k: int) -> set[int]:
    """The scans before and after one in the day's order, and those that look most alike, of ``MAPS`` islands
    at most.
    """
    order = sorted(
        range(len(shapes)), key=lambda j: (abs(j - k) > NEXT, np.abs(shapes[j].look - shapes[k].look).sum())
    )
    out: dict[int, int] = {}
    for j in order:
        if j != k and len(assembly.members(assembly.island[j])) > 2 and len(out) < MAPS:
            out.setdefault(assembly.island[j], j)
    return set(out.values())


def _neighbourhoods(assembly: Assembly, members: list[int]) -> list[tuple[np.ndarray, list[int]]]:
    """Centres of maps and the scans in each: as few as leave every station within half a map's
    reach of one.
    """
    left, out = list(members), []
    while left:
        centre = (
            np.median([assembly.pose[j][:3, 3] for j in left], axis=0)
            if not out
            else assembly.pose[left[0]][:3, 3]
        )
        near = [j for j in members if np.linalg.norm(assembly.pose[j][:2, 3] - centre[:2]) < MAP]
        if not set(near) & set(left):
            centre = assembly.pose[left[0]][:3, 3]
            near = [j for j in members if np.linalg.norm(assembly.pose[j][:2, 3] - centre[:2]) < MAP]
        out.append((centre, near))
        left = [j for j in left if j not in near]
    return out


def _base(group: list[int], assembly: Assembly, given: dict[int, np.ndarray], fixed: set[int]) -> np.ndarray:
    """From an island's frame to the one it is told in: that of its fixed scans, of most of its given poses,
    or of its first scan.
    """
    if set(group) & fixed:
        return np.eye(4)
    told = [given[k] @ rigid.inverse(assembly.pose[k]) for k in group if k in given]
    if told:
        return max(told, key=lambda t: sum(same(t, o) for o in told))
    return rigid.inverse(assembly.pose[group[0]])
