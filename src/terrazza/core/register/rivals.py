"""The parts of an assembly that might as well stand elsewhere."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import cache, partial
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.core.register.assembly import ALTERNATIVES, HELD_WORTH, NEARBY, TWICE, WELL, Assembly, Case
from terrazza.core.register.offers import REFUSED, SAME, STACKED, Offer, same, stacked
from terrazza.core.register.parts import parts_of, parts_together

STACKED_RIVAL = 1.8  # evidence from which another place is told of a scan that stands where another does
RIVAL = 1.5  # a rival's evidence is at most this much less than the placement's
# the same where the others saw as much of it: what a thing of 0.15 m² that was carried away contradicts; it
# was 2.7 at the truth of a scan in a ring of ten like bays, and 3.2 and more at 14 rivals that are wrong
CARRIED_AWAY = 3.0
# a patch or two of those that contradict, as many as there are, are there by chance: variance of a cost
BY_CHANCE = 1.5
# cost up to which nothing contradicts a rival, and part of what contradicts the placement up to which nearly
# nothing does: held there, it is one with this part of the placement's evidence, because how much agrees then
# tells only how many others saw the place (like rooms of two storeys, like walks about a yard)
CLEAN, CLEANER, PART = 0.5, 0.5, 0.3
PART_ALIKE = 0.15  # the same for a scan of which there is one that saw the same: rooms are repeated here
BETTER = 0.3  # a rival with this much more evidence takes the placement's place
FILED = 3.0  # and with this much more besides, where the placement is what files say
ALIKE = 0.3  # m² of contradicting surface below which two scans that can be stacked may stand for one another


@dataclass(frozen=True)
class _Elsewhere:
    """Scans at other poses (``there``), by how much more evidence (``gain``) than as they stand; by how much
    it would be ``better`` to put them there; and where others would have to go (``displaced``). Poses (4, 4).
    """

    there: dict[int, np.ndarray]
    gain: float
    better: float
    displaced: dict[int, np.ndarray] = field(default_factory=dict)

    @property
    def scans(self) -> set[int]:
        """All that would have to go."""
        return {*self.there, *self.displaced}


@dataclass(frozen=True)
class _Known:
    """What is known of scans while rivals are looked for: by scan those that are ``alike``, for which ones
    little speaks, and which stand as their files say.
    """

    alike: list[set[int]]
    faint: set[int]
    filed: set[int]


def moved_to_better(
    assembly: Assembly,
    offers: list[Offer],
    progress: Progress,
    filed: Callable[[], set[int]] = set,
) -> list["_Elsewhere"]:
    """Put the parts of an assembly that would stand clearly better elsewhere there, one after another, and
    give all places where parts of it would stand about as well then (for ``rivals_among``). ``filed`` gives
    the scans that stand as their files say.
    """
    been = {_stand(assembly, {})}
    while True:
        found = _found(assembly, offers, progress, filed())
        worth = [f for f in found if f.better > BETTER and _stand(assembly, f.there) not in been]
        if not worth or len(been) > 2 * len(assembly.pose):
            return found
        for k, pose in max(worth, key=lambda f: f.better).there.items():
            assembly.pose[k] = pose
        been.add(_stand(assembly, {}))


def rivals_among(
    assembly: Assembly,
    offers: list[Offer],
    progress: Progress,
    filed: set[int],
    found: list[_Elsewhere] | None = None,
) -> list[list[np.ndarray]]:
    """For every scan other poses that explain about as much, alone or together with a part of its island,
    best first; ``filed``: scans that stand as their files say, ``found``: what is known for all parts. The
    smallest parts that may stand elsewhere come first, and the rest is judged without them: a corridor of
    like doors is no more in doubt than itself, though it fits the rooms behind them one door on as well.
    Poses (4, 4).
    """
    n, among, open_ = len(assembly.pose), assembly, set[int]()
    told: list[_Elsewhere] = []
    found = _found(among, offers, progress, filed) if found is None else found
    while found:
        least = min(len(f.scans) for f in found)
        now = [f for f in found if len(f.scans) == least]
        new = set[int]().union(*(f.scans for f in now)) - open_ - filed
        told, open_, among = told + now, open_ | new, among.apart(new)
        more = [f for f in found if len(f.scans) > least]
        found = _found(among, offers, progress, filed) if new else more
    return _by_scan(told, n)


def _found(assembly: Assembly, offers: list[Offer], progress: Progress, filed: set[int]) -> list[_Elsewhere]:
    """All places where a part of an island would stand about as well; ``filed``: scans that stand as their
    files say.
    """
    n = len(assembly.pose)
    parts = parts_of(assembly)
    known = _Known(_alike(offers, n), {k for k in range(n) if assembly.is_faint(k)}, filed)
    found = list(_exchanges(assembly, offers))
    for done, part in enumerate(parts):
        progress.advance(done, len(parts), "Rivals")
        found += _elsewhere(assembly, part, offers, known)
    all_hold = replace(known, alike=[set()] * n)  # where much looks the same, each tells a little
    for mover, part in parts_together(assembly, offers):
        found += _elsewhere(assembly, part, offers, all_hold, [mover])
    return found


def _by_scan(found: list[_Elsewhere], n: int) -> list[list[np.ndarray]]:
    by: list[list[tuple[float, np.ndarray]]] = [[] for _ in range(n)]
    for one in found:
        for k, pose in (one.there | one.displaced).items():
            by[k].append((one.gain, pose))
    return [_distinct(b) for b in by]


def _stand(assembly: Assembly, there: dict[int, np.ndarray]) -> bytes:
    """How all scans stand, some of them at other poses (4, 4), to a decimetre: what was so before is not
    tried again.
    """
    poses = np.array([there.get(k, pose)[:3] for k, pose in enumerate(assembly.pose)])
    return (poses.round(1) + 0.0).tobytes()  # no negative zeros


def behind_by(assembly: Assembly, now: Case, there: Case, firm: bool, share: float) -> float:
    """By how much less evidence than ``now`` scans may have elsewhere and be rivals: where they are held
    (``firm``) and nothing contradicts, all but a ``share`` of it.
    """
    cost = now.cost + min(there.cost, 2 * now.cost)  # where nothing contradicts here, nothing does by chance
    least = max(RIVAL * assembly.unsure, float(np.sqrt(BY_CHANCE * cost)))
    return max(least, (1 - share) * now.evidence) if firm and clean(now, there) else least


def clean(now: Case, there: Case) -> bool:
    """Whether nothing contradicts scans elsewhere, or clearly less than where they stand."""
    return there.cost < max(CLEAN, CLEANER * now.cost)


def _elsewhere(
    assembly: Assembly,
    part: frozenset[Any],
    offers: list[Offer],
    known: _Known,
    movers: list[np.ndarray] | None = None,
) -> Iterator[_Elsewhere]:
    """Where else a part of an island would stand about as well among the rest of it: by ``movers`` (4, 4), or
    by what offers say.
    """
    others, rest = _holding(assembly, part, known)
    here = {k: assembly.pose[k] for k in part}
    share = PART_ALIKE if any(known.alike[k] for k in part) else PART
    now, held = assembly.against(here, rest), cache(partial(assembly.held, here, rest))
    for mover in movers or _movers(assembly, part, rest, offers):
        there = {k: mover @ pose for k, pose in here.items()}
        case, left = assembly.against(there, rest), rest
        if case.area > REFUSED:  # perhaps by one of which as little is sure: both may stand for each other
            left = _without_holders(assembly, there, rest)
            case = assembly.against(there, left) if len(left) < len(rest) else case
        if case.area > REFUSED:
            continue
        gain, behind = case.evidence - now.evidence, behind_by(assembly, now, case, False, share)
        if abs(gain) < behind + HELD_WORTH or clean(now, case):
            firm = assembly.held(there, left)
            gain += HELD_WORTH * (int(firm) - int(held()))
            behind = behind_by(assembly, now, case, firm, share)
        gone = sorted(set(rest) - set(left))
        gain -= sum(_lost(assembly, j, there, left, offers) for j in gone)
        told = now.stacked and case.evidence > STACKED_RIVAL
        if gain < -behind and not told:
            by_rest = case.stacked and _told_by_the_rest(assembly, here, there, left, behind)
            if not by_rest and (gone or not _seen_as_well(assembly, rest, (here, now), (there, case))):
                continue
        better = gain - TWICE * (case.stacked - now.stacked)
        elsewhere = _making_room(assembly, there, others, rest, offers) if better > BETTER else {}
        if gone or elsewhere is None:
            better, elsewhere = -np.inf, {}
        if known.filed & {*there, *elsewhere}:
            better -= FILED * assembly.unsure
        gone += [j for j in others if j not in rest and _stands(assembly, j, there, here)]
        back = rigid.inverse(mover)
        displaced = {j: back @ assembly.pose[j] for j in gone}
        yield _Elsewhere(there | elsewhere, gain, better, displaced)


def _seen_as_well(
    assembly: Assembly,
    rest: list[int],
    here: tuple[dict[int, np.ndarray], Case],
    there: tuple[dict[int, np.ndarray], Case],
) -> bool:
    """Whether scans (poses (4, 4), and the case) are held elsewhere, and the rest saw about as much of them,
    however many saw the same: where a yard looks like itself turned, those that stand wrongly in one of its
    corners together have more in common than those that stand in all four.
    """
    (poses, now), (moved, case) = here, there
    if case.evidence < PART * now.evidence or not assembly.held(moved, rest):
        return False
    gain = assembly.covered(moved, rest) - case.cost - assembly.covered(poses, rest) + now.cost
    return gain > -CARRIED_AWAY * assembly.unsure


def _told_by_the_rest(
    assembly: Assembly,
    here: dict[int, np.ndarray],
    there: dict[int, np.ndarray],
    rest: list[int],
    behind: float,
) -> bool:
    """Whether those of the ``rest`` that scans stand upon neither ``here`` nor ``there`` (poses (4, 4)) say
    enough for there, and not by ``behind`` less than for here: two set-ups stand in one place now and then,
    and nothing is to be learnt from the other then.
    """
    clear = [j for j in rest if not any(assembly.against(p, [j]).stacked for p in (here, there))]
    return assembly.against(there, clear).evidence > max(
        STACKED_RIVAL, assembly.against(here, clear).evidence - behind
    )


def _lost(
    assembly: Assembly, j: int, there: dict[int, np.ndarray], left: list[int], offers: list[Offer]
) -> float:
    """How much evidence goes with a scan that has to give way to others (``there``, poses (4, 4)), less what
    it has elsewhere among those ``left``, if anything.
    """
    now = assembly.against({j: assembly.pose[j]}, left).evidence
    found, _ = _best_elsewhere(assembly, j, there, left, offers)
    return max(now, 0.0) - max(found, 0.0)


def _best_elsewhere(
    assembly: Assembly, j: int, there: dict[int, np.ndarray], left: list[int], offers: list[Offer]
) -> tuple[float, np.ndarray | None]:
    """The most evidence that a scan has at a place among those ``left``, and others where they would stand
    (``there``), and that place; none where something contradicts each. Poses (4, 4).
    """
    most, best = -np.inf, None
    for _, pose in assembly.offered(j, left, offers):
        case = assembly.against({j: pose}, left, there)
        if case.area <= REFUSED and case.evidence > most:
            most, best = case.evidence, pose
    return most, best


def _making_room(
    assembly: Assembly, there: dict[int, np.ndarray], others: list[int], rest: list[int], offers: list[Offer]
) -> dict[int, np.ndarray] | None:
    """Where those ``others`` that do not hold a part (are not of the ``rest``) and contradict it where it
    would be (``there``) can stand instead; None where one cannot. Poses (4, 4).
    """
    out: dict[int, np.ndarray] = {}
    for j in sorted(set(others) - set(rest)):
        if assembly.against({j: assembly.pose[j]}, [], there).area > REFUSED:
            left = [i for i in others if i != j and i not in out]
            most, best = _best_elsewhere(assembly, j, there | out, left, offers)
            if best is None or most < 0 or j in assembly.fixed:
                return None
            out[j] = best
    return out


def _exchanges(assembly: Assembly, offers: list[Offer]) -> Iterator[_Elsewhere]:
    """Pairs of one island that saw much the same, like rooms of two storeys, each in the other's place, where
    not much less speaks for it than for how they stand.
    """
    tried = set()
    for o in offers:
        a, b = o.a, o.b
        together = assembly.island[a] == assembly.island[b] and not {a, b} & assembly.fixed
        if not together or not stacked(o.verdict, o.apart):
            continue
        there = {a: assembly.pose[b] @ o.seen_from(b), b: assembly.pose[a] @ o.seen_from(a)}
        key = (a, b, *there[a][:3, 3].round(0), *there[b][:3, 3].round(0))
        if key in tried or same(there[a], assembly.pose[a], NEARBY):
            continue
        tried.add(key)
        rest = [j for j in assembly.beside(a) if j != b]
        now = assembly.against({k: assembly.pose[k] for k in there}, rest)
        case = assembly.against(there, rest)
        firm = clean(now, case) and assembly.held(there, rest)
        gain = case.evidence - now.evidence
        if case.area <= REFUSED and gain > -behind_by(assembly, now, case, firm, PART_ALIKE):
            yield _Elsewhere(there, gain, gain)


def _holding(assembly: Assembly, part: frozenset[Any], known: _Known) -> tuple[list[int], list[int]]:
    """The others of an island, and those of them that hold a part where it stands: what may stand for it may
    have to give way to it, and what little speaks for holds nothing.
    """
    others = [j for j in assembly.members(assembly.island[min(part)]) if j not in part]
    rest = [j for j in others if not any(j in known.alike[k] for k in part)] or others
    return others, [j for j in rest if j not in known.faint] or rest


def _stands(assembly: Assembly, j: int, there: dict[int, np.ndarray], here: dict[int, np.ndarray]) -> bool:
    """Whether a scan stands where others would (``there``), and not beside them as they stand (``here``): it
    has to go elsewhere then. Poses (4, 4).
    """
    near = lambda poses: any(
        np.linalg.norm(assembly.pose[j][:3, 3] - p[:3, 3]) < STACKED[0] for p in poses.values()
    )
    return j not in assembly.fixed and near(there) and not near(here)


def _without_holders(assembly: Assembly, there: dict[int, np.ndarray], rest: list[int]) -> list[int]:
    """The ``rest`` without scans for which little speaks and that stand where others would. Poses (4, 4)."""
    return [j for j in rest if not _stands(assembly, j, there, {}) or assembly.evidence(j) > WELL]


def _alike(offers: list[Offer], n: int) -> list[set[int]]:
    """For each scan those that could stand in its place: they saw the same, as like rooms do."""
    out: list[set[int]] = [set() for _ in range(n)]
    for o in offers:
        if o.verdict.area < ALIKE and stacked(o.verdict, o.apart):
            out[o.a].add(o.b)
            out[o.b].add(o.a)
    return out


def _distinct(found: list[tuple[float, np.ndarray]]) -> list[np.ndarray]:
    return rigid.distinct((pose for _, pose in sorted(found, key=lambda f: -f[0])), SAME, ALTERNATIVES)


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
        if not any(same(pose, s, NEARBY if k == 0 else SAME) for k, s in enumerate(seen)):
            seen.append(pose)
            yield mover
