"""When a placement is doubted: rivals, little evidence, narrow views."""

from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest

from terrazza.core.progress import QUIET
from terrazza.core.register import cloud_fit
from terrazza.core.register.doubts import doubts_of
from terrazza.core.register.offers import Offer, evidence
from terrazza.core.register.rivals import moved_to_better, rivals_among
from terrazza.core.register.support import support, ways_of
from terrazza.core.register.sure import doubt_on
from terrazza.operations.register import judging
from tests.told import Told, at, verdict


def rivals_in(assembly, offers):
    """The rivals of all scans, each part where it stands best."""
    return rivals_among(assembly, offers, QUIET, set(), moved_to_better(assembly, offers, QUIET))


@pytest.mark.parametrize(
    ("verdict", "apart", "expected"),
    [
        (verdict(0.5, 0.0), 5.0, 5.0),
        (verdict(0.5, 2.0), 5.0, 3.0),
        (verdict(0.9, 0.0, 0.9), 5.0, 9.0),
        (verdict(0.9, 0.0, 0.9), 1.5, 2.7),
        (verdict(0.9, 1.0, 0.9), 0.2, -1.0),
        (verdict(0.9, 0.0, 0.5), 0.2, 9.0),
    ],
)
def test_evidence_counts_what_is_shared_less_what_contradicts(verdict, apart, expected):
    assert evidence(verdict, apart) == pytest.approx(expected)


@pytest.mark.parametrize(("third", "more"), [((0, 2), 3.0), ((2, 0), 0.0), ((0, 3), 0.0)])
def test_third_scans_support_an_offer(third, more):
    """Offers of 4 m along, and of 9 m by way of a third scan that has 3.0 of evidence at least; of scans
    matched to maps the higher number may come first.
    """
    fit = lambda x: cloud_fit.Fit(at(x), 0.002, 0.001, 0.9, 500, np.eye(6), np.zeros(3), True)
    offers = [
        Offer(0, 1, fit(4.0), verdict(0.2, 0.0)),
        Offer(*third, fit(9.0), verdict(0.3, 0.0)),
        Offer(1, 2, fit(5.0), verdict(0.4, 0.0)),
    ]
    assert support(offers[0], ways_of(offers)) == pytest.approx(2.0 + more)


@pytest.mark.parametrize(
    ("first", "second", "rivals", "moved"),
    [
        (verdict(0.5, 0.0), verdict(0.45, 0.0), 1, False),
        (verdict(0.5, 0.0), verdict(0.3, 2.0), 0, False),
        (verdict(0.5, 0.0), verdict(0.3, 0.0), 1, False),  # nothing contradicts it
        (verdict(0.5, 0.0), verdict(0.2, 0.0), 1, False),
        (verdict(0.5, 0.0), verdict(0.1, 0.0), 0, False),
        (verdict(0.5, 0.0), verdict(0.7, 0.0), 1, True),  # nor the place that it had
        (verdict(0.5, 0.0), verdict(0.6, 0.0), 1, True),
        (verdict(0.5, 0.0), verdict(0.9, 7.3), 0, False),
        (verdict(0.5, 0.0), verdict(0.9, 6.5), 1, False),  # as when one thing was carried away
        (verdict(0.9, 4.0), verdict(0.8, 6.0), 1, False),  # much contradicts both, and may by chance
        (verdict(0.9, 4.0), verdict(0.7, 6.0), 0, False),
        (verdict(0.9, 4.0), verdict(0.36, 1.9), 1, False),  # less contradicts it than where it stands
        (verdict(0.9, 4.0), verdict(0.39, 2.2), 0, False),
        (verdict(0.9, 4.0), verdict(0.30, 1.9), 0, False),
    ],
)
def test_a_rival_is_one_that_explains_about_as_much_and_a_better_one_takes_its_place(
    first, second, rivals, moved
):
    says = lambda x: {5.0: first, 9.0: second}.get(x, verdict(0.0, 0.0))
    assembly = Told(2, says)
    offers = [
        Offer(0, 1, cloud_fit.Fit(at(x), 0.002, 0.001, 0.5, 500, np.eye(6), np.zeros(3), True), says(x))
        for x in (5.0, 9.0)
    ]
    assert assembly.join(offers[0])
    found = rivals_in(assembly, offers)
    assert len(found[1]) == rivals
    assert (abs(assembly.pose[1][0, 3] - assembly.pose[0][0, 3]) == pytest.approx(9.0)) == moved


