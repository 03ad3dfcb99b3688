"""Simulated drives: a car with two leaning ring scanners through a street of house fronts and gaps, up and
down again, each place seen several times; the cloud does not know how the scanner is turned on the car.
"""

import numpy as np

from tests.flown import Flown, attitude

SPEED, RATE, UP, REACH = 6.0, 50.0, 2.2, 45.0  # m/s, 1/s, m, m
BOTH = [((0, -2), (150, -2)), ((150, 2), (0, 2))]
THREE = [*BOTH, ((0, -1), (150, -1))]


def street(rng) -> list[tuple]:
    """Walls as (axis, place along it, from and to along the other, height)."""
    walls, x = [], 0.0
    while x < 150:
        wide = rng.uniform(8, 15)
        for side in (-1, 1):
            walls.append((1, side * (9 + rng.uniform(0, 1.5)), x, x + wide, rng.uniform(6, 12)))
            walls.append((0, x + wide, *sorted((side * 8.5, side * 14)), 6.0))
        x += wide + rng.uniform(0, 4)
    return walls


def ranges(eye: np.ndarray, ray: np.ndarray, walls) -> np.ndarray:
    """(n,) m to what rays (n, 3) from places (n, 3) meet first: the road or a wall; infinite for nothing."""
    down = np.where(ray[:, 2] < -1e-6, -eye[:, 2] / np.minimum(ray[:, 2], -1e-6), np.inf)
    for axis, place, low, high, tall in walls:
        r = (place - eye[:, axis]) / np.where(np.abs(ray[:, axis]) < 1e-9, 1e-9, ray[:, axis])
        hit = eye + r[:, None] * ray
        along, up = hit[:, 1 - axis], hit[:, 2]
        on = (r > 0) & (along > low) & (along < high) & (up > 0) & (up < tall)
        down = np.where(on & (r < down), r, down)
    return down


def drive(rng, turn, routes=BOTH, noise=0.01, shift=0.0, dense=2000) -> Flown:
    """Drive routes with the scanner turned by ``turn`` (3,) rad; ``shift`` (m) is how far each is off."""
    walls, time, place, angles, parts, now = street(rng), [], [], [], [], 1000.0
    for start, end in routes:
        start, end = np.array(start, float), np.array(end, float)
        length = np.linalg.norm(end - start)
        course = np.arctan2(*(end - start)[::-1])
        t = np.arange(0, length / SPEED, 1 / RATE)
        wave = lambda most: sum(
            most / k * np.sin(2 * np.pi * t * k / rng.uniform(5, 9) + rng.uniform(0, 6)) for k in (1, 3)
        )
        at = np.c_[start + (t / t[-1])[:, None] * (end - start), np.full(len(t), UP)]
        at += np.stack([wave(0.05), wave(0.15), wave(0.02)], 1)
        way = np.stack([wave(0.01), wave(0.01), course + wave(0.03)], 1)
        when = rng.uniform(0, t[-1], int(length * dense))
        own = np.stack([np.interp(when, t, v) for v in (*at.T, *way.T)], 1)
        phase, lean = rng.uniform(0, 2 * np.pi, len(when)), rng.choice([-0.6, 0.6], len(when))
        ray = np.stack([np.sin(lean) * np.cos(phase), np.cos(lean) * np.cos(phase), np.sin(phase)], 1)
        ray /= np.linalg.norm(ray, axis=1)[:, None]
        frames = attitude(own[:, 3:])
        true = np.einsum("nab,nb->na", frames, ray @ attitude(np.asarray(turn)).T)
        far = ranges(own[:, :3], true, walls)
        good = far < REACH
        m = ray[good] * (far[good] + rng.normal(0, noise, good.sum()))[:, None]
        computed = own[good, :3] + np.einsum("nab,nb->na", frames[good], m) + rng.normal(0, shift, 3)
        parts.append((computed, own[good, :3] + far[good, None] * true[good], now + when[good]))
        bend = np.linspace(0, 1, 60)[1:-1]
        time += [now + t, now + t[-1] + 12 * bend]
        place += [at, at[-1] + 5 * np.c_[np.sin(6 * bend), 1 - np.cos(6 * bend), 0 * bend]]
        angles += [way, np.c_[0 * bend, 0 * bend, course + 6 * bend]]
        now += t[-1] + 12.0
    xyz, true, when = (np.concatenate(v) for v in zip(*parts))
    order = rng.permutation(len(when))
    return Flown(*map(np.concatenate, (time, place, angles)), xyz[order], true[order], when[order])
