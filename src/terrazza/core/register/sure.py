"""What is sure has to be sure by what is sure: scans that only doubted ones hold are doubted, too."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.core.register.assembly import ALTERNATIVES, Assembly
from terrazza.core.register.doubts import with_rivals
from terrazza.core.register.offers import Offer
from terrazza.core.register.rivals import rivals_among

HANGS = "It hangs together only with scans that are in doubt themselves."


def doubt_on(
    assembly: Assembly,
    offers: list[Offer],
    doubts: list[str],
    rivals: list[list[np.ndarray]],
    firm: set[int],
    progress: Progress,
) -> None:
    """Give a doubt to what only doubted scans hold, and its rivals (poses (4, 4)) to each, until what is left
    holds itself; ``firm`` scans stay as they are.
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
            if found[k]:
                rivals[k] = [*found[k], *rivals[k]][:ALTERNATIVES]
                doubts[k] = with_rivals(assembly.pose[k], rivals[k])
            elif among.is_faint(k):
                doubts[k] = HANGS
            if doubts[k]:
                touched.add(assembly.island[k])