@pytest.mark.parametrize(("seen", "rivals"), [(4.9, 0), (5.1, 1)])
def test_a_rival_is_one_of_which_others_saw_as_much_however_many_saw_the_same(seen, rivals):
    """Elsewhere a third of the evidence speaks for it, and 1.0 less is against it."""
    says = lambda x: {5.0: verdict(0.9, 3.0), 9.0: verdict(0.45, 2.0)}.get(x, verdict(0.0, 0.0))
    assembly = Told(2, says)
    assembly.covered = lambda moved, others: {5.0: 9.0, 9.0: seen}[
        round(float(abs(next(iter(moved.values()))[0, 3] - assembly.pose[others[0]][0, 3])), 1)
    ]
    offers = [
        Offer(0, 1, cloud_fit.Fit(at(x), 0.002, 0.001, 0.5, 500, np.eye(6), np.zeros(3), True), says(x))
        for x in (5.0, 9.0)
    ]
    assert assembly.join(offers[0])
    assert len(rivals_in(assembly, offers)[1]) == rivals


@pytest.mark.parametrize(
    ("given", "doubted"),
    [
        ({}, True),
        ({0: 0.0, 1: 3.0, 2: -2.5, 3: 6.5}, True),  # rough ones, of which none agree
        ({0: 0.0, 1: 5.0, 2: 5.0, 3: 10.0}, False),
    ],
)
def test_one_that_stands_where_another_stands_is_doubted_unless_files_say_so(given, doubted):
    says = lambda x: {0.0: verdict(0.95, 0.0, 0.95)}.get(x, verdict(0.9, 0.0))
    assembly = Told(4, says)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 5.0, 5.0, 10.0)], [0] * 4
    found = doubts_of(assembly, [[] for _ in range(4)], {k: at(x) for k, x in given.items()}, [])
    assert ["saw the same" in d for d in found] == [False, doubted, doubted, False]


def test_what_a_few_may_be_wrong_about_leaves_the_others_sure_of_each_other():
    """A corridor of two scans, and two rooms that fit to it 10 m on as well: so does the corridor to them."""
    told = {
        (0, 1): (3.0,),
        (0, 2): (5.0, 15.0),
        (0, 3): (8.0, 18.0),
        (1, 2): (2.0, 12.0),
        (1, 3): (5.0, 15.0),
    }

    class Corridor(Told):
        def verdict(self, a, b, pose):
            x = round(float(pose[0, 3] if a < b else -pose[0, 3]), 1)
            fits = x in told.get((min(a, b), max(a, b)), ())
            return verdict((0.9 if {a, b} == {0, 1} else 0.15) * fits, 0.0)

    assembly = Corridor(4, None)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 3.0, 5.0, 8.0)], [0] * 4
    fit = lambda x: cloud_fit.Fit(at(x), 0.002, 0.001, 0.5, 500, np.eye(6), np.zeros(3), True)
    offers = [Offer(a, b, fit(x), assembly.verdict(a, b, at(x))) for (a, b), at_ in told.items() for x in at_]
    assert [len(r) for r in rivals_in(assembly, offers)] == [0, 0, 1, 1]


@pytest.mark.parametrize(
    ("sure", "elsewhere", "firm", "doubt"),
    [
        (0.04, 0.0, False, "in doubt themselves"),
        (0.4, 0.0, False, ""),
        (0.4, 0.45, False, "2 placements"),
        (0.4, 0.45, True, ""),
    ],
)
def test_what_only_doubted_scans_hold_is_doubted(sure, elsewhere, firm, doubt):
    """The last of three scans 5 m apart; the one in the middle is in doubt and holds it."""
    told = {(0, 1, 5.0): 0.9, (1, 2, 5.0): 0.9, (0, 2, 10.0): sure, (0, 2, -4.0): elsewhere}

    class Row(Told):
        def verdict(self, a, b, pose):
            return verdict(told.get((a, b, round(float(pose[0, 3]), 1)), 0.0), 0.0)

    assembly = Row(3, None)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 5.0, 10.0)], [0] * 3
    assembly.fixed.add(0)
    fit = cloud_fit.Fit(at(-4.0), 0.002, 0.001, 0.5, 500, np.eye(6), np.zeros(3), True)
    offers = [Offer(0, 2, fit, verdict(elsewhere, 0.0))] * (elsewhere > 0)
    doubts, rivals = ["", "said before", ""], [[], [], []]
    doubt_on(assembly, offers, doubts, rivals, {0, 2} if firm else {0}, QUIET)
    assert doubts[:2] == ["", "said before"] and doubt in doubts[2] and bool(doubt) == bool(doubts[2])
    assert len(rivals[2]) == ("placements" in doubt)


