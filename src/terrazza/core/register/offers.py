"""Placements of one scan against another, or against a map of several: candidates, fitted, slid along what
nothing holds, and judged by both pictures.
"""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.core.register import cloud_fit, landmarks, open_match, relief_match
from terrazza.core.register.contradiction import GROSS, Verdict, glance, judge
from terrazza.core.register.landmarks import Landmarks
from terrazza.core.register.open_match import OpenShape
from terrazza.core.register.picture import Picture
from terrazza.core.register.plan_match import PlanShape, candidates
from terrazza.core.register.surface import Lately
from terrazza.errors import InputError

if TYPE_CHECKING:
    from terrazza.core.register.surface import Surface


LATELY = Lately(40)
# m: widths of fits from where reliefs agree, from given poses, and from candidates that were slid to the cell
WIDEST, WIDE, NARROW = (1.2, 0.6, 0.3, 0.15, 0.06), (0.6, 0.3, 0.15, 0.06), (0.2, 0.08)
POINTS = 4000  # of a scan in such a fit
TRIED, KEPT = 16, 8
# rough placements on a storey that are nudged and fitted, by how many of its scans they are nudged, and by m
FIRST, NUDGED, LOOKED_AT, BY, NUDGES = 12, 24, 8, 3, (0.16, 0.08)
# m² in common that a rough placement has to have for each that contradicts, before it is nudged and after
ROUGH_COST, OPEN_COST = 2.0, 8.0
FEWER_TURNS = 5
# score that half of the pairs of two places stay below, and of the best score: in 58 simulated pairs the
# truth came first in 53 and was never under 0.8 of it
UNRELATED, ABOUT_AS_GOOD = 0.12, 0.5
# m² of contradicting surface that no true placement has (at most 0.2 at the truth of simulated jobs, 0.6
# where everything movable was moved)
REFUSED = 1.2
TOLD = 10.0  # what a whole scan in common is worth, as a logarithm of how much likelier it makes a placement
# m² of contradicting surface below which a placement is worth sliding along what nothing holds, and the
# steps, m
WORTH, SLIDES = 2.5, (0.08, 0.04, 0.04, 0.02, 0.02, 0.01)
# m and rad from the given placement within which what nothing holds stays as given, unless so much more
# evidence speaks for another place: pictures tell it to a few centimetres only
ABOUT_THERE, CLEARLY_BETTER = (0.15, np.radians(2.0)), 1.0
COMMON = 0.03  # share of a scan that a tie has to explain
ROUGH = 0.03  # m RMS of a fit that is not believed
ONCE = (0.03, np.radians(0.3))  # two fits nearer than this ended in one place
SAME = (0.20, np.radians(2.0))  # two placements nearer than this are one
NEAR_TARGETS = (0.03, np.radians(0.3))  # what fits of surfaces may differ by from what targets say
GIVEN = (1.0, np.radians(10.0))  # a placement within this of the given one is backed by it
BACKED = 100.0  # evidence that this is worth: more than any third scans can add
# m and share agreed: stations nearer than this that see the same may be one room seen twice or two like
# rooms, which makes it weaker evidence
STACKED, STACKED_WEIGHT = (2.5, 0.8), 0.3
# those of which two set-ups rarely stand so near: they say nothing at all, and are tried as one part, too.
# Of 20 simulated jobs one true pair was within a metre, and shared 0.91; of 14 pairs of like rooms that stood
# in one place 12 shared 0.95 and more
TWINS = (0.6, 0.8), (1.0, 0.94)
# share in common of pairs that tell how much moves in a job, and what things that may have been moved cost
# such a pair where a person or two walk about
MUCH, ORDINARY = 0.5, 1.0
UNKNOWN = 0.5  # by how much such things count before it is known how much moves


def stacked(verdict: Verdict, apart: float) -> bool:
    """Whether stations ``apart`` (m) stand near each other and saw the same."""
    return apart < STACKED[0] and verdict.shared > STACKED[1]


