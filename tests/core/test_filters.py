"""Filters by the scan's own picture, against simulated truth and against plain definitions."""

import numpy as np
import pytest
import trimesh
from scipy import ndimage

from terrazza.core.clean import mirrors, mixed, shells, specks
from tests import beams, places


def hall(seed):
    """A hall with pillars, boxes and thin beams under its ceiling."""
    rng, boxes = np.random.default_rng(seed), []
    places.shell(boxes, 30, 20, 7)
    for axis, at, length in ((0, 0.0, 30), (0, 20.0, 30), (1, 0.0, 20), (1, 30.0, 20)):
        places.wall(boxes, axis, at, 0, length, [(4, 7, 0, 3)] if at == 20.0 else [], 7, 0.3)
    for _ in range(14):
        x, y, (a, b, h) = rng.uniform(2, 27), rng.uniform(2, 17), rng.uniform(0.4, 2, 3)
        boxes.append(([x, y, 0], [x + a, y + b, h]))
    boxes += [([2, 9.98, 5], [28, 10.02, 5.05]), ([14.98, 1, 4.5], [15.02, 19, 4.54])]
    return places.Place(boxes, posts=[(x, y, 0.2, 0, 7) for x in (8, 22) for y in (5, 15)]), (15.5, 9.0, 1.7)


def terrain(seed):
    """Rolling ground with boxes, trunks, crowns and a rail on posts."""
    rng, boxes, posts, balls = np.random.default_rng(seed), [], [], []
    for _ in range(20):
        x, y = rng.uniform(-22, 22, 2)
        if np.hypot(x, y) > 4:
            posts.append((x, y, rng.uniform(0.05, 0.2), -5, rng.uniform(2, 5)))
            balls.append((x, y, rng.uniform(3, 5), rng.uniform(0.6, 1.4)))
    posts += [(x, 9.0, 0.04, -3, 2.0) for x in np.arange(-15, 15, 2.5)]
    boxes.append(([-15, 8.98, 1.8], [15, 9.02, 1.84]))
    waves = [(0.9, 0.11, 0.05, 0.3), (0.3, 0.3, -0.2, 1.0)]
    return places.Place(boxes, posts=posts, balls=balls, waves=waves), (0, 0, 2.8)


# a rail thinner than a pixel is nowhere measured alone: its pixels cannot be told from a thin thing's
@pytest.mark.parametrize(
    ("place", "least", "scanner"),
    [
        (hall, 0.88, beams.Scanner(300, 720, beam=0.007, spread=0.001, noise=0.004)),
        (terrain, 0.70, beams.Scanner(220, 900, low=-30, high=15)),
    ],
)
def test_mixed_pixels_go_and_thin_things_stay(place, least, scanner):
    made, origin = place(3)
    seen = beams.look(made, origin, scanner, 1)
    state = mixed.judge(seen.r, True)
    taken = state == mixed.MIXED
    near = seen.r < 15
    assert seen.mixed.sum() > 100
    assert taken[seen.mixed & near].mean() > least
    assert taken[seen.good & near].mean() < 0.005
    assert (state[seen.r == 0] == mixed.UNKNOWN).all()
    milder = mixed.judge(seen.r, True, 0.5) == mixed.MIXED
    assert milder.sum() < taken.sum() < (mixed.judge(seen.r, True, 2.0) == mixed.MIXED).sum()


def test_noise_is_told_from_the_scan_itself():
    """Within a quarter of what was put in, at every range that there is."""
    made, origin = hall(5)
    for sigma in (0.001, 0.004):
        seen = beams.look(made, origin, beams.Scanner(300, 720, noise=sigma), 2, first=True)
        told = mixed.noise(seen.r)
        wanted = sigma * (1 + told.at / 40)
        assert len(told.at) >= 3 and (np.abs(told.sigma / wanted - 1) < 0.25).all(), (told, wanted)


