"""Placements, and fits, by which way ground and rough walls slope."""

from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import cloud_fit, offers, plan_match, relief_match, surface
from terrazza.core.register.picture import Picture
from terrazza.core.register.unheld import across_unheld
from tests import built, meshes, places

NEAR = (1.5, np.radians(4.0))


def hills(seed: int, steep: float = 1.0):
    """A surface of gentle hills and how high it lies."""
    rng = np.random.default_rng(seed)
    waves = [(steep * rng.uniform(0.15, 0.5), *rng.normal(0, 0.3, 2), rng.uniform(0, 6)) for _ in range(6)]
    rise = lambda x, y: sum(h * np.sin(u * x + v * y + p) for h, u, v, p in waves)
    away = lambda x, y: np.stack(
        [-sum(h * q[k] * np.cos(q[0] * x + q[1] * y + p) for h, *q, p in waves) for k in (0, 1)]
        + [np.ones_like(x)],
        1,
    )
    return rng, rise, away


def seen(rng, rise, away, pose: np.ndarray, n: int = 40_000) -> surface.Surface:
    """What lies within 25 m of a pose (4, 4) of the hills, in its frame, sparser farther off."""
    at, heading = 25 * rng.uniform(0.05, 1, n), rng.uniform(0, 2 * np.pi, n)
    x, y = pose[0, 3] + at * np.cos(heading), pose[1, 3] + at * np.sin(heading)
    normals, back = away(x, y), rigid.inverse(pose)
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    normals += rng.normal(0, 0.01, (n, 3))  # half a degree: that of planes through fourteen points
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    xyz = rigid.apply(back, np.stack([x, y, rise(x, y)], 1) + rng.normal(0, 0.003, (n, 3)))
    return surface.Surface(xyz, normals @ back[:3, :3].T, np.ones(n, bool), surface.View.of(xyz))


@pytest.mark.parametrize("seed", range(4))
def test_bare_hills_place_each_other(seed):
    """Nothing stands on them: only the ground tells."""
    rng, rise, away = hills(seed)
    poses = []
    for x, y in rng.uniform(-7, 7, (2, 2)):
        up = float(rise(x, y)) + 1.6
        poses.append(rigid.make(rigid.about_z(rng.uniform(0, 6.28)), np.array([x, y, up])))
    faces = [seen(rng, rise, away, p) for p in poses]
    shapes = [plan_match.PlanShape(f) for f in faces]
    found = relief_match.candidates(*zip(faces, shapes))
    away_from = [rigid.difference(p, rigid.inverse(poses[0]) @ poses[1]) for p in found]
    assert away_from[0][0] < NEAR[0] and away_from[0][1] < NEAR[1] and len(found) <= relief_match.KEPT
    assert not plan_match.candidates(*shapes)  # walls say nothing of it


@pytest.mark.parametrize("steep", [1.0, 0.0])
@pytest.mark.parametrize("seed", range(3))
def test_slopes_that_both_show_hold_a_fit_and_the_noise_of_normals_does_not(seed, steep):
    rng, rise, away = hills(seed, steep)
    at = [np.array([x, y, float(rise(x, y)) + 1.6]) for x, y in rng.normal(0, 4, (2, 2))]
    poses = [rigid.make(np.eye(3), p) for p in at]
    a, b = (seen(rng, rise, away, p) for p in poses)
    truth, begun = rigid.inverse(poses[0]) @ poses[1], np.array([0.09, -0.06, 0.03])
    found = cloud_fit.fit(a, b, rigid.make(np.eye(3), begun) @ truth)
    off = found.pose[:3, 3] - truth[:3, 3]
    if steep:
        sigma = found.rms * np.sqrt(np.linalg.inv(found.information)[4, 4])
        assert not found.free and np.abs(off).max() < 0.008 and 0.0001 < sigma < 0.004
        assert all(abs(shift[2]) < 0.3 for shift in found.sloping)
    else:  # level ground
        assert len(found.free) == 2 and abs(off[2]) < 0.002


@pytest.mark.parametrize(
    ("count", "slope", "held"), [(1000, 0.12, True), (1000, 0.03, False), (12, 0.12, False), (12, 0.6, True)]
)
def test_the_adjustment_holds_what_many_slopes_hold(count, slope, held):
    """Patches of 2 mm that two scans both saw, which slope this and that way: many gentle ones, or few steep
    ones, hold the second against the first.
    """
    heading = np.linspace(0, 2 * np.pi, count, endpoint=False)
    faces = np.stack([slope * np.cos(heading), slope * np.sin(heading), np.ones(count)], 1)
    faces = np.tile(faces / np.linalg.norm(faces, axis=1)[:, None], (2, 1))
    seen = SimpleNamespace(patch=np.tile(np.arange(count), 2), scan=np.repeat([0, 1], count), count=count)
    system = SimpleNamespace(weight=np.full(2 * count, 0.002**-2), facing=faces)
    across = across_unheld(seen, system, 2, 1.0, {0})
    shifts = across.reshape(2, 8, 2, 8)[1, 3:6, 1, 3:6]
    assert np.linalg.matrix_rank(shifts, 1e-6) == (3 if held else 1)
    assert abs(shifts[2, 2] - 1) < 1e-9  # the height is always held


def test_neighbours_in_a_cave_find_each_other_and_rooms_have_no_relief():
    rng = np.random.default_rng(5)
    place, scanner = built.WORLDS["cave"](rng), replace(meshes.Scanner.any(rng), columns=480)
    truth, _, _, xyz = zip(*(scanner.scan(place, [], station, rng) for station in place.stations[:3]))
    faces, pictures = [surface.prepare(p) for p in xyz], [Picture.of(p) for p in xyz]
    shapes = [plan_match.PlanShape(f) for f in faces]
    for a, b in ((0, 1), (1, 2)):
        (best, *_) = offers.offers_of(faces, shapes, pictures, a, b)
        assert rigid.within(best.fit.pose, rigid.inverse(truth[a]) @ truth[b], (0.02, np.radians(0.2)))
    rng = np.random.default_rng(1)
    place = places.WORLDS["rooms"](rng)
    room = surface.prepare(places.scanned(place, "rooms", place.places[0], rng)[2])
    assert relief_match.Relief.of(room, shape := plan_match.PlanShape(room)).share < relief_match.LEAST / 2
    assert not relief_match.candidates((room, shape), (faces[0], shapes[0]))
