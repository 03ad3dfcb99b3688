"""Scans that give way: where an island would join another but for a few scans that stand in its way, like a
landing that was taken for that of the next storey, these may stand elsewhere once it has come; and so may
scans of the island itself that would stand wrongly there, one bay on in a nave, be left behind.
"""

from dataclasses import dataclass
from itertools import islice

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.assembly import Assembly
from terrazza.core.register.offers import COMMON, REFUSED, Offer, same
from terrazza.core.register.parts import STRONG
from terrazza.core.register.rivals import BETTER, RIVAL

LOOKED_AT, TRIALS = 72, 24  # offers across islands that are looked at and tried, best first
MOST = 2  # scans that give way to one island


@dataclass(frozen=True)
class Trial:
    """An assembly in which scans gave way (and what hung on them went along), and by how much more evidence
    it has in all.
    """

    assembly: Assembly
    gone: frozenset[int]
    gain: float


@dataclass(frozen=True)
class Way:
    """The ``assembly`` with most evidence, by scan where else it would stand by another with about as much
    (``rivals``: poses (4, 4)), and the scans in whose place another would fit about as well (``contested``).
    """

    assembly: Assembly
    rivals: list[list[np.ndarray]]
    contested: frozenset[int]


def made_way(assembly: Assembly, ranked: list[Offer]) -> Way:
    """The assembly with most evidence of those in which scans give way to an island that offers (``ranked``,
    best first) join, and what else is about as likely.
    """
    for _ in range(len(assembly.pose)):
        trials = _trials(assembly, ranked)
        best = max(trials, key=lambda t: t.gain, default=None)
        if best is None or best.gain <= BETTER:
            break
        assembly = best.assembly
    likely = [t for t in trials if t.gain > -RIVAL * assembly.unsure]
    rivals: list[list[np.ndarray]] = [[] for _ in assembly.pose]
    for trial in likely:
        for k in trial.gone:
            rivals[k] += _seen_from_those_that_stay(assembly, trial, k)
    return Way(assembly, rivals, frozenset().union(*(t.gone for t in likely)))


def _seen_from_those_that_stay(assembly: Assembly, trial: Trial, k: int) -> list[np.ndarray]:
    """Where a scan would be by a trial, in the frame of the island in which it stands now; nothing where it
    would leave that.
    """
    stay = [j for j in assembly.beside(k) if j not in trial.gone]
    there = trial.assembly
    if not stay or there.island[k] != there.island[stay[0]]:
        return []
    pose = assembly.pose[stay[0]] @ rigid.inverse(there.pose[stay[0]]) @ there.pose[k]
    return [] if same(pose, assembly.pose[k]) else [pose]


def _trials(assembly: Assembly, ranked: list[Offer]) -> list[Trial]:
    """What comes of offers across islands if the scans of the larger one that are in the way give way."""
    out: list[Trial] = []
    tried: set[tuple[int, int, frozenset[int]]] = set()
    across = (o for o in ranked if o.evidence >= STRONG and o.verdict.area <= REFUSED)
    across = (o for o in across if assembly.island[o.a] != assembly.island[o.b])
    for o in islice(across, LOOKED_AT):
        if len(tried) == TRIALS:
            break
        stay, go = assembly.island[o.a], assembly.island[o.b]
        mover = assembly.pose[o.a] @ o.fit.pose @ rigid.inverse(assembly.pose[o.b])
        if len(assembly.members(go)) > len(assembly.members(stay)):
            stay, go, mover = go, stay, rigid.inverse(mover)
        moved = {k: mover @ assembly.pose[k] for k in assembly.members(go)}
        gone = _in_the_way(assembly, stay, moved) or _out_of_place(assembly, stay, moved)
        if not gone or gone & assembly.fixed or {o.a, o.b} & gone or (stay, go, gone) in tried:
            continue
        tried.add((stay, go, gone))
        if (trial := _tried(assembly, o, gone, stay, go, ranked)) is not None:
            out.append(trial)
    return out


def _in_the_way(assembly: Assembly, stay: int, moved: dict[int, np.ndarray]) -> frozenset[int]:
    """The scans of an island which scans at some poses (4, 4) contradict or lie upon, and what hangs on these
    alone; none where they are too many.
    """
    members = assembly.members(stay)
    cases = {j: assembly.against({j: assembly.pose[j]}, [], moved) for j in members}
    gone = {j for j, case in cases.items() if case.keeps_out}
    if not gone or len(gone) > MOST or 2 * len(gone) >= len(members):
        return frozenset()
    for j in set(members) - gone - assembly.fixed:
        rest = [i for i in members if i != j and i not in gone]
        here = {j: assembly.pose[j]}
        hangs = any(assembly.common(i, j) >= COMMON for i in gone)
        if hangs and assembly.against(here, rest).evidence < assembly.faint(here, rest):
            gone = gone | {j}
    return frozenset(gone)


def _out_of_place(assembly: Assembly, stay: int, moved: dict[int, np.ndarray]) -> frozenset[int]:
    """Of scans at some poses (4, 4) those that the members of an island contradict or that lie upon them;
    none where they are too many, or nothing would be left.
    """
    cases = {k: assembly.against({k: pose}, assembly.members(stay)) for k, pose in moved.items()}
    gone = {k for k, case in cases.items() if case.keeps_out}
    return frozenset(gone) if len(gone) <= MOST and len(gone) < len(moved) else frozenset()


def _tried(
    assembly: Assembly, offer: Offer, gone: frozenset[int], stay: int, go: int, ranked: list[Offer]
) -> Trial | None:
    """What comes of an offer if scans give way to it and are then put where others offer them a place."""
    trial = assembly.apart(gone)
    if not trial.join(offer):
        return None
    for o in ranked:
        if {o.a, o.b} & gone:
            trial.join(o)
    members = [k for k, i in enumerate(assembly.island) if i in (stay, go)]
    total = lambda a: sum(a.evidence(k) for k in members) / 2
    return Trial(trial, gone, total(trial) - total(assembly))