@pytest.mark.parametrize(
    ("there", "against", "rivals"),
    [
        (0.4, 0.0, 1),
        (0.4, 0.9, 0),  # as much contradicts it there as here
        (0.2, 0.0, 0),  # hardly anything speaks for it there
        (0.4, 6.0, 0),
    ],
)
def test_what_is_sure_is_tried_by_the_motions_of_what_is_in_doubt(there, against, rivals):
    """The scan in the middle may stand 10 m on, where a yard looks the same; the last one would go along."""
    says = {(0, 2, 10.0): (0.9, 1.2), (0, 2, 20.0): (there, against)}

    class Yard(Told):
        def verdict(self, a, b, pose):
            return verdict(*says.get((a, b, round(float(pose[0, 3]), 1)), (0.5, 0.0)))

    assembly = Yard(3, None)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 5.0, 10.0)], [0] * 3
    doubts, found = ["", "said before", ""], [[], [at(15.0)], []]
    doubt_on(assembly, [], doubts, found, {0}, QUIET)
    assert len(found[2]) == rivals and bool(doubts[2]) == bool(rivals)
    assert not rivals or found[2][0] == pytest.approx(at(20.0))


@pytest.mark.parametrize(("cost", "denied"), [(5.9, False), (6.1, True)])
def test_what_one_pair_says_against_a_placement_no_other_makes_up_for(cost, denied):
    assembly = Told(3, lambda x: {2.0: verdict(0.1, cost), 5.0: verdict(0.9, 0.0)}.get(x, verdict(0.0, 0.0)))
    assembly.pose = [at(x) for x in (0.0, -3.0, 2.0)]
    case = assembly.against({2: at(2.0)}, [0, 1])
    assert np.isinf(case.area) == denied


@pytest.mark.parametrize(
    ("wrongly", "rivals", "moved"), [(0.05, 0, True), (0.2, 1, True), (0.395, 1, False), (3.0, 0, False)]
)
def test_two_that_saw_much_the_same_are_tried_in_each_others_place(wrongly, rivals, moved):
    """Two storeys 10 m apart along x, a hall and a room 3 m beside it in each; the rooms stand exchanged, and
    contradict each other where one stands in the other's place.
    """
    beside = {(0, 2): 0.4, (1, 3): 0.4, (0, 3): wrongly, (1, 2): wrongly}

    class Storeys(Told):
        def verdict(self, a, b, pose):
            x = round(float(pose[0, 3] if a < b else -pose[0, 3]), 1)
            upon = {a, b} == {2, 3} and x == 0
            return verdict(0.9, 4.5, 0.95) if upon else verdict(beside.get((a, b), 0) * (x == 3), 0.0)

    assembly = Storeys(4, None)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 10.0, 13.0, 3.0)], [0] * 4
    fit = cloud_fit.Fit(at(0.0), 0.002, 0.001, 0.9, 500, np.eye(6), np.zeros(3), True)
    found = rivals_in(assembly, [Offer(2, 3, fit, verdict(0.9, 4.5, 0.95))])
    assert [len(f) for f in found] == [0, 0, rivals, rivals]
    assert [p[0, 3] for p in assembly.pose[2:]] == ([3.0, 13.0] if moved else [13.0, 3.0])


class _Line(Told):
    """A hall and two scans beside it, 5 and 9 m along; ``says`` what it shares with them by scan and place.
    The two contradict each other in one place.
    """

    def __init__(self, says):
        super().__init__(3, None)
        self.fixed.add(0)
        self.pose, self.island, self.told = [at(x) for x in (0.0, 5.0, 9.0)], [0] * 3, says
        fit = lambda x: cloud_fit.Fit(at(x), 0.002, 0.001, 0.9, 500, np.eye(6), np.zeros(3), True)
        self.offers = [Offer(0, b, fit(x), verdict(told, 0.0)) for (b, x), told in says.items() if told]

    def verdict(self, a, b, pose):
        x = round(float(pose[0, 3] if a < b else -pose[0, 3]), 1)
        if 0 not in (a, b):
            return verdict(0.0, 30.0 * (x == 0))
        return verdict(self.told.get((a + b, x), 0.0), 0.0)


@pytest.mark.parametrize(
    ("holder", "elsewhere", "rivals"),
    [
        (0.6, 0.0, 0),  # for it more speaks than for the other one there
        (0.6, 0.55, 1),
        (0.2, 0.0, 1),
    ],
)
def test_a_place_that_another_holds_is_a_rival_as_far_as_that_can_go_elsewhere(holder, elsewhere, rivals):
    assembly = _Line({(1, 5.0): holder, (1, -5.0): elsewhere, (2, 9.0): 0.2, (2, 5.0): 0.35})
    found = rivals_in(assembly, assembly.offers)
    assert len(found[2]) == rivals and assembly.pose[2][0, 3] == 9.0


