"""Scans placed by like points on simulated places whose truth is known (tests/places.py).

python benchmarks/like_points.py [FAMILY …] [--jobs 2] [--seed 60] [--tell]

One, two or three places that both scans see, each touched up to 10 cm off in either; of one the heading is
known to 4°. *Right*: within 20 mm and 0.2°; *silently wrong*: farther off, without a doubt.
"""

import argparse
import collections
import pathlib
import sys
import time

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid
from terrazza.core.register import like_points, surface
from terrazza.core.register.contradiction import judge
from terrazza.core.register.picture import Picture

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.places import WORLDS, scanned

FAMILIES = ["rooms", "hotel", "floors", "tilted", "crowd", "corridor", "street", "terrain"]
PAIRS = 5  # of scans a job


def touched(rng, points, others, n):
    """(n, 2, 3) places of two scans, each up to 10 cm off, not nearer to each other than 1.5 m; None where
    there are none.
    """
    for _ in range(200):
        pick = rng.choice(len(points), n, replace=False)
        flat = points[pick][:, :2]
        if n == 1 or min(np.linalg.norm(a - b) for k, a in enumerate(flat) for b in flat[:k]) > 1.5:
            way = rng.normal(size=(2, n, 3))
            way *= rng.uniform(0, 0.1, (2, n, 1)) / np.linalg.norm(way, axis=2)[..., None]
            return np.stack([points[pick] + way[0], others[pick] + way[1]], 1)
    return None


def cases(family: str, seed: int, rng):
    """(sides that stay and move, true pose, touched pairs, pose so far) of one job."""
    place = WORLDS[family](rng)
    got = [scanned(place, family, station, rng) for station in place.places]
    faces, seen = [surface.prepare(g[2]) for g in got], [Picture.of(g[2]) for g in got]
    side = lambda k: like_points.Side.of([np.eye(4)], [faces[k]], [seen[k]])
    pairs = [(a, b) for a in range(len(got)) for b in range(len(got)) if a != b]
    rng.shuffle(pairs)
    left = PAIRS
    for a, b in pairs:
        true = rigid.inverse(got[a][0]) @ got[b][0]
        if judge(seen[a], seen[b], true).common < 0.1 or not left:
            continue
        there = rigid.apply(true, faces[b].xyz)
        gap, _ = cKDTree(faces[a].xyz).query(there, distance_upper_bound=0.08)
        both = np.isfinite(gap) & (np.linalg.norm(faces[b].xyz, axis=1) < 12)
        if both.sum() < 300:
            continue
        left -= 1
        for n in (1, 2, 3):
            found = touched(rng, faces[b].xyz[both], there[both], n)
            given = rigid.make(rigid.about_z(np.radians(rng.uniform(-4, 4))) @ true[:3, :3], np.zeros(3))
            if found is not None:
                yield side(a), side(b), true, found, given if n == 1 else None


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("families", nargs="*", default=FAMILIES)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--seed", type=int, default=60)
    args = parser.parse_args()
    for family in args.families:
        count, spent = collections.Counter(), 0.0
        for seed in range(args.seed, args.seed + args.jobs):
            for stays, moves, true, pairs, given in cases(family, seed, np.random.default_rng([seed, 11])):
                start = time.perf_counter()
                starts = like_points.rough(pairs[:, 0], pairs[:, 1], given)
                found = like_points.place(stays, moves, starts, pairs)
                spent += time.perf_counter() - start
                moved, turned = rigid.difference(found.pose, true)
                right = moved < 0.02 and turned < np.radians(0.2)
                sure = found.fit is not None and not found.failed and not found.rivals and not found.fit.free
                sure = sure and found.residuals.max() < 0.4
                count["right" if right and sure else "in doubt" if not sure else "silently wrong"] += 1
                count["right, in doubt"] += right and not sure
        total = count["right"] + count["in doubt"] + count["silently wrong"]
        print(
            f"{family}: {total} placements, {count['right']} right, {count['in doubt']} in doubt "
            f"({count['right, in doubt']} of them right), {count['silently wrong']} silently wrong; "
            f"{spent / max(total, 1):.1f} s each",
            flush=True,
        )


if __name__ == "__main__":
    main()
