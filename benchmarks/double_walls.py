"""Double walls on simulated places: none where scans stand right, and the one that is 4 mm off found and
named first.

python benchmarks/double_walls.py [FAMILY …] [--jobs 10] [--seed 20]

Scans stand where they are but for 0.3 mm and 0.6 m°, their vertical circles read 15″ too high or too low;
then one is moved 4 mm in any direction.
"""

import argparse
import pathlib
import sys

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import double_walls

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.places import WORLDS, scanned


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument(
        "families", nargs="*", default=["rooms", "hotel", "crowd", "corridor", "islands", "floors"]
    )
    parser.add_argument("--jobs", type=int, default=10)
    parser.add_argument("--seed", type=int, default=20)
    args = parser.parse_args()
    for family in args.families:
        false = first = found = 0
        for seed in range(args.seed, args.seed + args.jobs):
            rng = np.random.default_rng([seed, 7])
            place = WORLDS[family](rng)
            got = [
                scanned(place, family, station, rng, np.radians(15 / 3600) * rng.choice([0, 1, -1]))
                for station in place.places
            ]
            clouds, poses = (
                [g[2] for g in got],
                [
                    rigid.step(g[0], rng.normal(0, 1e-5, 3), rng.normal(0, 0.0003, 3), g[0][:3, 3])
                    for g in got
                ],
            )
            false += bool(double_walls.find(clouds, poses))
            k, way = int(rng.integers(len(poses))), rng.normal(size=3)
            poses[k] = rigid.step(poses[k], np.zeros(3), 0.004 * way / np.linalg.norm(way), poses[k][:3, 3])
            off = double_walls.standing_off(double_walls.find(clouds, poses))
            found, first = found + (k in off), first + (off[:1] == [k])
        print(
            f"{family:9} {args.jobs} jobs: {false} right ones with a double wall (wanted: 0), the scan 4 mm "
            f"off found in {found}, named first in {first}",
            flush=True,
        )


if __name__ == "__main__":
    main()