@pytest.mark.parametrize(
    ("told", "same", "rivals"),
    [
        (0.33, 0.95, 1),  # the hall says as much for it, and of the one there nothing is to be learnt
        (0.1, 0.95, 0),
        (0.33, 0.5, 0),  # the one there saw it otherwise
    ],
)
def test_a_place_where_another_stands_that_saw_the_same_is_told_by_the_rest(told, same, rivals):
    """Two scans of a hall, 5 m along and from its other end, where a third one stands; that one agrees with
    the second where it stands now.
    """

    class Twice(_Line):
        def verdict(self, a, b, pose):
            x = round(float(pose[0, 3] if a < b else -pose[0, 3]), 1)
            if 0 in (a, b):
                return super().verdict(a, b, pose)
            return verdict(0.45 * (x != 0), 0.6 if x == 0 else 0.0, same)

    assembly = Twice({(1, 9.0): 0.6, (2, 5.0): 0.3, (2, 9.0): told})
    assembly.pose = [at(x) for x in (0.0, 9.0, 5.0)]
    found = rivals_in(assembly, assembly.offers)
    assert len(found[2]) == rivals and assembly.pose[2][0, 3] == 5.0


@pytest.mark.parametrize("room", [True, False])
def test_nothing_is_put_where_a_faint_one_would_be_left_without_a_place(room):
    assembly = _Line({(1, 5.0): 0.01, (1, -5.0): 0.01 * room, (2, 9.0): 0.2, (2, 5.0): 0.9})
    found = rivals_in(assembly, assembly.offers)
    assert [p[0, 3] for p in assembly.pose] == ([0, -5, 5] if room else [0, 5, 9])
    assert room or len(found[2]) == 1, "it is a rival all the same"


@pytest.mark.parametrize(
    ("one_way", "backed", "doubted"), [(1, False, False), (2, False, True), (2, True, False)]
)
def test_what_agrees_one_way_only_is_doubted(one_way, backed, doubted):
    """The third of four scans shares as much with each of the others, with ``one_way`` of them one way."""

    class Walled(Told):
        def verdict(self, a, b, pose):
            return replace(verdict(0.2, 0.0), mutual=float(b != 2 or a >= one_way))

    assembly = Walled(4, None)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 10.0, 20.0)], [0] * 4
    given = dict(enumerate(assembly.pose)) if backed else {}
    said = doubts_of(assembly, [[] for _ in range(4)], given, [])
    assert bool(said[2]) == doubted and ("one way" in said[2]) == doubted


@pytest.mark.parametrize(
    ("against", "agree", "expected"),
    [
        ({(1, 5), (1, 6), (1, 7)}, {(5, 6), (6, 7), (1, 2)}, {1}),  # one scan explains them all
        ({(1, 5), (1, 6)}, {(1, 2), (1, 3), (5, 6)}, {1, 5, 6}),  # as likely the two of them
        ({(3, 9)}, {(1, 3), (1, 9)}, {3, 9}),
        ({(1, 5), (1, 6), (3, 9)}, {(5, 6)}, {1, 3, 9}),
        (set(), {(1, 2)}, set()),
    ],
)
def test_who_explains_what_contradicts_is_doubted(against, agree, expected):
    assert judging.apart(against, agree) == expected


@pytest.mark.parametrize(
    ("around", "told", "files", "said"),
    [
        ((1.0, 1.0, 0.3), 0.4, False, "108° around"),  # little fits in many a place
        ((1.0, 1.0, 0.3), 1.1, False, ""),
        ((1.0, 1.0, 0.3), 0.4, True, ""),
        ((1.0, 1.0, 0.3), 0.02, True, "Little speaks"),
        ((1.0, 1.0, 0.7), 0.4, False, ""),
        ((0.3, 0.3, 1.0), 0.4, False, "108° around"),  # all around, but the others are sectors
        ((1.0, 0.3, 1.0), 0.4, False, ""),
        ((1.0, 1.0, 1.0), 0.02, False, "Little speaks"),
    ],
)
def test_what_a_sector_saw_has_to_agree_more(around, told, files, said):
    assembly = Told(3, lambda x: verdict(told, 0.0))
    assembly.pictures = [SimpleNamespace(around=a) for a in around]
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 10.0)], [0] * 3
    given = {k: at(x) for k, x in enumerate((0.0, 4.0, 10.0))} if files else {}
    doubt = doubts_of(assembly, [[], [], []], given, [])[2]
    assert bool(doubt) == bool(said) and said in doubt


