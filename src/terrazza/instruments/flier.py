"""A simulated drone with a line scanner: it flies straight passes, sways, and its scanner sits a little
turned on it, which nobody told the software that makes the cloud.

What it gets wrong on purpose: range noise of two centimetres; the turn; a path that is off in height.
Attitude Rz(heading) · Ry(pitch) · Rx(roll), x forward, y left, z up, heading counter-clockwise from east.
"""

import numpy as np
from scipy.spatial.transform import Rotation

from terrazza.core.geometry import rigid
from terrazza.instruments.scanner import Setup, turn
from terrazza.instruments.scene import World

LINES = Setup(
    columns=60,  # lines a second
    rows=420,
    lowest=np.radians(-138.0),  # from straight down to the right, over the nadir, to the left
    highest=np.radians(-42.0),
    noise=0.02,
    beam=0.0,
    reach=150.0,
)
SPEED, RATE, BETWEEN = 7.0, 50.0, 14.0  # m/s; places of the path a second; s from pass to pass


def _sway(rng, time: np.ndarray, most: float) -> np.ndarray:
    return sum(
        most / k * np.sin(2 * np.pi * k * time / rng.uniform(5, 9) + rng.uniform(0, 6)) for k in (1, 3)
    )


def fly(
    world: World,
    ways: list[tuple[np.ndarray, np.ndarray]],
    mounting: np.ndarray,
    low: float = 0.0,
    seed: int = 1,
    setup: Setup = LINES,
) -> dict[str, np.ndarray]:
    """Fly passes from a first to a last place (3,) each (scene frame, m).

    ``mounting`` (3,) rad are the roll, pitch and heading by which the scanner is turned on the craft; ``low``
    (m) is how far below its true place the path is told.  Returns points ``xyz`` as they are computed without
    knowing either, ``time`` (s), ``intensity`` u16, ``rgb`` u8, and the path ``path_time``, ``path_xyz``,
    ``path_angles`` (n, 3) rad, with the turns between the passes.
    """
    rng, now, path, points = np.random.default_rng(seed), 301_000.0, [], []
    told = np.array([0.0, 0.0, -low])
    for number, (start, end) in enumerate(ways):
        length = float(np.linalg.norm(end - start))
        course = float(np.arctan2(*(end - start)[1::-1]))
        lasts = length / SPEED
        fine = np.linspace(0, lasts, int(lasts * RATE) + 1)
        at = start + np.outer(fine / lasts, end - start) + np.stack([_sway(rng, fine, 0.3)] * 3, 1)
        angles = np.stack(
            [_sway(rng, fine, 0.04), _sway(rng, fine, 0.04), course + _sway(rng, fine, 0.03)], 1
        )
        lines = np.arange(int(lasts * setup.columns)) / setup.columns
        own = np.stack([np.interp(lines, fine, v) for v in (*at.T, *angles.T)], 1)
        frames = Rotation.from_euler("ZYX", own[:, :2:-1]).as_matrix()
        poses = np.tile(np.eye(4), (len(lines), 1, 1))
        poses[:, :3, :3] = frames @ Rotation.from_euler("ZYX", np.asarray(mounting)[::-1]).as_matrix()
        poses[:, :3, 3] = own[:, :3]
        seen = turn(world, poses, np.full(len(lines), np.pi / 2), setup, 0, seed * 100 + number)
        good = seen["valid"]
        column = seen["column"][good]
        m = np.stack([seen[k][good] for k in "xyz"], 1)
        xyz = np.einsum("nab,nb->na", frames[column], m) + own[column, :3] + told
        more = {k: seen[k][good] for k in ("intensity", "rgb")}
        points.append({"xyz": xyz, "time": now + lines[column]} | more)
        path.append((now + fine, at + told, angles))
        now += lasts
        if number + 1 < len(ways):
            path.append(_bend(now, at[-1] + told, angles[-1], ways[number + 1]))
            now += BETWEEN
    out = {k: np.concatenate([p[k] for p in points]) for k in points[0]}
    return out | dict(zip(("path_time", "path_xyz", "path_angles"), map(np.concatenate, zip(*path))))


def _bend(now: float, place: np.ndarray, angles: np.ndarray, way) -> tuple:
    """The path from the end of a pass to the beginning of the next: round, in which nothing is measured."""
    share = np.linspace(0, 1, int(BETWEEN * RATE) + 1)[1:-1]
    start, end = way
    aim = np.arctan2(*(end - start)[1::-1])
    by = (aim - angles[2] + np.pi) % (2 * np.pi) - np.pi
    swing = np.sin(np.pi * share)[:, None] * 12 * np.array([np.cos(angles[2]), np.sin(angles[2]), 0])
    at = place + share[:, None] * (start - place) + swing
    smooth = share**2 * (3 - 2 * share)
    level = np.zeros(len(share))
    return now + share * BETWEEN, at, np.stack([level, level, angles[2] + by * smooth], 1)


def heights(world: World, places: np.ndarray, above: float = 60.0) -> np.ndarray:
    """(n,) true heights of what lies under places (n, 2) of the scene, from straight above."""
    poses = np.tile(rigid.make(np.eye(3), np.zeros(3)), (len(places), 1, 1))
    poses[:, :2, 3], poses[:, 2, 3] = places, above
    down = Setup(
        rows=1, lowest=np.radians(-90.001), highest=np.radians(-89.999), noise=0.0, beam=0.0, reach=150.0
    )
    seen = turn(world, poses, np.zeros(len(places)), down, 0, 1)
    return above + seen["z"]
