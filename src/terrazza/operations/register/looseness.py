"""What holds the scans of an adjustment against each other: how loose each stands, and what only slides."""

import numpy as np

from terrazza.later import later
from terrazza.operations.register.judging import LOOSE_DEG, LOOSE_MM
from terrazza.operations.register.recording import slides, way_words, weakest
from terrazza.operations.spine.job import Job, Scan

with later():
    from scipy.sparse import csgraph as components

    from terrazza.core.register import network, witnesses

# directions nearer to each other are one to slide along; and the same
ONE_WAY, ALIKE = np.cos(np.radians([25.0, 8.0]))


def sightings(job: Job, scans: list[Scan]) -> "list[witnesses.Sighting]":
    """The targets that were found in these scans and not dropped."""
    place = {s.id: k for k, s in enumerate(scans)}
    return [
        witnesses.Sighting(place[t["scan"]], np.array(t["centre"]), t["sigma"], t.get("kind", ""))
        for t in job.facts("target").values()
        if t["scan"] in place and not t["dropped"]
    ]


def loosely_held(scans: list[Scan], results, fixed: set[int]) -> dict[int, str]:
    """By scan how loosely its place or turn is held against those that hold each other, in words, where it is
    not one of them.

    Scans hang together where they are sure against each other to ``LOOSE_MM`` and ``LOOSE_DEG``; those that
    hold each other are the part with the scans that stay, or else the largest.
    """
    out: dict[int, str] = {}
    for members, adjusted, _ in results:
        if adjusted is not None:
            stay = [i for i, k in enumerate(members) if k in fixed]
            out |= {scans[members[i]].id: _held(*sigma) for i, sigma in loose_of(adjusted, stay).items()}
    return out


def _held(mm: float, degrees: float) -> str:
    """That a scan is held so loosely, in words."""
    weak = [f"to {mm:.0f} mm"] * (mm > LOOSE_MM) + [f"in its turn to {degrees:.2f}°"] * (degrees > LOOSE_DEG)
    return f"It is held {' and '.join(weak)} only in its weakest direction against the others."


def loose_of(adjusted: "network.Adjusted", stay: list[int]) -> dict[int, tuple[float, float]]:
    """By index of the scans of one island that are held loosely (see ``loosely_held``): standard deviations
    (mm and degrees) in the weakest direction, of place and of turn.
    """
    mm, degrees = _weakest(adjusted.joint, 3) * 1000, np.degrees(_weakest(adjusted.joint, 0))
    times = np.maximum(mm / LOOSE_MM, degrees / LOOSE_DEG)
    count, part = components.connected_components(times <= 1, directed=False)
    main = part[stay[0]] if stay else int(np.argmax(np.bincount(part, minlength=count)))
    nearest = np.where(part == main, times, np.inf).argmin(axis=1)
    return {i: (float(mm[i, j]), float(degrees[i, j])) for i, j in enumerate(nearest) if part[i] != main}


def _weakest(joint: np.ndarray, first: int) -> np.ndarray:
    """(n, n) standard deviations, in the weakest direction, of every scan against every other, from the joint
    covariance (6n, 6n): of the three unknowns of each scan from the ``first``.
    """
    n, own = len(joint) // 6, slice(first, first + 3)
    each = joint.reshape(n, 6, n, 6)[:, own, :, own].transpose(0, 2, 1, 3)
    self = each[np.arange(n), np.arange(n)]
    between = self[:, None] + self - each - each.transpose(1, 0, 2, 3)
    return np.sqrt(np.maximum(np.linalg.eigvalsh(between)[..., -1], 0.0))


def sliding(job, scans, results, ties, rest, fixed: set[int]) -> dict[int, str]:
    """By scan that only ties which slide one way join to those that hold each other: along that way a few
    patches that are not the same hold them to a millimetre, wherever they are.
    """
    out: dict[int, str] = {}
    links = witnesses.links(witnesses.grouped(sightings(job, scans), rest))
    for members, adjusted, _ in results:
        if adjusted is None:
            continue
        loose, firm = [], [pair for pair in links if set(pair) <= set(members)]
        for tie in (t for t in ties if not t.failed and {t.a, t.b} <= set(members)):
            if slides(tie, rest[tie.a]):
                loose.append((tie.a, tie.b, weakest(tie, rest[tie.a])[1]))
            elif tie.fit.scattered:
                way = rest[tie.a][:3, :3] @ tie.fit.scattered[0]
                loose.append((tie.a, tie.b, way / np.linalg.norm(way)))
            else:
                firm.append((tie.a, tie.b))
        for along in _distinct([way for *_, way in loose]):
            others = [(a, b) for a, b, way in loose if abs(way @ along) <= ONE_WAY]
            groups = joined(members, firm + others)
            groups.sort(key=lambda g: (not set(g) & fixed, -len(g)))
            out = {
                scans[k].id: f"What it has in common with the others slides {way_words(along)}: nothing else "
                "holds it along that."
                for k in set(members).difference(groups[0])
            } | out
    return out


def _distinct(ways: list[np.ndarray]) -> list[np.ndarray]:
    """Directions (3,), like ones once."""
    out: list[np.ndarray] = []
    for way in ways:
        if not any(abs(way @ o) > ALIKE for o in out):
            out.append(way)
    return out


def joined(members: list[int], pairs) -> list[list[int]]:
    """Members by what pairs join."""
    group = dict(zip(members, members))
    for a, b in pairs:
        if group[a] != group[b]:
            old, new = group[b], group[a]
            group = {k: new if g == old else g for k, g in group.items()}
    return [[k for k in members if group[k] == g] for g in dict.fromkeys(group.values())]
