"""Scans that others tell may be wrong where they stand: one would fit in their place as well, they would fit
into another island as well, or as well beside one of two that look alike as beside the other.
"""

from collections.abc import Iterator
from itertools import combinations
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.assembly import MANY, NEARBY, WELL, Assembly
from terrazza.core.register.offers import REFUSED, Offer, same
from terrazza.core.register.parts import parts_of
from terrazza.core.register.rivals import PART_ALIKE, RIVAL, behind_by

LOOKED_AT = 16  # offers of a scan or a part, best first
WELL_HELD = 16.0  # evidence from which a part is not tried in other islands of large jobs
# share of the evidence for scans with which one that has no other place claims theirs
BARE = 0.5
ABOUT = 0.3  # evidence from which a scan is beside another
LITTLE = 2.0  # evidence of a scan that is one of several like rooms
MARK = 0.05  # m in plan: two set-ups nearer to each other stand over one mark
MOST = 2  # scans in whose place one would stand


def claimed(assembly: Assembly, offers: list[Offer]) -> frozenset[int]:
    """Scans in whose place one that is elsewhere would fit about as well, and better than where that stands:
    of two like landings, the one may stand in the place of the other, which nothing else keeps from it.
    """
    out: set[int] = set()
    n = len(assembly.pose)
    looked = [0] * n
    well = {k for k in range(n) if k in assembly.fixed or assembly.evidence(k) > WELL}
    for o in sorted(offers, key=lambda o: -o.evidence):
        for j, outside in ((o.a, o.b), (o.b, o.a)):
            own = assembly.island[j] == assembly.island[outside]
            if looked[j] == LOOKED_AT or j in assembly.fixed or j in well and (own or n > MANY):
                continue
            pose = assembly.pose[outside] @ o.seen_from(outside)
            if not own or not same(pose, assembly.pose[j], NEARBY):
                looked[j] += 1
                out |= _claimed_by(assembly, j, pose, outside)
    return frozenset(out)


def _claimed_by(assembly: Assembly, j: int, pose: np.ndarray, outside: int) -> set[int]:
    """The scans in whose place another would stand at a pose (4, 4) in the island of the one ``outside``."""
    members = [k for k in assembly.members(assembly.island[outside]) if k != j]
    there, gone = {j: pose}, set[int]()
    for k in members:
        case = assembly.against(there, [k])
        gone |= {k} if case.keeps_out else set()
        if len(gone) > MOST:
            return set()
    rest = [i for i in members if i not in gone]
    if not gone or not rest or outside in gone or gone & assembly.fixed:
        return set()
    claim, now = assembly.against(there, rest), assembly.against({k: assembly.pose[k] for k in gone}, rest)
    own, behind = assembly.evidence(j), RIVAL * assembly.unsure
    if own <= 0:  # it has no other place
        behind = max(behind, BARE * now.evidence)
    least = max(own, assembly.faint(there, rest), now.evidence - behind)
    return gone if claim.area <= REFUSED and claim.evidence > least else set()


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
    if now.evidence > WELL_HELD and len(assembly.pose) > MANY:
        return False
    for mover, there in _movers_across(assembly, part, ranked):
        moved = {k: mover @ assembly.pose[k] for k in part}
        case = assembly.against(moved, there)
        if case.area > REFUSED:
            continue
        behind = behind_by(assembly, now, case, assembly.held(moved, there), PART_ALIKE)
        if case.evidence > max(now.evidence - behind, assembly.faint(moved, there)):
            back = rigid.inverse(mover)
            if assembly.against({j: back @ assembly.pose[j] for j in there}, rest).keeps_out:
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


def beside_like_ones(assembly: Assembly, rivals: list[list[np.ndarray]]) -> frozenset[int]:
    """Scans beside two that stand in one place and saw the same, but not over one mark: if these are two like
    rooms of two storeys, little tells to which of them the others belong. Those with ``rivals`` (poses
    (4, 4)) are rooms of which is known where else they may be.
    """
    out: set[int] = set()
    well = {k for k in range(len(rivals)) if assembly.evidence(k) > WELL * assembly.unsure}
    for a, b in combinations([k for k, some in enumerate(rivals) if not some], 2):
        if assembly.island[a] != assembly.island[b] or not assembly.like_twins(a, b):
            continue
        if np.linalg.norm(assembly.pose[a][:2, 3] - assembly.pose[b][:2, 3]) > MARK:
            beside = set(assembly.beside(a)) - {b} - assembly.fixed - well
            says = lambda k, j: assembly.against({k: assembly.pose[k]}, [j]).evidence
            out |= {k for k in beside if min(says(k, a), says(k, b)) > ABOUT}
    return frozenset(out)


def little_held(assembly: Assembly, suspect: frozenset[int]) -> frozenset[int]:
    """Scans for which little speaks in islands with others that may be somewhere else (``suspect``): rooms
    repeat themselves there, and its own like may be one that nobody scanned.
    """
    islands = {assembly.island[k] for k in suspect}
    loose = (k for k, i in enumerate(assembly.island) if i in islands and k not in assembly.fixed)
    return frozenset(k for k in loose if assembly.evidence(k) < LITTLE * assembly.unsure)
