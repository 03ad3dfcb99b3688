"""The parts of an assembly that may stand elsewhere by themselves."""

from collections.abc import Iterator
from itertools import combinations
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.assembly import NEARBY, Assembly
from terrazza.core.register.offers import COMMON, REFUSED, Offer, same

# shares in common: parts of an island that hang together by more than this are tried as one
BLOCKS = (0.1, 0.2, 0.4)
# evidence of a pair's placement, and share of that of its best one, from which scans are tried elsewhere
# together, and in so many ways
STRONG, ABOUT_AS_GOOD, WAYS = 4.0, 0.6, 8
ABOUT = 0.5  # evidence that going along may cost a scan: where a place looks quite the same none gains any
LOUD = 0.6  # quietness below which pairs of scans are tried elsewhere together


def parts_of(assembly: Assembly) -> list[frozenset[Any]]:
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


def parts_together(assembly: Assembly, offers: list[Offer]) -> Iterator[tuple[np.ndarray, frozenset[Any]]]:
    """Motions (4, 4) by which a place looks the same, like a hall from its other end, and the scans that
    would go that way together: where several stand wrongly by one of them, each alone is held by the others.
    """
    most: dict[tuple[int, int], float] = {}
    for o in offers:
        most[o.a, o.b] = max(most.get((o.a, o.b), STRONG), o.evidence)
    seen: list[np.ndarray] = []
    ranked = sorted(offers, key=lambda o: -o.evidence)
    for o in ranked:
        if (
            o.evidence < max(STRONG, ABOUT_AS_GOOD * most[o.a, o.b])
            or assembly.island[o.a] != assembly.island[o.b]
        ):
            continue
        for k in {o.a, o.b} - assembly.fixed:
            now, outside = assembly.pose[k], o.a + o.b - k
            there = assembly.pose[outside] @ o.seen_from(outside)
            mover = there @ rigid.inverse(now)
            if not any(same(there, m @ now, NEARBY) for m in (np.eye(4), *seen)):
                if len(seen) == WAYS:
                    return
                seen.append(mover)
                parts = {_going_along(assembly, k, mover), _offered_alike(assembly, k, mover, ranked)}
                yield from ((mover, part) for part in sorted(parts, key=sorted) if len(part) > 1)


def _offered_alike(assembly: Assembly, seed: int, mover: np.ndarray, offers: list[Offer]) -> frozenset[Any]:
    """A scan and the others of its island that the best offers of scans outside would move the same way
    (``mover``, (4, 4)): of a block that stands one bay on each is held by all others of it, and none goes
    alone. Nobody where that is more than half of the island.
    """
    members = set(assembly.members(assembly.island[seed]))
    moved, met = {seed}, set()
    for o in offers:  # the best of a pair comes first
        if (o.a, o.b) not in met and o.evidence >= STRONG and {o.a, o.b} <= members:
            met.add((o.a, o.b))
            for k, j in ((o.a, o.b), (o.b, o.a)):
                if same(assembly.pose[j] @ o.seen_from(j), mover @ assembly.pose[k], NEARBY):
                    moved.add(k)
    moved -= assembly.fixed
    return frozenset(moved) if 2 * len(moved) <= len(members) else frozenset()


def _going_along(assembly: Assembly, seed: int, mover: np.ndarray) -> frozenset[Any]:
    """A scan and the others of its island for which, once it has gone by a motion (4, 4), about as much
    speaks if they go, too, as if they stay, or more; half of the island at most.
    """
    part, members = {seed}, assembly.members(assembly.island[seed])
    while 2 * len(part) + 2 <= len(members):
        there, gains = {k: mover @ assembly.pose[k] for k in part}, {}
        for j in set(members) - part - assembly.fixed:
            rest = [i for i in members if i != j and i not in part]
            goes = assembly.against({j: mover @ assembly.pose[j]}, rest)
            if goes.area <= REFUSED:
                stays = assembly.against({j: assembly.pose[j]}, rest, there)
                along = assembly.against({j: assembly.pose[j]}, sorted(part)).evidence
                gains[j] = goes.evidence + along - (stays.evidence if stays.area <= REFUSED else -np.inf)
        best = max(gains, key=gains.__getitem__, default=seed)
        if gains.get(best, -np.inf) <= -ABOUT:
            break
        part.add(best)
    return frozenset(part)
