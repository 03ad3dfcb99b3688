"""Simulated flights: a craft that sways, a scanner turned against it, houses on rolling land, and the cloud
that software makes of it which does not know of the turn; with trajectories written in any convention.
"""

from dataclasses import dataclass

import laspy
import numpy as np
from scipy.spatial.transform import Rotation

from terrazza.core.strips import boresight, drift, flight, patches

PATTERNS = {
    "cross": [((0, 80), (300, 80)), ((300, 140), (0, 140)), ((110, 0), (110, 260)), ((190, 260), (190, 0))],
    "parallel": [((0, 60), (300, 60)), ((300, 110), (0, 110)), ((0, 160), (300, 160))],
    "one way": [((0, 60), (300, 60)), ((0, 110), (300, 110)), ((0, 160), (300, 160))],
}
HEIGHT, SPEED, RATE, HALF = 80.0, 9.0, 40.0, 45.0  # m, m/s, 1/s, m to either side


def attitude(angles: np.ndarray) -> np.ndarray:
    """(n, 3, 3) of roll, pitch, heading (n, 3): by scipy, intrinsic z, y, x."""
    return Rotation.from_euler("ZYX", np.asarray(angles)[..., ::-1]).as_matrix()


@dataclass
class Flown:
    """``time`` (n,), ``place`` (n, 3), ``angles`` (n, 3) of the path as told; points ``xyz`` (m, 3) as
    computed, ``true`` (m, 3), and when they were taken, ``when``.
    """

    time: np.ndarray
    place: np.ndarray
    angles: np.ndarray
    xyz: np.ndarray
    true: np.ndarray
    when: np.ndarray

    def write(
        self,
        folder,
        east=500_000.0,
        north=4_600_000.0,
        order="txyzrph",
        sep=" ",
        head="",
        degrees=True,
        clock=0.0,
    ):
        """strip.las and path.txt; ``order`` may turn signs (R, P: the other way round) and count headings
        from north clockwise (H).
        """
        header = laspy.LasHeader(point_format=6, version="1.4")
        header.scales, header.offsets = [0.0001] * 3, [east, north, 0]
        header.global_encoding.gps_time_type = laspy.header.GpsTimeType.STANDARD
        las = laspy.LasData(header)
        las.xyz, las.gps_time = self.xyz + [east, north, 0], self.when
        las.write(str(folder / "strip.las"))
        unit = 180 / np.pi if degrees else 1.0
        roll, pitch, heading = self.angles.T
        clockwise = np.arctan2(np.cos(heading), np.sin(heading)) % (2 * np.pi)
        column = {
            "t": self.time + clock,
            "x": self.place[:, 0] + east,
            "y": self.place[:, 1] + north,
            "z": self.place[:, 2],
            **{"r": roll * unit, "R": -roll * unit, "p": pitch * unit, "P": -pitch * unit},
            **{"h": heading * unit, "H": clockwise * unit},
        }
        rows = [sep.join(f"{v:.9f}" for v in row) for row in zip(*(column[c] for c in order))]
        (folder / "path.txt").write_text("\n".join([head] * bool(head) + rows) + "\n")


def land(rng, houses: int):
    """Heights of rolling land with pitched roofs."""
    roofs = [
        (
            rng.uniform(0, [300, 260]),
            rng.uniform(8, 16, 2),
            rng.uniform(0, np.pi),
            rng.uniform(4, 8),
            rng.uniform(0.3, 0.8),
        )
        for _ in range(houses)
    ]
    phase = rng.uniform(0, 6, 4)
    hill = lambda p: 4 * np.sin(p[:, 0] / 60 + phase[0]) * np.cos(p[:, 1] / 75 + phase[1])

    def heights(xy):
        z = hill(xy) + np.sin(xy[:, 0] / 13 + phase[2]) * np.sin(xy[:, 1] / 17 + phase[3])
        for at, sides, turn, eaves, pitch in roofs:
            c, s = np.cos(turn), np.sin(turn)
            q = (xy - at) @ np.array([[c, -s], [s, c]])
            on = (np.abs(q) < sides / 2).all(1)
            z[on] = hill(at[None])[0] + eaves + pitch * (sides[1] / 2 - np.abs(q[on, 1]))
        return z

    return heights


