"""Scans placed from a sketch, on simulated places whose truth is known (tests/places.py).

python benchmarks/sketch.py [FAMILY …] [--jobs 2] [--seed 80] [--drawn 0.5]

All scans but one stand; the sketch has that one ``drawn`` m (σ in each of both directions) off, its heading
unknown. *Right*: within 20 mm and 0.2°; *silently wrong*: farther off, without a doubt.
"""

import argparse
import collections
import pathlib
import sys
import time

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import like_points, sketch, surface
from terrazza.core.register.picture import Picture
from terrazza.core.register.plan_match import PlanShape

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.places import WORLDS, scanned

FAMILIES = ["rooms", "hotel", "floors", "tilted", "crowd", "corridor", "street", "terrain"]
NEIGHBOURS = 3


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("families", nargs="*", default=FAMILIES)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--seed", type=int, default=80)
    parser.add_argument("--drawn", type=float, default=0.5)
    args = parser.parse_args()
    for family in args.families:
        count, spent = collections.Counter(), 0.0
        for seed in range(args.seed, args.seed + args.jobs):
            rng = np.random.default_rng([seed, 13])
            world = WORLDS[family](rng)
            got = [scanned(world, family, station, rng) for station in world.places]
            faces, seen = [surface.prepare(g[2]) for g in got], [Picture.of(g[2]) for g in got]
            shapes = [PlanShape(f) for f in faces]
            for k, (true, *_) in enumerate(got):
                at = true[:3, 3] + [*rng.normal(0, args.drawn, 2), 0]
                far = lambda j: np.linalg.norm(got[j][0][:3, 3] - at)
                near = sorted((j for j in range(len(got)) if j != k), key=far)[:NEIGHBOURS]
                poses = [got[j][0] for j in near]
                start = time.process_time()
                found = sketch.place(
                    like_points.Side.of(poses, [faces[j] for j in near], [seen[j] for j in near]),
                    [sketch.Neighbour(p, shapes[j]) for p, j in zip(poses, near)],
                    like_points.Side.of([np.eye(4)], [faces[k]], [seen[k]]),
                    shapes[k],
                    np.array([*at[:2], np.median([p[2, 3] for p in poses])]),
                    4 * args.drawn,
                )
                spent += time.process_time() - start
                moved, turned = rigid.difference(found.pose, true)
                right = moved < 0.02 and np.degrees(turned) < 0.2
                doubt = found.fit is None or found.failed or found.rivals or found.fit.free
                count["right" if right and not doubt else "doubt" if doubt else "WRONG"] += 1
                count["doubted but right"] += bool(right and doubt)
                if not right and not doubt:
                    print(
                        f"  {family} {seed} {k}: {1000 * moved:.0f} mm, {np.degrees(turned):.2f}°", flush=True
                    )
        told = ", ".join(f"{n} {what}" for what, n in count.items())
        each = spent / max(count["right"] + count["doubt"] + count["WRONG"], 1)
        print(f"{family:10} {told}; {each:.1f} s each", flush=True)


if __name__ == "__main__":
    main()