def twins(verdict: Verdict, apart: float) -> bool:
    """Whether stations ``apart`` (m) stand in one place and saw the same."""
    return any(apart < near and verdict.shared > agreed for near, agreed in TWINS)


def evidence(verdict: Verdict, apart: float) -> float:
    """What a pair's pictures say for a placement with their stations ``apart`` (m) against none, as a
    logarithm: what they have in common, less what contradicts.
    """
    weight = 0.0 if twins(verdict, apart) else STACKED_WEIGHT if stacked(verdict, apart) else 1.0
    return weight * TOLD * verdict.told - verdict.cost


def weighed(verdict: Verdict, quiet: float) -> Verdict:
    """A verdict in which what may have been moved counts by ``quiet`` (0 to 1): the more moved between scans,
    the less it says.
    """
    if quiet == 1.0:
        return verdict
    less = 1.0 - quiet
    return replace(
        verdict,
        cost=verdict.cost - less * verdict.moved,
        area=verdict.area - less * verdict.moved_area,
    )


def quietness(found: list["Offer"]) -> float:
    """By how much things that may have been moved count in this job: fully where the pairs that have most in
    common show few. Like rooms laid upon each other, where all furniture seems to have moved, say nothing.
    """
    best: dict[tuple[int, int], Offer] = {}
    still = lambda offer: offer.evidence + offer.verdict.moved
    for offer in found:
        if stacked(offer.verdict, offer.apart):
            continue
        known = best.get((offer.a, offer.b))
        if known is None or still(offer) > still(known):
            best[offer.a, offer.b] = offer
    return quiet_by([o.verdict for o in best.values()])


def quiet_by(verdicts: list[Verdict]) -> float:
    """The same by what is said of pairs where they stand."""
    moved = [v.moved for v in verdicts if v.told > MUCH]
    return min(1.0, ORDINARY / max(float(np.median(moved)), 1e-9)) if moved else 1.0


@dataclass
class Offer:
    """A placement of scan ``b`` in the frame of scan ``a``: fit, verdict of both pictures, whether poses that
    came with the files back it, and the evidence of the others ``among`` which it was found on a map.
    """

    a: int
    b: int
    fit: cloud_fit.Fit
    verdict: Verdict
    backed: bool = False
    among: float = 0.0

    @property
    def apart(self) -> float:
        return float(np.linalg.norm(self.fit.pose[:3, 3]))

    @property
    def evidence(self) -> float:
        return evidence(self.verdict, self.apart)

    def seen_from(self, scan: int) -> np.ndarray:
        """The pose of the other scan in the frame of this one. (4, 4)."""
        return self.fit.pose if scan == self.a else rigid.inverse(self.fit.pose)

    @property
    def weight(self) -> float:
        return self.evidence + BACKED * self.backed


def same(a: np.ndarray, b: np.ndarray, reach: tuple[float, float] = SAME) -> bool:
    """Whether two poses are one to within a shift (m) and a turn (rad). Both (4, 4)."""
    return rigid.within(a, b, reach)


def offers_of(
    surfaces: "list[Surface]",
    shapes: list[PlanShape],
    pictures: list[Picture],
    a: int,
    b: int,
    given: np.ndarray | None = None,
    hopeful: bool = False,
) -> list[Offer]:
    """Placements of b in a's frame that little contradicts, best first; ``hopeful``: only candidates that
    nearly as much speaks for as for the best are looked at closely. ``given`` (4, 4).
    """
    starts = ([] if given is None else [(given, WIDE), (given, NARROW)]) + [
        (c.pose, NARROW)
        for c in (_hopeful(shapes[a], shapes[b]) if hopeful else candidates(shapes[a], shapes[b], TRIED))
    ]
    marks = [Landmarks.of(surfaces[k], shapes[k]) for k in (a, b)]
    starts += [(pose, WIDE) for pose in landmarks.candidates(*marks)]
    starts += [(p, WIDEST) for p in relief_match.candidates(*((surfaces[k], shapes[k]) for k in (a, b)))]
    found: list[Offer] = []
    for fit in _fits(surfaces[a], surfaces[b], starts):
        verdict = judge(pictures[a], pictures[b], fit.pose)
        if fit.free and verdict.area < WORTH:
            fit, verdict = _slid_on(fit, verdict, pictures[a], pictures[b], given)
            fit, verdict = _caught(fit, verdict, (surfaces[a], surfaces[b]), (pictures[a], pictures[b]))
        if weighed(verdict, UNKNOWN).area <= REFUSED and verdict.common >= COMMON:
            found.append(Offer(a, b, fit, verdict, given is not None and same(fit.pose, given, GIVEN)))
    found.sort(key=lambda o: -o.weight)
    kept: list[Offer] = []
    for offer in found:
        if not any(same(offer.fit.pose, o.fit.pose) for o in kept):
            kept.append(offer)
    return kept[:KEPT]


