"""How much third scans support what an offer says of two."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.register.offers import SAME, Offer, same


@dataclass(frozen=True)
class Ways:
    """What offers of a pair say from one scan of it: the ``poses`` (n, 4, 4) of the other in its frame, and
    the ``evidence`` (n,) of each.
    """

    poses: np.ndarray
    evidence: np.ndarray


def ways_of(offers: list[Offer]) -> dict[int, dict[int, Ways]]:
    """By scan, and by the other one, the ways that offers of the pair say; of those found on a map, where the
    higher number may come first, only the ones that name the lower first.
    """
    pairs: dict[tuple[int, int], list[Offer]] = {}
    for o in offers:
        if o.a < o.b:
            pairs.setdefault((o.a, o.b), []).append(o)
    ways: dict[int, dict[int, Ways]] = {k: {} for o in offers for k in (o.a, o.b)}
    for (a, b), some in pairs.items():
        evidence = np.array([o.evidence for o in some])
        for k, other in ((a, b), (b, a)):
            ways[k][other] = Ways(np.array([o.seen_from(k) for o in some]), evidence)
    return ways


def support(offer: Offer, ways: dict[int, dict[int, Ways]]) -> float:
    """The weight of an offer and of the third scans through which others (see ``ways_of``) come to the same
    placement.
    """
    through = 0.0
    for c in sorted(ways[offer.a].keys() & ways[offer.b].keys()):
        one, two = ways[offer.a][c], ways[c][offer.b]
        there = one.poses[:, None] @ two.poses
        evidence = np.minimum(one.evidence[:, None], two.evidence)
        near = np.linalg.norm(there[..., :3, 3] - offer.fit.pose[:3, 3], axis=2) < SAME[0]
        alike = [e for e, pose in zip(evidence[near], there[near]) if same(pose, offer.fit.pose)]
        through += max([0.0, *alike])
    return offer.weight + max(offer.among, through)
