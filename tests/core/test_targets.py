"""Checkerboards of unknown size against where they hang."""

import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.register import discs, sharp, spheres, targets
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


def things_touched(seed=203, step=np.radians(0.22)):
    """(kind, true place, across, touched point, step in m, what is near) of what a simulated room shows."""
    rng = np.random.default_rng(seed)
    size, place, hung = boards.room(rng)
    round_ones = boards.hung_discs(rng, size, hung)
    _, _, xyz, light = boards.scan(rng, size, place, hung, 0.0, step, round_ones)
    tree = cKDTree(xyz)
    on = lambda axis, side, c: np.insert(c, axis, size[axis] if side else 0.0) - place
    wanted = [("checkerboard", on(a, s, c), 0.1 * edge) for a, s, c, _, edge in hung]
    wanted += [("disc", on(a, s, c), 0.2 * radius) for a, s, c, radius, _ in round_ones]
    wanted += [("corner", size * [(k >> j) & 1 for j in range(3)] - place, None) for k in range(8)]
    for kind, at, off in wanted:
        far = float(np.linalg.norm(at)) * step
        if off is None or off > {"checkerboard": 0.1 * 7, "disc": 0.2 * 4.5}[kind] * far:
            touch = xyz[tree.query(at + rng.normal(0, min(off or far, 1.5 * far), 3))[1]]
            near = tree.query_ball_point(touch, sharp.REACH)
            yield kind, at, touch, far, sharp.about(xyz[near], light[near], touch)


def test_what_is_touched_is_placed_finer_than_the_points_lie_apart():
    kinds, ratios = [], []
    for kind, at, touch, far, near in things_touched():
        found = sharp.sharpen(near, touch)
        kinds.append((kind, found.kind))
        if found.kind == kind:
            off = np.linalg.norm(found.centre - at)
            assert off < max(0.0015, 0.35 * far), (kind, off, far)
            ratios.append(off**2 / 2 / found.sigma**2)
    right = sum(a == b for a, b in kinds)
    assert len(kinds) >= 14 and right >= 0.8 * len(kinds), kinds
    assert 0.05 < np.mean(ratios) < 9  # pixels along an edge are not independent of each other


def test_edges_walls_and_too_few_points_are_told_as_what_they_are():
    rng = np.random.default_rng(3)
    flat = lambda n: np.c_[rng.uniform(-0.3, 0.3, (n, 2)), np.zeros(n)]
    grey = lambda p: np.full(len(p), 500.0) + rng.normal(0, 5, len(p))
    at = np.array([4.0, 1.0, -1.0])
    wall, floor = flat(6000) + rng.normal(0, 0.001, (6000, 3)), flat(6000)[:, [0, 2, 1]]
    floor = floor[floor[:, 2] > 0] + rng.normal(0, 0.001, (int((floor[:, 2] > 0).sum()), 3))
    half = wall[wall[:, 1] > 0]
    both = np.concatenate([half, floor]) + at
    edge = sharp.sharpen(sharp.about(both, grey(both), at), at + [0.004, 0.006, 0.002])
    assert edge.kind == "edge" and np.linalg.norm((edge.centre - at)[1:]) < min(0.001, 4 * edge.sigma)
    assert abs(edge.centre[0] - at[0] - 0.004) < 0.002  # along it, where it was touched
    plain = sharp.sharpen(sharp.about(wall + at, grey(wall), at), at)
    assert plain.kind == "point" and np.array_equal(plain.centre, at) and 0.001 < plain.sigma < 0.02
    drawn = np.where((wall[:, 0] > 0.01) & (wall[:, 1] > -0.02), 900.0, 200.0) + rng.normal(0, 5, len(wall))
    corner = sharp.sharpen(sharp.about(wall + at, drawn, at), at)
    off = np.linalg.norm(corner.centre - at - [0.01, -0.02, 0])
    assert corner.kind == "drawn corner" and off < min(0.008, 4 * corner.sigma)  # of 8 mm between points
    assert sharp.sharpen(sharp.about(wall[:3] + at, grey(wall[:3]), at), at).kind == "point"