def _hopeful(a: PlanShape, b: PlanShape) -> list[Any]:
    """Candidates that are not much worse than the best, none where the best is no better than what scans of
    two places come to.
    """
    found = candidates(a, b, TRIED, FEWER_TURNS)
    return [c for c in found if c.score > max(UNRELATED, ABOUT_AS_GOOD * found[0].score)]


def _fits(
    a: "Surface", b: "Surface", starts: list[tuple[np.ndarray, tuple[float, ...]]]
) -> list[cloud_fit.Fit]:
    """Fits of one surface to another from each (pose, widths) that are not rough, each place once."""
    found: list[cloud_fit.Fit] = []
    for start, widths in starts:
        try:
            fit = cloud_fit.fit(a, b, start, widths, 8, POINTS)
        except InputError:
            continue
        if fit.rms <= ROUGH and not any(same(fit.pose, f.pose, ONCE) for f in found):
            found.append(fit)
    return found


def _slid_on(
    fit: cloud_fit.Fit, verdict: Verdict, a: Picture, b: Picture, given: np.ndarray | None = None
) -> tuple[cloud_fit.Fit, Verdict]:
    """Along shifts that no surface holds, the place that the pictures contradict least: what one saw through
    openings still tells to some centimetres. What stands about where it was ``given`` (4, 4) stays there
    unless the pictures say much more for another place.
    """
    kept = fit, verdict
    for free in fit.free:
        for step in SLIDES:
            for way in (step, -step):
                pose = rigid.make(np.eye(3), way * free) @ fit.pose
                other = judge(a, b, pose)
                if evidence(other, np.inf) > evidence(verdict, np.inf) + 0.05:
                    fit, verdict = replace(fit, pose=pose), other
                    break
    gain = evidence(verdict, np.inf) - evidence(kept[1], np.inf)
    stays = given is not None and same(kept[0].pose, given, ABOUT_THERE) and gain <= CLEARLY_BETTER
    return kept if stays else (fit, verdict)


def _caught(
    fit: cloud_fit.Fit,
    verdict: Verdict,
    surfaces: "tuple[Surface, Surface]",
    pictures: tuple[Picture, Picture],
) -> tuple[cloud_fit.Fit, Verdict]:
    """The same where surfaces nearby hold what nothing held, unless the pictures say less for it."""
    caught = cloud_fit.caught(*surfaces, fit)
    if caught is None:
        return fit, verdict
    there = judge(*pictures, caught.pose)
    worse = evidence(there, np.inf) < evidence(verdict, np.inf) - CLEARLY_BETTER
    return (fit, verdict) if worse else (caught, there)


def by_targets(a: "Surface", b: "Surface", pose: np.ndarray) -> cloud_fit.Fit:
    """The fit near a placement that targets say, or that placement itself where surfaces do not fit there.
    ``pose`` (4, 4), b to a.
    """
    near = [f for f in _fits(a, b, [(pose, NARROW)]) if same(f.pose, pose, NEAR_TARGETS)]
    if near and not near[0].free:
        return near[0]
    return cloud_fit.Fit(pose, 0.0, 0.0, 0.0, 0, np.zeros((6, 6)), pose[:3, 3], True)


