"""Where a scan that stands aside may belong: places beside an island that too little speaks for, or a little
too much against, to put it there.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.assembly import Assembly
from terrazza.core.register.offers import SAME, WORTH, Offer

LEAST = -1.0  # evidence of a guess: what contradicts it is a little more than what it has in common
LOOKED_AT, KEPT = 12, 4  # offers of a scan that are looked at, best first, and places that are kept


def guesses(assembly: Assembly, offers: list[Offer], k: int, members: list[int]) -> list[np.ndarray]:
    """The best places (4, 4) of a scan beside the ``members`` of an island, in its frame, best first."""
    told = sorted(assembly.offered(k, members, offers), key=lambda o: -o[0].evidence - o[0].among)
    found = [(_speaks(assembly, k, pose, members), pose) for _, pose in told[:LOOKED_AT]]
    likely = sorted((f for f in found if f[0] > LEAST * assembly.unsure), key=lambda f: -f[0])
    return rigid.distinct((pose for _, pose in likely), SAME, KEPT)


def _speaks(assembly: Assembly, k: int, pose: np.ndarray, members: list[int]) -> float:
    """The evidence for a pose (4, 4) of a scan; none where something clearly contradicts it."""
    out = 0.0
    for j in members:
        case = assembly.against({k: pose}, [j])
        if case.area > WORTH or case.stacked:
            return -np.inf
        out += case.evidence
    return out
