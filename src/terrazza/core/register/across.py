"""Scans of which another island tells that they may be wrong where they stand: one of its scans would fit in
their place as well, or they would fit there as well.
"""

from collections.abc import Iterator
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.assembly import Assembly
from terrazza.core.register.offers import REFUSED, Offer
from terrazza.core.register.parts import parts_of
from terrazza.core.register.rivals import RIVAL

LOOKED_AT = 16  # offers across islands of a scan or a part, best first


def claimed(assembly: Assembly, offers: list[Offer]) -> frozenset[int]:
    """Scans in whose place one of another island would fit about as well, and as well as where that stands:
    of two like landings, the one may stand in the place of the other, which nothing else keeps from it.
    """
    out: set[int] = set()
    looked = [0] * len(assembly.pose)
    for o in sorted(offers, key=lambda o: -o.evidence):
        if assembly.island[o.a] == assembly.island[o.b]:
            continue
        for j, outside in ((o.a, o.b), (o.b, o.a)):
            looked[j] += 1
            if looked[j] <= LOOKED_AT and j not in assembly.fixed:
                out |= _claimed_by(assembly, j, assembly.pose[outside] @ o.seen_from(outside), outside)
    return frozenset(out - assembly.fixed)


def _claimed_by(assembly: Assembly, j: int, pose: np.ndarray, outside: int) -> set[int]:
    """The scan in whose place another would stand at a pose (4, 4) in the island of the one ``outside``."""
    members, there = assembly.members(assembly.island[outside]), {j: pose}
    cases = {k: assembly.against(there, [k]) for k in members}
    gone = [k for k, case in cases.items() if case.area > REFUSED or case.stacked]
    if len(members) < 3 or len(gone) != 1 or outside in gone:
        return set()
    rest = [i for i in members if i != gone[0]]
    claim, now = assembly.against(there, rest), assembly.against({gone[0]: assembly.pose[gone[0]]}, rest)
    least = max(assembly.evidence(j), assembly.faint(there, rest), now.evidence - RIVAL * assembly.unsure)
    return set(gone) if claim.evidence > least else set()


def torn(assembly: Assembly, offers: list[Offer]) -> frozenset[int]:
    """Scans that would fit about as well in another island, alone or with a part of theirs, where the two
    islands, put together so, contradict each other: a room of one storey, seen through a door, hangs on the
    like room under it as well as on its own neighbour.
    """
    out: set[int] = set()
    ranked = sorted(offers, key=lambda o: -o.evidence)
    for part in parts_of(assembly):
        if not part <= out and _fits_elsewhere(assembly, part, ranked):
            out |= part
    return frozenset(out)


def _fits_elsewhere(assembly: Assembly, part: frozenset[Any], ranked: list[Offer]) -> bool:
    island = assembly.members(assembly.island[min(part)])
    rest = [j for j in island if j not in part]
    now = assembly.against({k: assembly.pose[k] for k in part}, rest)
    for mover, there in _movers_across(assembly, part, ranked):
        moved = {k: mover @ assembly.pose[k] for k in part}
        case = assembly.against(moved, there)
        least = max(now.evidence - RIVAL * assembly.unsure, assembly.faint(moved, there))
        if case.area <= REFUSED and case.evidence > least:
            back = rigid.inverse(mover)
            both = assembly.against({j: back @ assembly.pose[j] for j in there}, rest)
            if both.area > REFUSED or both.stacked:
                return True
    return False


def _movers_across(
    assembly: Assembly, part: frozenset[Any], ranked: list[Offer]
) -> Iterator[tuple[np.ndarray, list[int]]]:
    """By the best offers of a part's scans to those of other islands: the motion (4, 4) that puts the part
    there, and the members of that island.
    """
    left, own = LOOKED_AT, assembly.island[min(part)]
    for o in ranked:
        for k, outside in ((o.a, o.b), (o.b, o.a)):
            if left and k in part and assembly.island[outside] != own:
                left -= 1
                pose = assembly.pose[outside] @ o.seen_from(outside)
                yield pose @ rigid.inverse(assembly.pose[k]), assembly.members(assembly.island[outside])
