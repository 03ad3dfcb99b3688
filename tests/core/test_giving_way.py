"""Scans that give way to those that belong where they stand: a stairwell of which only heights are known."""

from types import SimpleNamespace

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register.across import beside_like_ones, claimed, little_held, torn
from terrazza.core.register.assembly import Assembly
from terrazza.core.register.contradiction import Verdict
from terrazza.core.register.giving_way import made_way
from terrazza.core.register.offers import Offer

# two landings, the half landings over each, and the landing over those
LOWER, BETWEEN, UPPER, OVER, TOP = range(5)
HEIGHT = {LOWER: 0.0, BETWEEN: 1.5, UPPER: 3.0, OVER: 4.5, TOP: 6.0}


class Heights(Assembly):
    """Scans of which pairs agree at certain differences of height, and contradict each other at none; those
    that are ``strict`` contradict the others at all else.
    """

    def __init__(self, told, fixed=frozenset(), strict=frozenset()):
        super().__init__([SimpleNamespace(around=1.0, xyz=np.full(3, k)) for k in range(5)], set(fixed))
        self.told, self.strict = told, strict

    def gross(self, a, b, pose):
        return False

    def verdict(self, a, b, pose):
        if a > b:
            a, b, pose = b, a, rigid.inverse(pose)
        up = round(float(pose[2, 3]), 1)
        told = self.told.get((a, b, up), 0.0)
        against = up == 0 or bool({a, b} & self.strict and not told)
        return Verdict((told, told), told, told, 5.0 * against, 0.0, [])


def _up(by):
    return rigid.make(np.eye(3), np.array([0.0, 0.0, by]))


TRUE = [(a, b, HEIGHT[b] - HEIGHT[a], 0.55) for a, b in ((0, 1), (1, 2), (2, 3), (3, 4))]
TAKEN = (LOWER, OVER, 1.5, 0.5)  # the lower landing looks like the upper one


# by scan its height and island: the lower landing in the upper one's place
WRONGLY = {LOWER: (3.0, 0), OVER: (4.5, 0), TOP: (6.0, 0), BETWEEN: (0.0, 1), UPPER: (1.5, 1)}


def _stood(pairs, places=WRONGLY, **options):
    """An assembly of scans at some places, and offers of all pairs."""
    assembly = Heights({(a, b, up): told for a, b, up, told in pairs}, **options)
    for k, (height, island) in places.items():
        assembly.pose[k], assembly.island[k] = _up(height), island
    offers = [
        Offer(a, b, SimpleNamespace(pose=_up(up)), assembly.verdict(a, b, _up(up))) for a, b, up, _ in pairs
    ]
    return assembly, sorted(offers, key=lambda o: -o.evidence)


def test_a_landing_gives_way_to_the_one_that_belongs_there_and_goes_where_it_belongs():
    way = made_way(*_stood([*TRUE, TAKEN]))
    heights = [way.assembly.pose[k][2, 3] - way.assembly.pose[TOP][2, 3] for k in range(5)]
    assert heights == pytest.approx([HEIGHT[k] - HEIGHT[TOP] for k in range(5)])
    assert len(set(way.assembly.island)) == 1
    assert not way.contested and not any(way.rivals)


@pytest.mark.parametrize(("told", "contested"), [(0.5, True), (0.68, False)])
def test_one_that_has_nowhere_else_is_contested_unless_clearly_more_speaks_for_it(told, contested):
    """Nothing is offered of the lower landing but the place where it stands."""
    pairs = [p for p in TRUE if LOWER not in p[:2]] + [(*TAKEN[:3], told)]
    assembly, offers = _stood(pairs)
    pairs = {(UPPER, OVER): 0.5}
    assembly.told |= {(a, b, HEIGHT[b] - HEIGHT[a]): told for (a, b), told in pairs.items()}
    way = made_way(assembly, offers)
    assert way.contested == ({LOWER} if contested else set())
    assert way.assembly.pose[LOWER][2, 3] == pytest.approx(3.0)


@pytest.mark.parametrize(
    ("told", "own", "place", "contested"),
    [
        (0.5, 0.0, 3.0, True),
        (0.5, 0.75, 3.0, False),  # more speaks for where it is
        (0.75, 0.0, 3.0, True),  # it has no other place
        (0.75, 0.1, 3.0, False),  # and here more speaks for the one that stands there
        (0.5, 0.0, 1.5, False),  # nobody is in its way
    ],
)
def test_a_scan_in_whose_place_one_of_another_island_fits_as_well_is_contested(told, own, place, contested):
    """The lower landing stands in the place of the upper one, which is elsewhere with the half landing."""
    pairs = [(UPPER, OVER, 1.5, 0.55), (*TAKEN[:3], told), (OVER, TOP, 1.5, 0.55), (BETWEEN, UPPER, 1.5, own)]
    assembly, offers = _stood(pairs, WRONGLY | {LOWER: (place, 0), UPPER: (1.5, 1)})
    assert claimed(assembly, offers) == ({LOWER} if contested else set())