@pytest.mark.parametrize(
    ("cost", "around", "files", "hangs"),
    [
        (0.3, 0.2, False, True),
        (0.1, 0.2, False, False),
        (0.3, 1.0, False, False),
        (0.3, 0.2, True, False),
    ],
)
def test_what_hangs_together_with_a_faint_one_alone_is_doubted_with_it(cost, around, files, hangs):
    """Two scans that hold together, and two more of which the last is a sector that agrees with the third."""
    known = {4: verdict(0.9, 0.0), 2: verdict(0.6, 0.0)}
    assembly = Told(4, lambda x: known.get(x, verdict(0.05, cost)))
    assembly.pictures = [SimpleNamespace(around=a) for a in (1.0, 1.0, 1.0, around)]
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 10.0, 12.0)], [0] * 4
    given = {k: at(x) for k, x in enumerate((0.0, 4.0, 10.0, 12.0))} if files else {}
    doubt = doubts_of(assembly, [[] for _ in range(4)], given, [])
    assert ("hangs together" in doubt[2]) == hangs and bool(doubt[3]) == (around < 1 and not files)


@pytest.mark.parametrize(
    ("moved", "files", "said"), [(0.9, False, "Little"), (0.9, True, ""), (0.0, True, "Little")]
)
def test_somebody_who_walked_about_is_no_reason_to_doubt_file_and_surfaces(moved, files, said):
    known = {4: verdict(0.9, 0.0)}
    assembly = Told(3, lambda x: known.get(x, replace(verdict(0.1, 0.98), moved=moved)))
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 10.0)], [0] * 3
    given = {k: at(x) for k, x in enumerate((0.0, 4.0, 10.0))} if files else {}
    assert doubts_of(assembly, [[], [], []], given, [])[2][:6] == said


@pytest.mark.parametrize(
    ("here", "near", "place", "settled"),
    [
        (0.3, verdict(0.5, 0.0), 5.2, True),
        (0.3, verdict(0.31, 0.0), 5.2, False),  # as well
        (0.3, verdict(0.9, 30.0), 5.2, False),  # contradicted
        (0.3, verdict(0.5, 0.0), 5.5, False),  # another place
        (0.85, verdict(0.95, 0.0), 5.2, False),  # sure enough
    ],
)
def test_a_scan_settles_where_most_speaks_for_it_nearby(here, near, place, settled):
    assembly = Told(2, lambda x: {5.0: verdict(here, 0.0), place: near}.get(x, verdict(0.0, 0.0)))
    assembly.pose, assembly.island = [at(0.0), at(5.0)], [0, 0]
    assembly.fixed.add(0)
    fit = cloud_fit.Fit(at(place), 0.002, 0.001, 0.9, 500, np.eye(6), np.zeros(3), True)
    assembly.settle([Offer(0, 1, fit, near)])
    assert assembly.pose[1][0, 3] == (place if settled else 5.0)


@pytest.mark.parametrize(
    ("across", "alone", "moved"), [(1.0, 3.0, True), (0.0, 3.0, False), (1.0, 30.0, True)]
)
def test_scans_that_are_wrong_by_the_same_motion_go_together(across, alone, moved):
    """Three scans of six stand 10 m along, where a hall looks the same; each alone is held by its mates more
    than the other three contradict it, or even refused where it belongs by what mates show of it.
    """

    class Hall(Told):
        def verdict(self, a, b, pose):
            a, b, x = (a, b, pose[0, 3]) if a < b else (b, a, -pose[0, 3])
            off = round(abs(float(x) - 3.0 * (b - a)), 1)
            cost = across if a < 3 <= b else alone
            return verdict(0.9, {0.0: 0.0, 10.0: cost}.get(off, 30.0))

    assembly = Hall(6, None)
    assembly.pose, assembly.island = [at(3.0 * k + 10.0 * (k > 2)) for k in range(6)], [0] * 6
    fit = lambda x: cloud_fit.Fit(at(x), 0.002, 0.001, 0.9, 500, np.eye(6), np.zeros(3), True)
    offers = [Offer(a, b, fit(3.0 * (b - a)), verdict(0.9, 0.0)) for a in range(3) for b in range(3, 6)]
    rivals = rivals_in(assembly, offers)
    apart = assembly.pose[5][0, 3] - assembly.pose[0][0, 3]
    assert apart == pytest.approx(15.0 if moved else 25.0)
    told = [sum(map(len, half)) for half in (rivals[:3], rivals[3:])]
    assert told == [0, 0] if moved else 3 in told, "where all is the same, three might stand elsewhere"
