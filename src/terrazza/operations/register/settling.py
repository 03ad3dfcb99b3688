"""From rough poses to settled ones: ties, adjustment island by island, and the final poses judged again."""

from dataclasses import replace

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part
from terrazza.errors import InputError
from terrazza.later import later
from terrazza.operations.pieces.surfaces import ALTOGETHER, MOST, kept_points
from terrazza.operations.register.judging import (
    doubled,
    hung_together,
    judged_again,
    left_behind,
    shown_twice,
)
from terrazza.operations.register.looseness import joined, loose_of, loosely_held, sightings, sliding
from terrazza.operations.register.recording import record_of
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.register import graph, linking, network, witnesses

FARTHEST_STEP = 0.15  # m that an adjustment may move a scan from where fits of pairs put it
FARTHEST_TURN = np.radians(1.0)
LOOSE_STEPS = 2.0  # of those, from a rough place that was free to slide
# share of those steps, and spread of the common surfaces as a multiple of their noise (1 at the truth of ten
# simulated places, 1.3 to 3.2 where scans stood 12 to 150 mm off), beyond which both together are no chance
CARRIED, ROUGH = 0.1, 1.4
TRIED = 20  # scans of an island, at most about twice, by which is told which of them moved
OFF = "switched off by hand"
# m and rad that a tie ends aside of where all ties put its scans, to be fitted again from there; how often at
# most, and in islands of how many scans
ASIDE, REFITS, MOST_REFITTED = (0.005, np.radians(0.05)), 6, 100
UNCHANGED = (1e-5, 1e-6)  # m and rad by which a tie that was fitted again and came to the same may differ


def as_chosen(job: Job, scans: list[Scan], ties: list) -> list:
    """Ties with what was decided by hand: switched off, or counting more or less."""
    said = decided(job, scans)
    chosen = [said.get((min(t.a, t.b), max(t.a, t.b)), {"on": True, "weight": 1.0}) for t in ties]
    return [replace(t, weight=c["weight"], failed=t.failed if c["on"] else OFF) for t, c in zip(ties, chosen)]


def decided(job: Job, scans: list[Scan]) -> dict[tuple[int, int], dict]:
    """What was decided by hand of ties between these scans, by pairs of their indices, the lower first."""
    place = {s.id: k for k, s in enumerate(scans)}
    pairs = [
        (place[c["a"]], place[c["b"]], c)
        for c in job.facts("tie_choice").values()
        if {c["a"], c["b"]} <= set(place)
    ]
    return {(min(a, b), max(a, b)): c for a, b, c in pairs}


def asked(job: Job, scans: list[Scan]) -> frozenset[tuple[int, int]]:
    """Pairs (of indices, the lower first) whose ties were asked for by hand and are not switched off."""
    return frozenset(pair for pair, c in decided(job, scans).items() if c["on"] and c.get("asked"))


def settle(
    job, scans, faces, seen, poses, fixed, least_overlap, bias_sigma, progress, how, started
) -> Figures:
    """Ties of all overlapping pairs, network adjustment island by island, and the facts and figures of both.

    ``poses`` (scan → job or None) are near enough for a narrow fit; ``started`` are the indices that had a
    pose before.  By the scans' pictures ``seen`` the final poses are judged again; ``unsettled`` in the
    figures says by scan what is wrong with them.
    """
    ties, clouds, results, loose = _adjusted(
        job, scans, faces, seen, poses, fixed, least_overlap, bias_sigma, progress, started
    )
    unsettled = _unsettled(scans, poses, results, loose, fixed)
    rest, bias = _at_rest(poses, results)
    unsettled = left_behind(scans, ties, rest, fixed) | unsettled
    ties = linking.at_rest(ties, faces, rest)
    figures = record_of(job, scans, poses, ties, results, loose, how)
    figures |= hung_together(job, scans, ties, results)
    doubles = doubled(
        job, [(s, c, p, b) for s, c, p, b in zip(scans, clouds, rest, bias) if p is not None], progress
    )
    slide = sliding(job, scans, results, ties, rest, fixed)
    unsettled = slide | shown_twice(doubles) | judged_again(job, scans, seen) | unsettled
    tied = {(t.a, t.b) for t in ties}
    return figures | {
        "untied": [
            f"Scans {scans[a].id} and {scans[b].id} share too little where they stand for the tie that was "
            "asked for."
            for a, b in sorted(asked(job, scans))
            if (a, b) not in tied
        ],
        "unsettled": unsettled,
        "loose": loosely_held(scans, results, fixed),
        "double_walls": doubles,
    }