@pytest.mark.parametrize(
    ("told", "own", "contested"), [(0.5, 0.1, {LOWER}), (0.75, 0.1, set()), (0.5, 0.9, set())]
)
def test_a_scan_that_little_holds_may_belong_where_another_of_its_island_stands(told, own, contested):
    """The lower landing stands in the upper one's place, and the upper one in its."""
    pairs = [(UPPER, OVER, 1.5, 0.55), (*TAKEN[:3], told), (OVER, TOP, 1.5, 0.55), (UPPER, TOP, 6.0, own)]
    stands = {LOWER: (3.0, 0), BETWEEN: (9.0, 1), UPPER: (0.0, 0), OVER: (4.5, 0), TOP: (6.0, 0)}
    assert claimed(*_stood(pairs, stands)) == contested


@pytest.mark.parametrize(
    ("up", "told", "fixed", "found"),
    [
        (-1.5, 0.4, (), {BETWEEN}),
        (-1.5, 0.1, (), {BETWEEN}),  # the other one has fewer that would see it
        (-1.5, 0.05, (), set()),  # clearly more speaks for where it is
        (1.5, 0.4, (), set()),  # and here both may be right
        (-1.5, 0.4, (BETWEEN,), set()),
    ],
)
def test_a_scan_is_torn_between_two_islands_that_cannot_both_be_right(up, told, fixed, found):
    """A half landing fits as well over the lower landing as over the upper one, which is an island of its
    own.
    """
    pairs = [(LOWER, BETWEEN, 1.5, 0.4), (BETWEEN, UPPER, up, told)]
    stands = {LOWER: (0.0, 0), BETWEEN: (1.5, 0), UPPER: (0.0, 1), OVER: (0.0, 2), TOP: (0.0, 3)}
    assert torn(*_stood(pairs, stands, fixed=set(fixed))) == found


@pytest.mark.parametrize("kept", ["fixed", "faint offer"])
def test_what_is_fixed_does_not_give_way_and_faint_offers_move_nothing(kept):
    weak = [(a, b, up, 0.3 if {a, b} == {UPPER, OVER} else told) for a, b, up, told in TRUE]
    assembly, offers = _stood(
        [*(TRUE if kept == "fixed" else weak), TAKEN], **({"fixed": {LOWER}} if kept == "fixed" else {})
    )
    way = made_way(assembly, offers)
    assert way.assembly is assembly and not way.contested


def test_a_scan_that_came_wrongly_with_another_is_left_behind_and_goes_where_it_belongs():
    """The top landing hangs on the one between alone, one storey too low: that one has its place with the
    others, and the top is taken along no farther.
    """
    more = [(BETWEEN, TOP, 4.5, 0.2), (LOWER, TOP, 6.0, 0.2), (UPPER, TOP, 3.0, 0.2)]
    pairs = [*TRUE, *more, (BETWEEN, TOP, 1.5, 0.5)]
    came = {LOWER: (0.0, 0), UPPER: (3.0, 0), OVER: (4.5, 0), BETWEEN: (0.0, 1), TOP: (1.5, 1)}
    way = made_way(*_stood(pairs, came, strict={TOP}))
    assert len(set(way.assembly.island)) == 1
    assert [way.assembly.pose[k][2, 3] for k in range(5)] == pytest.approx(list(HEIGHT.values()))


@pytest.mark.parametrize(
    ("aside", "beside", "known", "found"),
    [
        (0.3, (0.3, 0.3), False, {TOP}),
        (0.0, (0.3, 0.3), False, set()),  # over one mark: one place twice
        (1.1, (0.3, 0.3), False, set()),  # two places
        (0.3, (0.3, 0.0), False, set()),  # it has little in common with one of them
        (0.3, (0.5, 0.5), False, set()),  # much speaks for where it is
        (0.8, (0.3, 0.3), False, {TOP}),  # where they saw quite the same
        (0.3, (0.3, 0.3), True, set()),  # it is known where else one may be
    ],
)
def test_beside_two_that_look_alike_nothing_tells_to_which_one_belongs(aside, beside, known, found):
    class Rooms(Heights):
        def verdict(self, a, b, pose):
            a, b = min(a, b), max(a, b)
            told = 0.95 if (a, b) == (LOWER, UPPER) else beside[a == UPPER] if b == TOP else 0.0
            return Verdict((told, told), told, told, 0.0, 0.0, [])

    assembly = Rooms({})
    assembly.island = [0, 1, 0, 2, 0]
    assembly.pose[UPPER] = rigid.make(np.eye(3), np.array([aside, 0.0, 0.1]))
    assembly.pose[TOP] = rigid.make(np.eye(3), np.array([4.0, 0.0, 0.0]))
    rivals = [[np.eye(4)] * known, [], [], [], []]
    assert beside_like_ones(assembly, rivals) == found


def test_what_little_holds_among_rooms_that_repeat_themselves_is_doubted():
    pairs = [(LOWER, BETWEEN, 1.5, 0.15), (UPPER, OVER, 1.5, 0.15), (OVER, TOP, 1.5, 0.55)]
    assembly, _ = _stood(pairs, {k: (HEIGHT[k], int(k > BETWEEN)) for k in range(5)}, fixed={LOWER})
    assert little_held(assembly, frozenset({TOP})) == {UPPER}
    assert little_held(assembly, frozenset({LOWER})) == {BETWEEN}
    assert not little_held(assembly, frozenset())
