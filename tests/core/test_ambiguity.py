"""The benchmark's own judge of what a place decides."""

import numpy as np
import pytest

from benchmarks.ambiguity import Evidence
from terrazza.core.geometry import rigid
from tests import places


def _station(x: float, turn: float = 0.0) -> np.ndarray:
    return rigid.make(rigid.about_z(turn), np.array([x, 2.0, 1.6]))


def _tube(length: float, *inside) -> places.Place:
    """A hall 4 m wide and 3 m high from x = −``length``, with things in it."""
    boxes: list = [
        ([-length, -0.1, 0], [length, 0, 3]),
        ([-length, 4, 0], [length, 4.1, 3]),
        *inside,
        ([-length, 0, -0.1], [length, 4, 0]),
        ([-length, 0, 3], [length, 4, 3.1]),
    ]
    return places.Place(boxes=boxes)


CUPBOARD = ([3.0, 0.0, 0.0], [4.2, 0.6, 2.0])
END = ([9.0, 0.0, 0.0], [9.1, 4.0, 3.0])


@pytest.mark.parametrize(
    ("inside", "moved", "held", "beaten"),
    [
        ((), _station(8.0), False, False),  # a bare hall: it slides
        ((), _station(5.0, np.pi), False, False),
        ((CUPBOARD,), _station(5.4), True, True),
        ((CUPBOARD,), _station(5.0, np.pi), True, True),
        ((END,), _station(5.0, 0.0005), True, False),  # within the slack of what is one range
        ((END,), _station(5.5), True, True),
    ],
)
def test_a_place_decides_what_holds_a_scan_and_beats_its_rivals(inside, moved, held, beaten):
    evidence = Evidence.of(_tube(200.0, *inside), [_station(0.0), _station(5.0)], False)
    assert evidence.held(1) == held
    assert evidence.beaten({1: moved}) == beaten
    assert evidence.decides(1, [{1: moved}]) == (held and beaten)
    assert evidence.decides(1, []) == held


def test_what_two_scans_saw_of_nothing_in_common_is_not_decided():
    wall = ([2.4, 0.0, 0.0], [2.6, 4.0, 3.0])
    evidence = Evidence.of(_tube(9.0, wall), [_station(0.0), _station(5.0)], False)
    assert evidence.told({1: _station(5.0)})[0] == pytest.approx(0, abs=1e-9)
    assert not evidence.held(1)
