"""A simulated hand-held scanner on a walk: a head of a few rings that turns ten times a second and nods,
carried along a path.

What it gets wrong on purpose: range noise of a centimetre; its trajectory is as good as it says.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.instruments.scanner import Setup, turn
from terrazza.instruments.scene import World

RINGS = Setup(
    columns=240,
    rows=16,
    lowest=np.radians(-40.0),
    highest=np.radians(40.0),
    noise=0.010,
    beam=0.0,
    reach=30.0,
)
STEP, SWAY = 1.8, 0.02  # Hz and m: how the head bobs with each step


def walk(
    world: World,
    corners: np.ndarray,
    speed: float = 0.9,
    rate: float = 10.0,
    epoch: int = 0,
    seed: int = 1,
    setup: Setup = RINGS,
) -> dict[str, np.ndarray]:
    """Walk along ``corners`` (n, 3, scene frame, m) at ``speed`` (m/s); the head makes ``rate`` turns a
    second.

    Returns points ``xyz`` (m) with ``time`` (s), ``intensity`` u16 and ``rgb`` u8, and the trajectory
    ``path_time``, ``path_xyz``, ``path_heading``, all in the walk's own frame, whose pose in the scene is
    ``pose`` (4×4): its origin is the first place, its x axis the first heading.
    """
    steps = np.linalg.norm(np.diff(corners, axis=0), axis=1)
    turns = int(steps.sum() / speed * rate)
    time = np.arange(turns * setup.columns) / (setup.columns * rate)
    along = np.r_[0, np.cumsum(steps)]
    places = np.stack([np.interp(time * speed, along, corners[:, k]) for k in range(3)], 1)
    places[:, 2] += SWAY * np.sin(time * 2 * np.pi * STEP)
    ahead = np.gradient(places[:: setup.columns, :2], axis=0)
    heading = np.interp(time, time[:: setup.columns], np.unwrap(np.arctan2(ahead[:, 1], ahead[:, 0])))
    poses = _heads(places, heading, 0.5 * np.sin(0.7 * rate * time))
    home = rigid.inverse(rigid.make(rigid.about_z(heading[0]), places[0]))
    data = turn(world, poses, (2 * np.pi * rate * time) % (2 * np.pi), setup, epoch, seed)
    good = data["valid"]
    column = data["column"][good]
    seen = np.stack([data[k][good] for k in "xyz"], 1)
    scene = (poses[column, :3, :3] @ seen[:, :, None])[:, :, 0] + poses[column, :3, 3]
    ticks = slice(None, None, setup.columns // 4)
    return {
        "xyz": rigid.apply(home, scene),
        "time": time[column],
        "intensity": data["intensity"][good],
        "rgb": data["rgb"][good],
        "path_time": time[ticks],
        "path_xyz": rigid.apply(home, places[ticks]),
        "path_heading": heading[ticks] - heading[0],
        "pose": rigid.inverse(home),
    }


def _heads(places: np.ndarray, heading: np.ndarray, nod: np.ndarray) -> np.ndarray:
    """(n, 4, 4) poses at places (n, 3), turned to ``heading`` and nodding about the head's y axis (n,) rad,
    so that rings reach floor and ceiling.
    """
    out = np.zeros((len(places), 4, 4))
    ch, sh, cn, sn = np.cos(heading), np.sin(heading), np.cos(nod), np.sin(nod)
    out[:, 0, :3] = np.stack([ch * cn, -sh, ch * sn], 1)
    out[:, 1, :3] = np.stack([sh * cn, ch, sh * sn], 1)
    out[:, 2, :3] = np.stack([-sn, np.zeros(len(nod)), cn], 1)
    out[:, :3, 3], out[:, 3, 3] = places, 1
    return out
