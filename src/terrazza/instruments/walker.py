"""A simulated hand-held scanner on a walk: sweeps of a few rings, ten a second, from places along a path.

What it gets wrong on purpose: range noise of a centimetre; its trajectory is as good as it says.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.instruments.scanner import Setup, sweep
from terrazza.instruments.scene import World

RINGS = Setup(columns=240, rows=16, lowest=np.radians(-40.0), highest=np.radians(40.0), noise=0.010, reach=30.0)


def walk(world: World, corners: np.ndarray, speed: float = 0.9, rate: float = 10.0, epoch: int = 0, seed: int = 1, setup: Setup = RINGS) -> dict[str, np.ndarray]:
    """Walk along ``corners`` (n, 3, scene frame, m) at ``speed`` (m/s).

    Returns points ``xyz`` (m) with ``time`` (s), ``intensity`` u16 and ``rgb`` u8, and the trajectory ``path_time``, ``path_xyz``, ``path_heading``, all in
    the walk's own frame, whose pose in the scene is ``pose`` (4×4): its origin is the first place, its x axis the first heading.
    """
    steps = np.linalg.norm(np.diff(corners, axis=0), axis=1)
    moments = np.arange(0, steps.sum() / speed, 1 / rate)
    along = np.r_[0, np.cumsum(steps)]
    places = np.stack([np.interp(moments * speed, along, corners[:, k]) for k in range(3)], 1)
    places[:, 2] += 0.02 * np.sin(moments * 2 * np.pi * 1.8)
    ahead = np.gradient(places[:, :2], axis=0)
    heading = np.unwrap(np.arctan2(ahead[:, 1], ahead[:, 0]))
    home = rigid.inverse(rigid.make(rigid.about_z(heading[0]), places[0]))
    parts = []
    for k, (moment, place) in enumerate(zip(moments, places)):
        lean = rigid.rotation_from(np.array([0.0, 0.5 * np.sin(k * 0.7), 0.0]))  # the head nods, so that rings reach floor and ceiling
        pose = rigid.make(rigid.about_z(heading[k] + k * 2.4) @ lean, place)
        data = sweep(world, pose, setup, epoch, seed * 100_000 + k)
        good = data["valid"]
        local = np.stack([data["x"], data["y"], data["z"]], 1)[good]
        parts.append({"xyz": rigid.apply(home @ pose, local), "time": moment + data["column"][good] / setup.columns / rate, "intensity": data["intensity"][good], "rgb": data["rgb"][good]})
    out = {name: np.concatenate([p[name] for p in parts]) for name in parts[0]}
    return out | {"path_time": moments, "path_xyz": rigid.apply(home, places), "path_heading": heading - heading[0], "pose": rigid.inverse(home)}
