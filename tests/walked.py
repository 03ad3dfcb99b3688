"""Walks with a hand-held scanner that drifts, through simulated places, and the truth of every point."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from tests import beams
from tests.boxes import Place, cast, furnish, shell, wall

RINGS, ROUND, RATE, SPEED, NOISE = 16, 120, 5.0, 0.9, 0.008


@dataclass
class Walked:
    """Points as the scanner's drifting path has them and true ones (n, 3), their times, and the path: times,
    places so found and true ones; ``wide`` (n,) m from the nearest to the farthest thing that a beam met.
    """

    xyz: np.ndarray
    truth: np.ndarray
    time: np.ndarray
    path_time: np.ndarray
    path_xyz: np.ndarray
    path_true: np.ndarray
    wide: np.ndarray


def rooms(rng) -> tuple[Place, np.ndarray]:
    """Two furnished rooms with a door between them, a station in each, and a way of about 60 m through both
    and back, corners (n, 3).
    """
    wide, deep, high, at = (
        rng.uniform(13, 15),
        rng.uniform(7.5, 9),
        rng.uniform(2.7, 3.3),
        rng.uniform(6, 7.5),
    )
    place = Place(moving=False)
    shell(place.boxes, wide, deep, high)
    for axis, where, stop in ((0, 0.0, wide), (0, deep, wide), (1, 0.0, deep), (1, wide, deep)):
        wall(place.boxes, axis, where, 0.0, stop, [], high)
    door = rng.uniform(2.5, deep - 3.5)
    wall(place.boxes, 1, at, 0.0, deep, [(door, door + 1.1, 0.0, 2.1)], high)
    through = np.array([at, door + 0.55])
    left = np.array([[1.4, 1.4], [at - 1.3, 1.5], [at - 1.4, deep - 1.5], [1.5, deep - 1.4]])
    right = np.array([[at + 1.4, 1.4], [wide - 1.4, 1.5], [wide - 1.5, deep - 1.4], [at + 1.4, deep - 1.5]])
    ways = [left, left[:2], [through], right, right[:3], [through], left[:2]]
    corners = np.concatenate([np.reshape(w, (-1, 2)) for w in ways])
    place.places = [(at / 2, deep / 2, 0.0), ((at + wide) / 2, deep / 2, 0.0)]
    keep = [*corners, *(p[:2] for p in place.places)]
    furnish(place.boxes, rng, 0.2, at - 0.2, 0.2, deep - 0.2, keep, 7)
    furnish(place.boxes, rng, at + 0.2, wide - 0.2, 0.2, deep - 0.2, keep, 7)
    return place, np.c_[corners, np.full(len(corners), 1.5)]


def drift(rng, along: np.ndarray, most: float, turn: float) -> tuple[np.ndarray, np.ndarray]:
    """Shift (n, 3) and heading (n,) along a way: smooth, up to ``most`` m and ``turn`` rad in the end."""
    s = along / along[-1]
    ahead = rng.normal(size=3) * [1, 1, 0.4]
    ahead *= most / np.linalg.norm(ahead)
    wave = sum(
        np.outer(np.sin(2 * np.pi * f * s + rng.uniform(0, 6)), rng.normal(size=3) * [1, 1, 0.4]) / f
        for f in (1, 2, 3)
    )
    wave -= wave[0]
    return np.outer(s, ahead) + 0.25 * most * wave / np.abs(wave).max(), turn * s + 0.3 * turn * np.sin(5 * s)


def walk(
    place: Place,
    corners: np.ndarray,
    rng,
    most: float = 0.05,
    turn: float = 0.004,
    round_: int = ROUND,
    beam: tuple[float, float] | None = None,
) -> Walked:
    """Walk along corners (n, 3) in the frame of the place, ``round_`` points a ring; ``beam`` (m at the
    instrument, rad) has a width, or none.
    """
    steps = np.linalg.norm(np.diff(corners, axis=0), axis=1)
    far = np.r_[0, np.cumsum(steps)]
    times = np.arange(0, far[-1] / SPEED, 1 / RATE)
    places = np.stack([np.interp(times * SPEED, far, c) for c in corners.T], 1)
    places[:, 2] += 0.02 * np.sin(times * 11)
    shift, heading = drift(rng, times * SPEED + 1e-9, most, turn)
    boxes = [np.array([b[k] for b in place.boxes], float) for k in (0, 1)]
    posts, none = np.array(place.posts, float).reshape(-1, 5), np.zeros((0, 4))
    around = np.arange(round_) / round_ * 2 * np.pi
    rings = np.radians(np.linspace(-40, 40, RINGS))
    az, el = (a.ravel() for a in np.meshgrid(around, rings))
    rays = np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], 1)
    seen, true, when, wide = [], [], [], []
    for k, t in enumerate(times):
        nod = rigid.rotation_from(np.array([0, 0.6 * np.sin(3.1 * t), 0]))
        mine = rays @ (rigid.about_z(rng.uniform(0, 6.28)) @ nod).T
        met = lambda ways, o=places[k]: cast(o, np.ascontiguousarray(ways), *boxes, posts, none, none)
        r, _, apart, _ = beams.met_by(met, mine, *(beam or (0.0, 0.0)), 5 if beam else 1)
        good = r < 30
        local = mine[good] * (r[good] + rng.normal(0, NOISE, good.sum()))[:, None]
        true.append(places[k] + local)
        seen.append(places[k] + shift[k] + local @ rigid.about_z(heading[k]).T)
        when.append(np.full(len(local), t))
        wide.append(apart[good])
    points = (np.concatenate(of) for of in (seen, true, when))
    return Walked(*points, times, places + shift, places, np.concatenate(wide))
