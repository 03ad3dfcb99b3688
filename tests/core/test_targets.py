"""Checkerboards of unknown size against where they hang."""

import numpy as np
import pytest

from terrazza.core.register import discs, spheres, targets
from terrazza.core.register.sighted import Grid
from tests import boards

STEP = np.radians(0.25)
SIZE, PLACE = np.array([6.0, 5.0, 2.8]), np.array([3.0, 2.4, 1.6])


def found(hung, tiles=0.0, **more):
    return targets.checkerboards(
        Grid.of(*boards.scan(np.random.default_rng(1), SIZE, PLACE, hung, tiles, STEP)), **more
    )


@pytest.fixture(scope="module")
def seen():
    """Boards of four sizes on walls and floor: (axis, side, centre on the face, turn, edge), and what is
    found.
    """
    hung = [
        (0, 1, np.array([1.5, 1.5]), 0.3, 0.3),
        (1, 0, np.array([3.6, 1.4]), 0.9, 0.14),
        (1, 1, np.array([2.2, 1.7]), 1.3, 0.45),
        (2, 0, np.array([3.9, 1.6]), 0.5, 0.4),
        (0, 0, np.array([3.5, 1.8]), 0.0, 0.2),
    ]
    return hung, found(hung)


def test_boards_of_any_size_and_turn_are_found_on_walls_and_floor(seen):
    hung, got = seen
    assert len(got) == len(hung)
    for axis, side, centre, _, edge in hung:
        at = np.insert(centre, axis, SIZE[axis] if side else 0.0) - PLACE
        best = min(got, key=lambda t: np.linalg.norm(t.centre - at))
        off = best.centre - at - best.normal * (best.normal @ (best.centre - at))
        assert np.linalg.norm(off) < max(
            0.001, 0.2 * STEP * np.linalg.norm(at)
        )  # edges along the scan lines are only as good as their sampling
        assert (
            0.65 < best.edge / edge < 1.45
            and best.fit > 0.75
            and np.linalg.norm(off) < 6 * best.sigma + 0.0005
        )
        assert abs(np.degrees(best.incidence) - np.degrees(np.arccos(abs(at[axis]) / np.linalg.norm(at)))) < 3


def test_tiles_and_posters_are_no_boards():
    assert found([], tiles=0.3) == []


def test_a_told_size_finds_the_same_centre(seen):
    hung, got = seen
    told = found(hung[2:3], board=0.45)
    assert len(told) == 1 and min(np.linalg.norm(t.centre - told[0].centre) for t in got) < 0.002


@pytest.fixture(scope="module")
def sighted():
    """A room with spheres on poles, heads and jugs, discs and boards: the grid, what stands, what hangs."""
    rng = np.random.default_rng(103)
    size, place, hung = boards.room(rng)
    round_ones, things = boards.hung_discs(rng, size, hung), boards.stood(rng, size, place)
    return (
        Grid.of(*boards.scan(rng, size, place, hung, 0.15, np.radians(0.22), round_ones, things)),
        size,
        place,
        round_ones,
        things[:6],
    )


def test_spheres_of_any_radius_are_found_and_heads_are_not(sighted):
    grid, _, place, _, things = sighted
    got = spheres.spheres(grid)
    near = [c - place for c, axes in things if axes[0] / np.linalg.norm(c - place) > 6 * np.radians(0.22)]
    assert len(near) >= 3
    for at in near:
        best = min(got, key=lambda t: np.linalg.norm(t.centre - at))
        assert np.linalg.norm(best.centre - at) < min(0.003, 5 * best.sigma) and best.sigma < 0.003
    assert all(min(np.linalg.norm(t.centre - c + place) for c, _ in things) < 0.02 for t in got)
    radius = next(axes[0] for c, axes in things if np.allclose(c - place, near[0]))
    assert any(np.linalg.norm(t.centre - near[0]) < 0.003 for t in spheres.spheres(grid, radius))


def test_discs_are_found_on_walls_and_floor_and_nothing_else_is_one(sighted):
    grid, size, place, hung, _ = sighted
    got = discs.discs(grid)
    true = [np.insert(c, axis, size[axis] if side else 0.0) - place for axis, side, c, _, _ in hung]
    assert len(got) >= 4
    for t in got:
        k = int(np.argmin([np.linalg.norm(t.centre - at) for at in true]))
        off = t.centre - true[k] - t.normal * (t.normal @ (t.centre - true[k]))
        assert np.linalg.norm(off) < min(0.0015, 5 * t.sigma) and abs(t.edge / 2 - hung[k][3]) < 0.004
    assert len({int(np.argmin([np.linalg.norm(t.centre - at) for at in true])) for t in got}) == len(got)
