"""Scans let go beside where they stand, and fitted to a neighbour, on simulated places whose truth is known
(tests/places.py).

python benchmarks/let_go.py [FAMILY …] [--jobs 2] [--seed 110] [--off 0.5] [--turned 10]

Pairs of scans that have a tenth and more in common, and whose surfaces hold every direction at the truth;
each is let go ``off`` m and ``turned`` degrees from it.  *Right*: back within 20 mm and 0.2°; *silently
wrong*: farther off, without a doubt.
"""

import argparse
import collections
import pathlib
import sys
import time

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import cloud_fit, letting_go, linking, surface
from terrazza.core.register.contradiction import judge
from terrazza.core.register.like_points import Side
from terrazza.core.register.picture import Picture
from terrazza.core.register.plan_match import PlanShape

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.places import WORLDS, scanned

FAMILIES = ["rooms", "hotel", "floors", "tilted", "crowd", "corridor", "street", "terrain"]
PAIRS = 5  # of scans a job
WIDTHS = (1.0, *cloud_fit.WIDTHS)


def cases(family: str, seed: int, args, rng):
    """(surfaces, shapes, pictures of both scans, true pose, pose so far) of one job."""
    place = WORLDS[family](rng)
    got = [scanned(place, family, station, rng) for station in place.places]
    faces, seen = [surface.prepare(g[2]) for g in got], [Picture.of(g[2]) for g in got]
    pairs = [(a, b) for a in range(len(got)) for b in range(len(got)) if a != b]
    rng.shuffle(pairs)
    left = PAIRS
    for a, b in pairs:
        true = rigid.inverse(got[a][0]) @ got[b][0]
        if not left or judge(seen[a], seen[b], true).common < 0.1:
            continue
        at_truth = linking.fit_pair(faces, seen, a, b, true, (0.06, 0.03))
        if at_truth is None or at_truth.failed or at_truth.fit.free:
            continue
        left -= 1
        way = rng.uniform(0, 2 * np.pi)
        by = rigid.make(
            rigid.about_z(np.radians(args.turned) * rng.choice([-1, 1])),
            args.off * np.array([np.cos(way), np.sin(way), 0.0]),
        )
        there = rigid.make(np.eye(3), true[:3, 3])
        yield [faces[a], faces[b]], [seen[a], seen[b]], true, there @ by @ rigid.inverse(there) @ true


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("families", nargs="*", default=FAMILIES)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--seed", type=int, default=110)
    parser.add_argument("--off", type=float, default=0.5)
    parser.add_argument("--turned", type=float, default=10.0)
    args = parser.parse_args()
    for family in args.families:
        told = {"fit": collections.Counter(), "back": collections.Counter()}
        spent = 0.0
        for seed in range(args.seed, args.seed + args.jobs):
            for faces, seen, true, start in cases(family, seed, args, np.random.default_rng([seed, 17])):
                tie = linking.fit_pair(faces, seen, 0, 1, start, WIDTHS)
                _count(told["fit"], tie and tie.fit.pose, true, tie is None or tie.failed)
                begun = time.process_time()
                sides = [Side.of([np.eye(4)], [f], [s]) for f, s in zip(faces, seen)]
                found = letting_go.back(*sides, (PlanShape(faces[0]), PlanShape(faces[1])), start)
                spent += time.process_time() - begun
                doubt = found.fit is None or found.failed or found.rivals or found.fit.free
                _count(told["back"], found.pose, true, doubt)
        count = max(sum(told["back"].values()), 1)
        for name, rows in told.items():
            print(f"{family:10} {name:5} {dict(rows)}", flush=True)
        print(f"{'':10} {spent / count:.1f} s each", flush=True)


def _count(told: collections.Counter, pose, true: np.ndarray, doubt) -> None:
    moved, turned = rigid.difference(pose, true) if pose is not None else (9.9, 1.0)
    right = moved < 0.02 and np.degrees(turned) < 0.2
    told[("right" if right else "WRONG") if not doubt else "doubted right" if right else "doubted"] += 1


if __name__ == "__main__":
    main()
