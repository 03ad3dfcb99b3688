"""Checkerboards of unknown size in simulated rooms: how many are found, how many false, how far off, and
whether σ is honest.

python benchmarks/targets.py [--rooms 8]

Boards of 5 to 60 cm with any turn hang on the walls and lie on the floor of a room with posters, stripes and
a tiled floor; the beam has a footprint over which intensity is averaged, ranges have noise of 1.5 mm.
Wanted: boards of 7 to 45 cm of which a field covers four scan lines, seen under less than 65°.
"""

import argparse
import os
import sys

import numpy as np

from terrazza.core.register import targets
from terrazza.core.register.sighted import Grid

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from tests.boards import room, scan

STEP = np.radians(0.18)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rooms", type=int, default=8)
    args = parser.parse_args()
    wanted = found = false = 0
    off, limit, ratio = [], [], []
    for seed in range(args.rooms):
        rng = np.random.default_rng(seed)
        size, place, boards = room(rng)
        row, column, xyz, intensity = scan(rng, size, place, boards, rng.choice([0.0, 0.15, 0.3]), STEP)
        seen = targets.checkerboards(Grid.of(row, column, xyz, intensity))
        true = []
        for axis, side, centre, _, edge in boards:
            at = np.insert(centre, axis, size[axis] if side else 0.0) - place
            d = np.linalg.norm(at)
            steep = abs(at[axis]) / d
            true.append(
                (
                    at,
                    edge,
                    edge / 2 >= 4 * STEP * d / max(steep, 0.05)
                    and 0.07 <= edge <= 0.45
                    and steep > np.cos(np.radians(65))
                    and np.arcsin(at[2] / d) > np.radians(-58),
                    STEP * d,
                )
            )
        for at, edge, want, spacing in true:
            gap = min((np.linalg.norm(t.centre - at) for t in seen), default=np.inf)
            wanted += want
            if gap < 0.02 + 0.1 * edge:
                best = min(seen, key=lambda t: np.linalg.norm(t.centre - at))
                plane = best.centre - at - best.normal * (best.normal @ (best.centre - at))
                if want:
                    found += 1
                    off.append(np.linalg.norm(plane))
                    limit.append(max(0.001, spacing / 10))
                    ratio.append((plane**2).sum() / 2 / best.sigma**2)
            elif want:
                print(f"    missed: room {seed}, edge {edge:.2f} m at {np.linalg.norm(at):.1f} m")
        lone = [t for t in seen if all(np.linalg.norm(t.centre - at) > 0.02 + 0.1 * e for at, e, *_ in true)]
        false += len(lone)
        print(
            f"  room {seed}: {len(boards)} boards, {len(seen)} found, {len(lone)} false "
            f"{[(t.centre.round(2).tolist(), t.edge) for t in lone][:4]}",
            flush=True,
        )
    off, limit = np.array(off), np.array(limit)
    print(
        f"{wanted} wanted, {found} found ({found / max(wanted, 1):.1%}), {false} false; centres: median "
        f"{np.median(off) * 1000:.2f} mm, worst {off.max() * 1000:.2f} mm, "
        f"{np.mean(off < limit):.0%} within 1 mm or a tenth of the spacing; mean e²/σ² "
        f"{np.mean(ratio):.2f}"
    )


if __name__ == "__main__":
    main()