def fly(
    rng,
    pattern: str,
    turn,
    noise=0.02,
    shift=0.0,
    houses=30,
    dense=6.0,
    sway=0.05,
    lever=(0, 0, 0),
    wander=0.0,
) -> Flown:
    """A flight whose scanner is turned by ``turn`` (3,) rad; ``shift`` (m) is how far each pass is off as a
    whole, ``wander`` (m) how far it wanders slowly besides.
    """
    heights, time, place, angles, parts, now = land(rng, houses), [], [], [], [], 1000.0
    wave = lambda t, most: sum(
        most / k * np.sin(2 * np.pi * t * k / rng.uniform(5, 9) + rng.uniform(0, 6)) for k in (1, 3)
    )
    for start, end in PATTERNS[pattern]:
        start, end = np.array(start, float), np.array(end, float)
        length = np.linalg.norm(end - start)
        along, course = (end - start) / length, np.arctan2(*(end - start)[::-1])
        t = np.arange(0, length / SPEED, 1 / RATE)
        at = np.c_[start + (t * SPEED)[:, None] * along, np.full(len(t), HEIGHT)]
        at += np.stack([wave(t, 0.4) for _ in range(3)], 1)
        way = np.stack([wave(t, sway), wave(t, sway), course + wave(t, sway)], 1)
        n = int(length * 2 * HALF * dense)
        s, side = rng.uniform(0, t[-1] * SPEED, n), rng.uniform(-HALF, HALF, n)
        xy = start + s[:, None] * along + side[:, None] * [-along[1], along[0]]
        true = np.c_[xy, heights(xy)]
        own = np.stack([np.interp(s / SPEED, t, v) for v in (*at.T, *way.T)], 1)
        frames = attitude(own[:, 3:])
        seen = np.einsum("nba,nb->na", frames, true - own[:, :3]) - lever
        m = seen @ attitude(np.asarray(turn)) + rng.normal(0, noise, (n, 3))
        computed = own[:, :3] + np.einsum("nab,nb->na", frames, m + lever) + rng.normal(0, shift, 3)
        if wander:
            waves = [np.sin(2 * np.pi * t / rng.uniform(30, 90) + rng.uniform(0, 6)) for _ in range(3)]
            computed += wander * np.stack([np.interp(s / SPEED, t, w) for w in waves], 1)
        parts.append((computed, true, now + s / SPEED))
        time.append(now + t)
        place.append(at)
        angles.append(way)
        now += t[-1] + 12.0
        bend = np.linspace(0, 1, 60)[1:-1]  # a turn, in which nothing is taken
        time.append(now - 12.0 + 12.0 * bend)
        place.append(at[-1] + 30 * np.c_[np.sin(6 * bend), 1 - np.cos(6 * bend), 0 * bend])
        angles.append(np.c_[0 * bend, 0 * bend, course + 6 * bend])
    xyz, true, when = (np.concatenate(v) for v in zip(*parts))
    order = rng.permutation(len(when))
    return Flown(*map(np.concatenate, (time, place, angles)), xyz[order], true[order], when[order])


def solved(made: Flown, cell: float = 2.2, every: float = np.inf) -> tuple[np.ndarray, np.ndarray]:
    """Angles (3,) rad and covariance, by the path as told, in two rounds; shifts at knots so many s apart."""
    path = flight.Flight(made.time, made.place, made.angles)
    found, points, angles = flight.passes(path), made.xyz, np.zeros(3)
    for _ in range(2):
        sums = patches.sums(points, made.when, flight.numbers(found, made.when), cell, 0.0)
        planes = patches.planes(sums, cell, 0.0)
        pairs = patches.pairs(planes, 0.75 * cell)
        loose = drift.Drift.none(found, every)
        got = boresight.solve(boresight.Problem(path, planes, pairs, np.zeros(3), loose))
        angles = angles + got.angles  # small ones
        points = flight.corrected(path, made.xyz, made.when, angles, np.zeros(3), np.zeros(3))
    return angles, got.covariance
