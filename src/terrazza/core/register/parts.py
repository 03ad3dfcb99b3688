"""The parts of an assembly that may stand elsewhere by themselves."""

from itertools import combinations
from typing import Any

from terrazza.core.register.assembly import Assembly
from terrazza.core.register.offers import COMMON, REFUSED

# shares in common: parts of an island that hang together by more than this are tried as one
BLOCKS = (0.1, 0.2, 0.4)
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
