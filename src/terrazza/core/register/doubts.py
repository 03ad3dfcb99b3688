"""Why a placement is doubted: rivals, the pose in its file, targets, or little that speaks for it."""

from functools import cached_property

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.assembly import ALTERNATIVES, Assembly
from terrazza.core.register.offers import COMMON, GIVEN, REFUSED, TOLD, Offer, same

# evidence above which a placement without a rival is believed where it is within this of the pose in its
# file; and as many times the least evidence, where the pictures contradict the pose in the file itself
CLEAR, ROUGHLY, REFUTED = 10.0, (4.0, np.radians(20.0)), 3.0


class Files:
    """What the poses in scans' files (``given``: scan → pose (4, 4)) say of an assembly."""

    def __init__(self, assembly: Assembly, given: dict[int, np.ndarray]):
        self.assembly, self.given = assembly, given
        self._agreeing = [self._agreement(k) for k in range(len(assembly.pose))]

    def _agreement(self, k: int) -> tuple[int, int]:
        """With how many others of its island a scan stands as the poses in their files say, and how many of
        them have one; (0, 0) where it has none itself.
        """
        assembly, given = self.assembly, self.given
        told = [j for j in assembly.beside(k) if j in given] if k in given else []
        as_told = lambda j: same(
            rigid.inverse(assembly.pose[j]) @ assembly.pose[k], rigid.inverse(given[j]) @ given[k], GIVEN
        )
        return sum(map(as_told, told)), len(told)

    def agree(self, k: int) -> bool | None:
        """Whether a scan stands where most files say; None where they say nothing of it."""
        good, of = self._agreeing[k]
        return None if not of or 0 < good < of / 2 else good >= of / 2

    @cached_property
    def faint(self) -> set[int]:
        """The scans for which little speaks, their files included."""
        return {k for k in range(len(self._agreeing)) if self.assembly.is_faint(k, self.agree(k) is True)}

    def hangs_on_faint(self, k: int) -> bool:
        """Whether little would speak for a scan without those for which little speaks: a block of a few may
        hold together, and stand in the wrong place.
        """
        assembly, here = self.assembly, {k: self.assembly.pose[k]}
        firm = [j for j in assembly.beside(k) if j not in self.faint]
        hanging = [j for j in assembly.beside(k) if j in self.faint and assembly.common(k, j) >= COMMON]
        if not firm or not hanging or k in assembly.fixed:
            return False
        return assembly.against(here, firm).evidence < assembly.faint(here, firm)

    def pose(self, k: int, others: list[int] | None = None) -> np.ndarray:
        """(4, 4) where a scan would be among others (those of its island) as they stand, as its file says:
        that on which most of their files agree.
        """
        others = self.assembly.beside(k) if others is None else others
        poses, given = self.assembly.pose, self.given
        said = [poses[j] @ rigid.inverse(given[j]) @ given[k] for j in others if j in given]
        return max(said, key=lambda s: sum(same(s, o, GIVEN) for o in said))

    def clearly_elsewhere(self, k: int) -> bool:
        """Whether the pose in a scan's file is a rough one, as most of its island then are, or was exchanged
        with another scan's, and the scans say clearly where it is instead.
        """
        assembly, others, here = self.assembly, self.assembly.beside(k), {k: self.assembly.pose[k]}
        if not self._rough(k, others) and not self._exchanged(k, others):
            return False
        faint = assembly.faint(here, others)
        least = CLEAR * assembly.unsure
        if assembly.against({k: self.pose(k)}, others).area > REFUSED:
            least = min(least, REFUTED * faint)
        least = max(least, faint)
        return assembly.evidence(k) > least

    def _rough(self, k: int, others: list[int]) -> bool:
        """Whether a scan stands near what its file says, or fewer than half of the files agree."""
        most = 1 + max(self._agreeing[j][0] for j in (k, *others))
        return 2 * most < 1 + self._agreeing[k][1] or same(self.pose(k), self.assembly.pose[k], ROUGHLY)

    def _exchanged(self, k: int, others: list[int]) -> bool:
        """Whether a scan stands where the file of another one says that that is."""
        told = [j for j in others if j in self.given]
        return len(told) > 1 and any(
            same(self.pose(j, [i for i in others if i != j]), self.assembly.pose[k], GIVEN) for j in told
        )


