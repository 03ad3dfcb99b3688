"""Placements by which way ground and rough walls slope."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import offers, plan_match, relief_match, surface
from terrazza.core.register.picture import Picture
from tests import built, places

NEAR = (1.5, np.radians(4.0))


def hills(seed: int) -> "tuple":
    """A surface of gentle hills and how high it lies."""
    rng = np.random.default_rng(seed)
    waves = [(rng.uniform(0.15, 0.5), *rng.normal(0, 0.3, 2), rng.uniform(0, 6)) for _ in range(6)]
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


def test_neighbours_in_a_cave_find_each_other_and_rooms_have_no_relief():
    _, _, swept = built.swept("cave", np.random.default_rng(5))
    truth, _, _, xyz = zip(*swept[:3])
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
