"""What a cloud fit makes of round things, and of what only scattered surfaces hold."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import cloud_fit, surface
from tests.meshes import Mesh, Scanner


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_columns_seen_from_two_sides_hold_a_fit(seed):
    """A slab on round columns of 0.3 to 0.8 m, no walls: of each the two scans share some of the round."""
    rng, place = np.random.default_rng(seed), Mesh()
    place.prism([(-9, -9), (9, -9), (9, 9), (-9, 9)], -0.3, 0.0)
    for x, y in rng.uniform(-8, 8, (14, 2)):
        if min(np.hypot(x, y + 3), np.hypot(x, y - 3)) > 1:
            place.pipe((x, y, 0), (x, y, 3), rng.uniform(0.15, 0.4), sides=48)
    scanner = Scanner(900, True, 40.0, (0.001, 0.0), 0.3, 0.0)
    scans = [scanner.scan(place, [], (0.3, y, 0.0), rng) for y in (-3.0, 3.0)]
    true = rigid.inverse(scans[0][0]) @ scans[1][0]
    start = rigid.make(rigid.about_z(np.radians(0.3)), np.array([0.02, -0.02, 0.01])) @ true
    found = cloud_fit.fit(*(surface.prepare(s[-1]) for s in scans), start)
    shift, turn = rigid.difference(found.pose, true)
    assert shift < 0.0012 and np.degrees(turn) < 0.02 and not found.free and not found.scattered


@pytest.mark.parametrize(
    ("noise", "of_all", "free", "told"),
    [
        (0.001, 0.001, [], False),  # they lie where they should
        (0.030, 0.001, [], True),  # scattered
        (0.030, 0.007, [], False),  # no more than all the rest: rough ground
        (0.030, 0.001, [[1.0, 0, 0]], False),  # nothing holds it anyway
    ],
)
def test_what_faces_a_shift_and_lies_scattered_does_not_hold_it(noise, of_all, free, told):
    rng = np.random.default_rng(4)
    facing = np.repeat(np.eye(3), [60, 400, 400], axis=0)
    distances = rng.normal(0, np.repeat([noise, of_all, of_all], [60, 400, 400]))
    found = cloud_fit._scattered(facing, distances, np.ones(860), [np.array(f) for f in free])
    assert len(found) == told
    if told:
        assert abs(found[0][0]) == pytest.approx(0.03, abs=0.007)
        assert found[0][1:] == pytest.approx(0.0)
