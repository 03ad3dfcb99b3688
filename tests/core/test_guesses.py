"""Where scans that stand aside may belong."""

import numpy as np
import pytest

from terrazza.core.register import cloud_fit
from terrazza.core.register.guesses import guesses
from terrazza.core.register.offers import Offer
from terrazza.core.register.search import _numbered
from tests.told import Told, at, verdict

CALM, NO = verdict(0.0, 0.0), verdict(0.0, 60.0)


@pytest.mark.parametrize(
    ("says", "places"),
    [
        ({9.0: verdict(0.1, 0.0), 20.0: verdict(0.3, 0.0)}, [20.0, 9.0]),  # best first
        ({9.0: verdict(0.1, 1.5), 20.0: NO}, [9.0]),  # a little more against it than for it
        ({9.0: verdict(0.1, 2.5), 20.0: NO}, []),
        ({9.0: verdict(0.1, 0.0), 14.0: NO, 20.0: NO}, []),  # the other one of the island looked through it
    ],
)
def test_guesses_are_what_hardly_anything_contradicts(says, places):
    """Two scans 5 m from each other, and one that stands aside; offers of it at 9 and 20 m from the first."""
    assembly = Told(3, lambda x: says.get(abs(x), CALM))
    assembly.pose[1], assembly.island[1] = at(-5.0), 0
    fit = lambda x: cloud_fit.Fit(at(x), 0.002, 0.001, 0.5, 500, np.eye(6), np.zeros(3), True)
    offers = [Offer(0, 2, fit(x), says[x]) for x in (9.0, 20.0)]
    assert [p[0, 3] for p in guesses(assembly, offers, 2, [0, 1])] == pytest.approx(places)
    placed = _numbered(assembly, [[], [], []], ["", "", "alone"], {0: at(100.0)}, set(), offers)
    assert placed.island == [1, 1, 0] and placed.poses[2] is None
    assert [p[0, 3] for p in placed.rivals[2]] == pytest.approx([100.0 + x for x in places])