def put_back(assembly: Assembly, given: dict[int, np.ndarray]) -> bool:
    """Put scans for which little speaks where the poses in files (4, 4) say, if nothing contradicts it there
    and as much speaks for it; whether any was.
    """
    files, any_moved = Files(assembly, given), False
    for k in given:
        if files.agree(k) is False and k not in assembly.fixed and assembly.is_faint(k):
            said, others = files.pose(k), assembly.beside(k)
            there, here = (assembly.against({k: pose}, others) for pose in (said, assembly.pose[k]))
            if there.area <= REFUSED and there.evidence >= here.evidence:
                assembly.pose[k], any_moved = said, True
                files = Files(assembly, given)
    return any_moved


def doubts_of(
    assembly: Assembly, rivals: list[list[np.ndarray]], given: dict[int, np.ndarray], witnessed: list[Offer]
) -> list[str]:
    """By scan why its placement is doubted; empty where it is not. Rivals that poses of the files (``given``)
    or targets (offers ``witnessed``) speak against are taken away. Poses (4, 4).
    """
    files = Files(assembly, given)
    return [_doubted(assembly, k, rivals, files, witnessed) for k in range(len(assembly.pose))]


def _doubted(
    assembly: Assembly, k: int, rivals: list[list[np.ndarray]], files: Files, witnessed: list[Offer]
) -> str:
    others = assembly.beside(k)
    if not others or k in assembly.fixed:
        rivals[k] = []
        return ""
    mine = [o for o in witnessed if k in (o.a, o.b) and o.a + o.b - k in others]
    if mine:
        rivals[k] = _not_as_seen(assembly, k, mine)
        return "It does not stand where the targets that it shares with others say." if rivals[k] else ""
    told = files.agree(k)
    if told is False:
        if not rivals[k] and files.clearly_elsewhere(k):
            return ""
        said = files.pose(k)
        rivals[k] = [said, *(r for r in rivals[k] if not same(r, said, GIVEN))][:ALTERNATIVES]
    if told is True:  # two witnesses against whatever the files do not say
        rivals[k] = [r for r in rivals[k] if same(r, files.pose(k), GIVEN)]
    if len(rivals[k]) > (told is False):
        away = rigid.difference(rivals[k][0], assembly.pose[k])
        return (
            f"{len(rivals[k]) + 1} placements explain it about as well; the next one lies {away[0]:.1f} "
            "m away" + (f", turned by {np.degrees(away[1]):.0f}°" if away[1] > 0.1 else "") + "."
        )
    if told is None and any(assembly.twins(j, k) for j in others):
        return (
            "It stands where another scan stands and saw the same: one place scanned twice, or two that "
            "look alike."
        )
    if told is not False and k in files.faint:
        return _faint(assembly, k, others)
    if told is None and files.hangs_on_faint(k):
        return "It hangs together only with scans for whose places little speaks."
    if told is False:
        return (
            "It does not stand where the pose in its file says, and nothing but the scans themselves says "
            "otherwise."
        )
    return ""


def _faint(assembly: Assembly, k: int, others: list[int]) -> str:
    """What is said of a scan for whose placement little speaks."""
    here = {k: assembly.pose[k]}
    if assembly.evidence(k) >= assembly.faint(here, others, True):  # enough for what was seen all around
        around = assembly.around(here, others) * 360
        return f"It and the others saw {around:.0f}° around in common, and so little fits in many a place."
    share = max(assembly.evidence(k), 0) / TOLD
    return f"Little speaks for where it stands ({share:.0%} of what it saw): the others saw hardly any of it."


def _not_as_seen(assembly: Assembly, k: int, witnessed: list[Offer]) -> list[np.ndarray]:
    """Where targets say that a scan is, where it does not stand so; poses (4, 4)."""
    out = []
    for o in witnessed:
        j = o.a + o.b - k
        if not same(rigid.inverse(assembly.pose[o.a]) @ assembly.pose[o.b], o.fit.pose):
            out.append(assembly.pose[j] @ o.seen_from(j))
    return out
