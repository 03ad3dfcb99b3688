"""Classes by kind against simulated truth: rooms (several seeds, on one floor), and sampled streets as
scanned from the ground and from the air.

.venv/bin/python benchmarks/kinds.py [SEEDS]
"""

import pathlib
import sys
import time

import numpy as np
from scipy.spatial import cKDTree

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from terrazza.core.classify import lows, open_air, rooms
from terrazza.core.geometry import rigid, voxels
from tests import landscapes, places

STREETS = {
    "from the ground": (150.0, 44.0),
    "from the air": (8.0, 120.0),
    "from the air, sparse": (4.0, 150.0),
}


def f1(truth, got) -> float:
    return 2 * (truth & got).sum() / max(truth.sum() + got.sum(), 1)


def line(what: str, scores: dict, points: int, seconds: float) -> None:
    print(
        what, ", ".join(f"{k} {v:.3f}" for k, v in scores.items()), f"{points / seconds / 1e6:.2f} M points/s"
    )


def room(seed: int) -> None:
    rng = np.random.default_rng(seed)
    place, xyz, facing = places.building(rng, False), [], []
    for station in place.places:
        pose, _, own = places.scanned(place, "rooms", station, rng)
        xyz.append(rigid.apply(pose, own))
        facing.append(pose[:3, 3] - xyz[-1])
    xyz, facing = np.concatenate(xyz), np.concatenate(facing)
    start = time.process_time()
    first = voxels.one_per_cell(xyz, 0.05)
    found = rooms.classify(xyz[first], 0.05, facing[first])
    code, _ = found.at(xyz, cKDTree(found.xyz))
    spent, truth = time.process_time() - start, landscapes.kind_of_room(place, xyz)
    known = truth > 0
    names = {"floor": 64, "ceiling": 65, "wall": 66, "furniture": 67}
    line(
        f"rooms {seed}:",
        {n: f1(truth[known] == c, code[known] == c) for n, c in names.items()},
        len(xyz),
        spent,
    )


def street(seed: int, how: str) -> None:
    rng = np.random.default_rng(seed)
    xyz, truth, many = landscapes.street(rng, *STREETS[how])
    ground = xyz[truth == 2]
    plane = cKDTree(ground[:, :2])
    height = xyz[:, 2] - ground[plane.query(xyz[:, :2])[1], 2]
    over = (height > 0.2) & (truth != 2)
    start = time.process_time()
    cell = max(0.1, 1.2 * lows.usual_distance(xyz[over]))
    first = voxels.one_per_cell(xyz[over], cell)
    found = open_air.classify(xyz[over][first], height[over][first], cell, many[over][first])
    spent, true = time.process_time() - start, truth[over][first]
    plant = np.isin(found.code, (3, 4, 5))
    scores = {"buildings": f1(true == 6, found.code == 6), "plants": f1(true == 5, plant)}
    scores |= {"wires": f1(true == 14, found.code == 14), "poles": f1(true == 69, found.code == 69)}
    line(f"street {how} {seed}:", scores, len(first), spent)


if __name__ == "__main__":
    for k in range(int(sys.argv[1]) if len(sys.argv) > 1 else 3):
        room(k)
        for name in STREETS:
            street(k, name)
