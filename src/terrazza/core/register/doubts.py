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
        """Whether a scan stands where most files say; None where they say nothing of it, or where it agrees
        with one other and hardly any else agree: then by chance.
        """
        good, of = self._agreeing[k]
        if not of or 0 < good < of / 2:
            return None
        return None if good == 1 and self._mostly_rough else good >= of / 2

    @cached_property
    def _mostly_rough(self) -> bool:
        """Whether fewer than half of the files agree, over all islands."""
        said: dict[int, list[tuple[int, int]]] = {}
        for island, agreement in zip(self.assembly.island, self._agreeing):
            said.setdefault(island, []).append(agreement)
        most = [max(some) for some in said.values()]
        return 2 * sum(good for good, _ in most) < sum(of for _, of in most)

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
        that on which most of their files agree, and agree most closely.
        """
        others = self.assembly.beside(k) if others is None else others
        poses, given = self.assembly.pose, self.given
        said = [poses[j] @ rigid.inverse(given[j]) @ given[k] for j in others if j in given]

        def agreement(pose: np.ndarray) -> tuple[int, float]:
            near = [float(np.linalg.norm(pose[:3, 3] - o[:3, 3])) for o in said if same(pose, o, GIVEN)]
            return len(near), -sum(near)

        return max(said, key=agreement)

    def clearly_elsewhere(self, k: int) -> bool:
        """Whether the pose in a scan's file is a rough one, as most of its island then are, or was exchanged
        with another scan's, and the scans say clearly where it is instead.
        """
        assembly, others, here = self.assembly, self.assembly.beside(k), {k: self.assembly.pose[k]}
        if not self._rough(k, others) and not self._exchanged(k, others):
            return False
        faint, evidence = assembly.faint(here, others), assembly.evidence(k)
        said = assembly.against({k: self.pose(k)}, others)
        least = CLEAR * assembly.unsure
        if said.area > REFUSED or said.evidence < evidence - CLEAR:
            explained = self._of_rough_ones(k, others) or self._exchanged(k, others, both=True)
            least = min(least, faint if explained else REFUTED * faint)
        return evidence > max(least, faint)

    def _rough(self, k: int, others: list[int]) -> bool:
        """Whether a scan stands near what its file says, or fewer than half of the files agree."""
        return self._of_rough_ones(k, others) or same(self.pose(k), self.assembly.pose[k], ROUGHLY)

    def _of_rough_ones(self, k: int, others: list[int]) -> bool:
        """Whether fewer than half of an island's files agree: all are rough then, and say little."""
        return 2 * (1 + max(self._agreeing[j][0] for j in (k, *others))) < 1 + self._agreeing[k][1]

    def _exchanged(self, k: int, others: list[int], both: bool = False) -> bool:
        """Whether a scan stands where the file of another one says that that is; ``both``: and that one where
        this one's says.
        """
        told, poses = [j for j in others if j in self.given], self.assembly.pose
        return len(told) > 1 and any(
            same(self.pose(j, (rest := [i for i in others if i != j])), poses[k], GIVEN)
            and not (both and not same(self.pose(k, rest), poses[j], GIVEN))
            for j in told
        )


def as_filed(assembly: Assembly, given: dict[int, np.ndarray]) -> set[int]:
    """The scans that stand where most files (``given``: poses (4, 4)) say."""
    files = Files(assembly, given)
    return {k for k in given if files.agree(k) is True}


def put_back(assembly: Assembly, given: dict[int, np.ndarray], offers: list[Offer]) -> bool:
    """Put scans where the poses in files (4, 4) say, or where they fit near it, if nothing contradicts it
    there and as much speaks for it; each alone, or else all of an island together, since one may stand in the
    other's place. Whether any was.
    """
    any_moved, files = False, Files(assembly, given)
    away = [k for k in given if files.agree(k) is False and k not in assembly.fixed]
    for group in [
        *([k] for k in away),
        *([k for k in away if assembly.island[k] == i] for i in set(assembly.island)),
    ]:
        group = [k for k in group if files.agree(k) is False]
        there = _where_told(files, group, offers)
        if there and _as_well(assembly, there):
            for k, pose in there.items():
                assembly.pose[k], any_moved = pose, True
            files = Files(assembly, given)
    return any_moved


def _where_told(files: Files, group: list[int], offers: list[Offer]) -> dict[int, np.ndarray]:
    """Where each of a group would be among the others of their island as files say: at that place itself, or
    where an offer near it fits better. Poses (4, 4); empty where files say nothing of them.
    """
    assembly, out = files.assembly, {}
    for k in group:
        others = [j for j in assembly.beside(k) if j not in group]
        if not any(j in files.given for j in others):
            return {}
        said = files.pose(k, others)
        backed = (pose for o, pose in assembly.offered(k, others, offers) if o.backed)
        near = [said, *(pose for pose in backed if same(pose, said, GIVEN))]
        worth = [assembly.against({k: pose}, others) for pose in near]
        out[k] = max(zip(near, worth), key=lambda n: (n[1].area <= REFUSED, n[1].evidence))[0]
    return out


def _as_well(assembly: Assembly, there: dict[int, np.ndarray]) -> bool:
    """Whether nothing contradicts scans at other poses (``there``, (4, 4)), and as much speaks for them as
    where they stand.
    """
    now = total = 0.0
    before: dict[int, np.ndarray] = {}
    done: dict[int, np.ndarray] = {}
    others = [j for j in assembly.beside(min(there)) if j not in there]
    for k, pose in there.items():
        case = assembly.against({k: pose}, others, done)
        if case.area > REFUSED:
            return False
        here = assembly.against({k: assembly.pose[k]}, others, before)
        total, now = total + case.evidence, now + (here.evidence if here.area <= REFUSED else -np.inf)
        done[k], before[k] = pose, assembly.pose[k]
    return total >= now


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
    twin = told is not True and any(assembly.like_twins(j, k) for j in others)
    if told is False:
        if not rivals[k] and not twin and files.clearly_elsewhere(k):
            return ""
        said = files.pose(k)
        rivals[k] = [said, *(r for r in rivals[k] if not same(r, said, GIVEN))][:ALTERNATIVES]
    if told is True:  # two witnesses against whatever the files do not say
        rivals[k] = [r for r in rivals[k] if same(r, files.pose(k), GIVEN)]
    if len(rivals[k]) > (told is False):
        return with_rivals(assembly.pose[k], rivals[k])
    if twin:
        return (
            "It stands where another scan stands and saw the same: one place scanned twice, or two that "
            "look alike."
        )
    if told is not False and k in files.faint:
        return _faint(assembly, k, others)
    if told is None and assembly.goes_one_way(k):
        return (
            "Most of what it shares with others agrees one way only, as it does on both sides of a thin wall."
        )
    if told is None and files.hangs_on_faint(k):
        return "It hangs together only with scans for whose places little speaks."
    if told is False:
        return (
            "It does not stand where the pose in its file says, and nothing but the scans themselves says "
            "otherwise."
        )
    return ""


def with_rivals(pose: np.ndarray, rivals: list[np.ndarray]) -> str:
    """What is said of a scan at a pose that others explain about as well. (4, 4)."""
    away, turn = rigid.difference(rivals[0], pose)
    return (
        f"{len(rivals) + 1} placements explain it about as well; the next one lies {away:.1f} m away"
        + (f", turned by {np.degrees(turn):.0f}°" if turn > 0.1 else "")
        + "."
    )


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