def test_a_thin_line_before_a_wall_is_no_edge():
    """One pixel wide and three long or longer, in any direction: none goes."""
    r = np.full((80, 200), 20.0)
    r += np.random.default_rng(0).normal(0, 0.002, r.shape)
    thin = np.zeros(r.shape, bool)
    thin[20, 30:60] = thin[25:45, 90] = True
    k = np.arange(25)
    thin[40 + k, 120 + k] = thin[20 + k // 2, 160 + k] = True
    thin[60:63, 10] = thin[70, 20:23] = True
    r[thin] = 8.0 + np.random.default_rng(1).normal(0, 0.002, thin.sum())
    assert not (mixed.judge(r, False) == mixed.MIXED)[thin].any()


def test_specks_are_told_like_a_labelling_does():
    """Cells and their clusters against scipy's labelling of the same grid."""
    rng = np.random.default_rng(4)
    grid = rng.random((30, 40, 20)) < 0.03
    cells = np.argwhere(grid)
    code = np.sort(specks.codes(cells))
    assert (specks.cells_of(code)[np.lexsort(cells.T[::-1])] >= 0).all()
    mine = specks.clusters(code)
    labels, most = ndimage.label(grid, np.ones((3, 3, 3)))
    theirs = labels[tuple(specks.cells_of(code).T)]
    assert mine.max() + 1 == most
    assert len(np.unique(np.stack([mine, theirs]), axis=1).T) == most, "the same partition"
    around = ndimage.binary_dilation(grid, np.ones((3, 3, 3))) & ~grid
    inner = specks.cells_of(specks.rim(code))
    inner = inner[((inner >= 0) & (inner < grid.shape)).all(1)]
    assert set(map(tuple, inner)) == set(map(tuple, np.argwhere(around)))


@pytest.mark.parametrize("bend", [None, 30.0, 12.0])
def test_a_vault_is_followed_within_a_millimetre(bend):
    """A round vault, straight or bent, with a twentieth of its points up to half a metre before it."""
    rng, n = np.random.default_rng(1), 200_000
    s, a, radius = rng.uniform(0, 16, n), rng.uniform(0, np.pi, n), 2.4
    way = lambda t: (
        np.stack([t, 0 * t, 0 * t], 1)
        if bend is None
        else np.stack([bend * np.sin(t / bend), bend * (1 - np.cos(t / bend)), 0 * t], 1)
    )
    turn = 0 * s if bend is None else s / bend
    side = np.stack([-np.sin(turn), np.cos(turn), 0 * turn], 1)
    out = np.cos(a)[:, None] * side + np.sin(a)[:, None] * [0, 0, 1]
    off = np.where(rng.random(n) < 0.05, rng.uniform(0.05, 0.5, n), 0) + rng.normal(0, 0.002, n)
    xyz = way(s) + (radius - off)[:, None] * out
    line = way(np.array([0.3, 5.0, 10.0, 15.7])) + rng.normal(0, 0.04, (4, 3))
    vault = shells.vault(xyz, line, 0.1)
    beside = vault.along(xyz)
    assert beside.mean() > 0.93 and np.abs(vault.radius - radius).max() < 0.001
    assert np.quantile(np.abs(vault.away(xyz) - off)[beside], 0.999) < 0.001


def test_distances_from_triangles_are_those_of_a_library():
    mesh = trimesh.creation.icosphere(3, 2.0).apply_scale([1, 0.7, 0.5])
    flat = [[0, 0, 1], [5, 5, 5]]  # triangles without area are no part of a surface
    own = shells.Triangles(np.asarray(mesh.vertices), np.r_[mesh.faces, flat], 0.6)
    points = np.random.default_rng(2).uniform(-2.2, 2.2, (3000, 3)) * [1, 0.7, 0.5]
    told = own.away(points)
    nearest = np.array(
        [
            trimesh.triangles.closest_point(mesh.triangles, np.repeat(p[None], len(mesh.faces), 0))
            for p in points[:200]
        ]
    )
    away = np.linalg.norm(nearest - points[:200, None], axis=2).min(1)
    near = away < 0.6
    assert np.allclose(np.abs(told[:200][near]), away[near], atol=1e-9) and np.isnan(told[:200][~near]).all()
    inside = (points / [1, 0.7, 0.5]) @ np.eye(3)
    clear = ~np.isnan(told) & (np.abs(np.linalg.norm(inside, axis=1) - 2) > 0.05)
    assert ((told > 0) == (np.linalg.norm(inside, axis=1) > 2))[clear].all()


def test_throwing_back_twice_is_nothing():
    rng = np.random.default_rng(3)
    normal, xyz = np.array([0.6, 0.0, 0.8]), rng.normal(0, 5, (50, 3))
    once = mirrors.reflected(xyz, normal, -2.0)
    assert np.allclose(mirrors.reflected(once, normal, -2.0), xyz)
    assert np.allclose((once @ normal + 2.0), -(xyz @ normal + 2.0))