def _at_a_glance(
    mine: Picture, others: list[tuple[Picture, np.ndarray]], rough: list[np.ndarray]
) -> list[np.ndarray]:
    """The ``LOOKED_AT`` rough poses that most agrees with and least contradicts, by a few points of the
    ``others`` (each with the way from the poses' frame into its own), the first and those that look likely
    nudged to where that is best. Poses (4, 4), best first.
    """
    told = [_glances(mine, others, pose) for pose in rough]
    likely = sorted(range(len(rough)), key=lambda k: (k >= FIRST, -_worth(told[k], ROUGH_COST)))
    worth = []
    for k in likely[:NUDGED]:
        pose = _nudged(mine, [others[j] for j in np.argsort(-told[k].max(1))[:BY]], rough[k])
        there = _glances(mine, others, pose)
        if there[:, 1].max() <= GROSS:
            worth.append((_worth(there), pose))
    return [pose for _, pose in sorted(worth, key=lambda w: -w[0])[:LOOKED_AT]]


def _glances(mine: Picture, others: list[tuple[Picture, np.ndarray]], pose: np.ndarray) -> np.ndarray:
    """(n, 2) m² that agree and that are against, at a glance, with each of the ``others``. Pose (4, 4)."""
    return np.array([glance(other, mine, way @ pose) for other, way in others]).reshape(-1, 2)


def _worth(told: np.ndarray, cost: float = OPEN_COST) -> float:
    """Of what is told (n, 2) of a rough placement at a glance."""
    return float(told[:, 0].sum() - cost * told[:, 1].sum())


def _nudged(mine: Picture, others: list[tuple[Picture, np.ndarray]], pose: np.ndarray) -> np.ndarray:
    """A rough pose shifted level, step by step, while that is worth more at a glance."""
    value = lambda p: _worth(_glances(mine, others, p))
    best = value(pose)
    for step in NUDGES:
        for way in step * np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0]]):
            while (worth := value(tried := rigid.make(np.eye(3), way) @ pose)) > best:
                best, pose = worth, tried
    return pose


def on_map(
    asked: tuple[int, np.ndarray, list[int], list[np.ndarray], np.ndarray | None],
    common: "tuple[list[Surface], list[PlanShape], list[Picture]]",
    progress: Progress,
) -> list[cloud_fit.Fit]:
    """Fits (``pose``: scan to island) of one scan to a map, from where it stands, if anywhere, and from all
    likely places. Poses (4, 4), ``centre`` (3,) m.
    """
    (k, centre, near, poses, here), (surfaces, shapes, pictures) = asked, common
    shape, surface = PlanShape.of_map([surfaces[j] for j in near], poses, centre)
    opened = lambda j: LATELY.of(shapes[j], lambda: OpenShape.of(surfaces[j], shapes[j], pictures[j]))
    others, mine = [opened(j) for j in near], opened(k)
    about = [rigid.make(np.eye(3), -centre) @ p for p in poses]
    rough = [[c.pose for c in candidates(shape, shapes[k], TRIED)]]
    rough += open_match.candidates(others, about, shape, mine, shapes[k], TRIED)
    seen = [(pictures[j], rigid.inverse(p)) for j, p in zip(near, about)]
    starts = [(pose, NARROW) for some in rough for pose in _at_a_glance(pictures[k], seen, some)]
    starts += [(p, WIDEST) for p in relief_match.candidates((surface, shape), (surfaces[k], shapes[k]))]
    if here is not None:
        starts.insert(0, (rigid.make(np.eye(3), -centre) @ here, NARROW))
    found = _fits(surface, surfaces[k], starts)
    caught = [cloud_fit.caught(surface, surfaces[k], f) for f in found if f.free]
    found += [f for f in caught if f is not None]
    progress.advance(1.0, 1.0)
    return [replace(f, pose=rigid.make(np.eye(3), centre) @ f.pose) for f in found]
