"""What is sure has to be sure by what is sure: scans that only doubted ones hold are doubted, too."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.core.register.assembly import ALTERNATIVES, NEARBY, Assembly
from terrazza.core.register.doubts import with_rivals
from terrazza.core.register.offers import REFUSED, Offer, same
from terrazza.core.register.rivals import PART, clean, rivals_among

WAYS = 16  # motions by which scans in doubt would go that one beside them is tried by
HANGS = "It hangs together only with scans that are in doubt themselves."


def doubt_on(
    assembly: Assembly,
    offers: list[Offer],
    doubts: list[str],
    rivals: list[list[np.ndarray]],
    firm: set[int],
    progress: Progress,
) -> None:
    """Give a doubt to what only doubted scans hold, or what would as well go the way of one of them, and its
    rivals (poses (4, 4)) to each, until what is left holds itself; ``firm`` scans stay as they are.
    """
    touched = {assembly.island[k] for k, doubt in enumerate(doubts) if doubt}
    while touched:
        among = assembly.apart(  # of islands that nothing touched it is known already
            k for k, doubt in enumerate(doubts) if doubt or assembly.island[k] not in touched
        )
        found, touched = rivals_among(among, offers, progress, firm), set[int]()
        for k, doubt in enumerate(doubts):
            if doubt or k in firm or not among.beside(k):
                continue
            if more := found[k] or _along(among, k, _ways(assembly, k, doubts, rivals)):
                rivals[k] = [*more, *rivals[k]][:ALTERNATIVES]
                doubts[k] = with_rivals(assembly.pose[k], rivals[k])
            elif among.is_faint(k):
                doubts[k] = HANGS
            if doubts[k]:
                touched.add(assembly.island[k])


def _ways(assembly: Assembly, k: int, doubts: list[str], rivals: list[list[np.ndarray]]) -> list[np.ndarray]:
    """Poses (4, 4) of a scan if it went as those of its island that are in doubt may, by their ``rivals``."""
    out = [assembly.pose[k]]
    for j in assembly.beside(k):
        for pose in rivals[j] if doubts[j] else []:
            there = pose @ rigid.inverse(assembly.pose[j]) @ assembly.pose[k]
            if len(out) <= WAYS and not any(same(there, o, NEARBY) for o in out):
                out.append(there)
    return out[1:]


def _along(among: Assembly, k: int, ways: list[np.ndarray]) -> list[np.ndarray]:
    """Those of some poses (4, 4) of a scan among the sure ones that nothing contradicts, or clearly less than
    where it stands: the place looks the same by that motion, and how much more is in common tells only where
    the others happen to stand.
    """
    others = among.beside(k)
    now = among.against({k: among.pose[k]}, others)
    cases = [(among.against({k: pose}, others), pose) for pose in ways]
    least = PART * now.evidence
    return [p for c, p in cases if c.area <= REFUSED and clean(now, c) and c.evidence > least]