def settle_aside(
    job, scans, faces, seen, poses, least_overlap, bias_sigma, progress
) -> tuple[list[np.ndarray | None], dict[int, str], dict[int, float]]:
    """The same within an island that is not joined to the job: settled poses, what is wrong with them and how
    loose they are (see ``settle``); no fact is put.
    """
    ties, _, results, loose = _adjusted(
        job, scans, faces, seen, poses, set(), least_overlap, bias_sigma, progress, set()
    )
    rest = _at_rest(poses, results)[0]
    unsettled = left_behind(scans, ties, rest, set()) | sliding(job, scans, results, ties, rest, set())
    return (
        rest,
        unsettled | _unsettled(scans, poses, results, loose, set()),
        loosely_held(scans, results, set()),
    )


def _adjusted(job, scans, faces, seen, poses, fixed, least_overlap, bias_sigma, progress, started):
    """Ties of all overlapping pairs, the scans' points (None where not placed), (members, Adjusted, fixed
    members) by island, and the indices of what was taken out.
    """
    found = linking.fit_all(faces, seen, poses, least_overlap, Part(progress, 0.0, 0.4), asked(job, scans))
    ties = _where_all_agree(as_chosen(job, scans, found), faces, seen, poses, fixed)
    targets = witnesses.grouped(sightings(job, scans), poses)
    apart = {(t.a, t.b) for t in ties if t.failed == OFF}
    most = min(MOST, ALTOGETHER // max(sum(p is not None for p in poses), 1))
    clouds = [kept_points(job.cloud(s.id), most) if p is not None else None for s, p in zip(scans, poses)]
    results, loose = [], []
    for island in _islands([k for k, p in enumerate(poses) if p is not None], ties, witnesses.links(targets)):
        results.append(
            _adjust_island(
                island,
                ties,
                targets,
                apart,
                clouds,
                poses,
                fixed,
                started,
                bias_sigma,
                loose,
                Part(progress, 0.4, 1.0),
            )
        )
    return ties, clouds, results, loose


def _where_all_agree(ties, faces, seen, poses, fixed):
    """The ties, those fitted again that ended aside of where all others put their scans: what two share by a
    door fits about as well turned by half a degree, and which of the two it is depends on where it began.
    """
    ties = list(ties)
    for _ in range(REFITS):
        agreed = list(poses)
        for members in _islands([k for k, p in enumerate(poses) if p is not None], ties, []):
            if 2 < len(members) <= MOST_REFITTED:
                held = {members.index(k) for k in members if k in fixed} or {0}
                within = linking.among(ties, members)
                relaxed = graph.relax([poses[k] for k in members], within, held, level=True)
                for k, pose in zip(members, relaxed.poses):
                    agreed[k] = pose
        between = {
            n: rigid.inverse(agreed[t.a]) @ agreed[t.b]
            for n, t in enumerate(ties)
            if not t.failed and len(t.fit.free) < 2
        }
        aside = {n: p for n, p in between.items() if not rigid.within(ties[n].fit.pose, p, ASIDE)}
        before = list(ties)
        for n, start in aside.items():
            again = linking.fit_near(faces, seen, ties[n].a, ties[n].b, start)
            if again is not None and not again.failed:
                ties[n] = replace(again, weight=ties[n].weight)
        if all(rigid.within(t.fit.pose, b.fit.pose, UNCHANGED) for t, b in zip(ties, before)):
            break
    return ties


def _at_rest(poses, results) -> tuple[list[np.ndarray | None], list[float]]:
    """Where scans stand after the adjustment, and the range bias (m) of each."""
    rest, bias = list(poses), [0.0] * len(poses)
    for members, adjusted, _ in results:
        for i, k in enumerate(members if adjusted else []):
            rest[k], bias[k] = adjusted.poses[i], float(adjusted.bias[i])
    return rest, bias


def _unsettled(scans, poses, results, loose, fixed) -> dict[int, str]:
    """By scan why the adjustment says nothing of its place: it did not settle, its patches do not hold it, or
    no tie leads to it.
    """
    wrong = _bounded(scans, poses, results, fixed)
    wrong |= {
        scans[
            k
        ].id: "What it has in common with the others does not hold it in the adjustment; it stands as the "
        "fits of pairs say."
        for k in loose
    }
    if sum(p is not None for p in poses) > 1:
        groups = sorted((members for members, *_ in results), key=lambda m: (not set(m) & fixed, -len(m)))
        wrong |= {
            scans[k].id: "No tie leads to it in the adjustment; it stands as the pictures of the others say."
            for members in groups[1:]
            for k in members
            if k not in fixed
        }
    return wrong


def _step(after: np.ndarray, before: np.ndarray) -> float:
    """How far an adjustment moved a scan, as a multiple of what it may."""
    moved, turned = rigid.difference(after, before)
    return max(moved / FARTHEST_STEP, turned / FARTHEST_TURN) if np.isfinite(moved) else np.inf


def _steps(after: list[np.ndarray], before: list[np.ndarray], stay: set[int], fixed: set[int]) -> list[float]:
    """How far an adjustment moved the scans of an island (see ``_step``) against those that are ``fixed``;
    where none is, against the one that leaves most where they were: that which ``stay``, to which all others
    are told, may be the one that went.
    """
    steps = [_step(a, b) for a, b in zip(after, before)]
    if stay & fixed or max(steps) <= 1:
        return steps
    tried = [steps]
    for g in range(0, len(after), max(1, len(after) // TRIED)):
        back = before[g] @ rigid.inverse(after[g])
        if np.isfinite(back).all():
            tried.append([_step(back @ a, b) for a, b in zip(after, before)])
    return min(tried, key=lambda some: sum(s > 1 for s in some))


def _bounded(scans, poses, results, fixed: set[int]) -> dict[int, str]:
    """By scan that an adjustment moves farther than ties and fits allow; one that gives no numbers leaves its
    island as the fits of pairs say.
    """
    wrong: dict[int, str] = {}
    for n, (members, adjusted, stay) in enumerate(results):
        if adjusted is None:
            continue
        if not np.isfinite(adjusted.joint).all():
            results[n] = (members, None, set(members))
            wrong |= {
                scans[
                    k
                ].id: "The adjustment of its island did not settle; it stands as the fits of pairs say."
                for k in members
                if k not in stay
            }
            continue
        steps = _steps(adjusted.poses, [poses[k] for k in members], stay, fixed)
        spread = float(np.sqrt(adjusted.variance_factor))
        wrong |= {
            scans[k].id: f"The surfaces that it shares lie {spread:.1f} times as far apart as their noise "
            "explains, and still moved it in the adjustment."
            for k, step in zip(members, steps)
            if step > CARRIED and spread > ROUGH and k not in stay
        }
        wrong |= {
            scans[k].id: f"The adjustment moved it by more than {LOOSE_STEPS * FARTHEST_STEP:.1f} m or "
            f"{np.degrees(LOOSE_STEPS * FARTHEST_TURN):.0f}° from where the fits of pairs had put it."
            for k, step in zip(members, steps)
            if step > LOOSE_STEPS
        }
    return wrong


def _islands(members: list[int], ties, links) -> list[list[int]]:
    return joined(members, [(t.a, t.b) for t in ties if not t.failed] + links)


def _adjust_island(island, ties, targets, apart, clouds, poses, fixed, started, bias_sigma, loose, progress):
    """(members, Adjusted, fixed members): from where all ties and shared targets agree best, which also hold
    what the patches do not; a scan that the others' patches carry away is taken out and named in ``loose``.
    """
    members = list(island)
    while True:
        stay = {k for k in members if k in fixed} or {min(members, key=lambda k: (k not in started, k))}
        if len(stay) == len(members):
            return members, None, stay
        held = {members.index(k) for k in stay}
        place = {k: i for i, k in enumerate(members)}
        shared = [[replace(s, scan=place[s.scan]) for s in g if s.scan in place] for g in targets]
        rough = graph.relax(
            [poses[k] for k in members],
            linking.among(ties, members),
            held,
            [g for g in shared if len(g) > 1],
            level=True,
        )
        try:
            adjusted = network.solve(
                [clouds[k] for k in members],
                rough.poses,
                held,
                bias_sigma,
                known=rough.known,
                progress=progress,
                apart={(place[a], place[b]) for a, b in apart if {a, b} <= set(place)},
            )
        except (InputError, np.linalg.LinAlgError):
            adjusted = network.by_ties(rough.poses, rough.known, held)
        steps = _steps(adjusted.poses, rough.poses, stay, fixed)
        if len(members) > 2 and max(steps) > 1 and np.isfinite(adjusted.joint).all():
            loose.append(members.pop(int(np.argmax(steps))))  # it would carry away the others, too
            continue
        return members, *_from_a_sure_one(members, adjusted, stay, fixed)


def _from_a_sure_one(members, adjusted, stay: set[int], fixed: set[int]):
    """The adjustment told from another scan where most are loose as it is told, and that scan: if hardly
    anything holds the one that it was told from, all others seem as loose.
    """
    loose = len(loose_of(adjusted, [])) if not stay & fixed else 0
    if 2 * loose <= len(members) or not np.isfinite(adjusted.joint).all():
        return adjusted, stay
    for g in range(0, len(members), max(1, len(members) // TRIED)):
        told = network.told_from(adjusted, g)
        if (fewer := len(loose_of(told, []))) < loose:
            adjusted, stay, loose = told, {members[g]}, fewer
    return adjusted, stay
