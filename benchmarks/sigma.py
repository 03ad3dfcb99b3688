"""Errors of registered poses in units of their standard deviations, on simulated places with instrument
errors.

python benchmarks/sigma.py [FAMILY …] [--jobs 3] [--seed 40]

Each scan begins 1 cm and 1 mrad off, its vertical circle reads 12″ (1 σ) wrongly.  Rows: by ties alone, and
by ties and patches.  Wanted: mean of e²/σ² between 0.5 and 2, 95 % within 2.5 σ, and where σ is over 3 cm
(nothing holds the scan) a median |e|/σ of 0.3 at least.
"""

import argparse
import pathlib
import sys

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import graph, linking, network, surface
from terrazza.core.register.picture import Picture
from terrazza.errors import InputError

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.places import WORLDS, scanned

LOOSE = 0.03


def adjusted(family: str, seed: int):
    """True poses, and what ties alone and ties with patches make of them."""
    rng = np.random.default_rng([seed, sum(map(ord, family))])
    place = WORLDS[family](rng)
    got = [
        scanned(place, family, station, rng, np.radians(12 / 3600) * rng.normal()) for station in place.places
    ]
    truth, clouds = [g[0] for g in got], [g[2] for g in got]
    start = [
        truth[0],
        *(
            rigid.step(p, rng.normal(0, 1e-3, 3) * [0.1, 0.1, 1], rng.normal(0, 0.01, 3), p[:3, 3])
            for p in truth[1:]
        ),
    ]
    ties = [
        t
        for t in linking.fit_all([surface.prepare(c) for c in clouds], [Picture.of(c) for c in clouds], start)
        if not t.failed
    ]
    rough = graph.relax(start, ties, {0})
    alone = network.by_ties(rough.poses, rough.known, {0})
    try:
        return truth, alone, network.solve(clouds, rough.poses, {0}, known=rough.known)
    except InputError:
        return truth, alone, alone


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument(
        "families", nargs="*", default=["rooms", "hotel", "crowd", "corridor", "street", "terrain"]
    )
    parser.add_argument("--jobs", type=int, default=3)
    parser.add_argument("--seed", type=int, default=40)
    args = parser.parse_args()
    for family in args.families:
        rows: dict[str, list] = {"ties": [], "ties and patches": []}
        for seed in range(args.seed, args.seed + args.jobs):
            truth, *both = adjusted(family, seed)
            for name, result in zip(rows, both):
                for t, p, c in list(zip(truth, result.poses, result.covariance))[1:]:
                    error = np.r_[rigid.vector_from(t[:3, :3] @ p[:3, :3].T), (t - p)[:3, 3]]
                    values, ways = np.linalg.eigh(c[3:, 3:])
                    rows[name].append(
                        (
                            error**2 / np.diag(c),
                            np.linalg.norm(error[3:]),
                            np.sqrt(values[-1]),
                            abs(ways[:, -1] @ error[3:]),
                        )
                    )
        for name, found in rows.items():
            held, loose = [r for r in found if r[2] <= LOOSE], [r for r in found if r[2] > LOOSE]
            squares = np.array([r[0] for r in held]).reshape(-1, 6)
            print(
                f"{family:9} {name:17} {len(held)} scans: e²/σ² turn {squares[:, :3].mean():.1f}, shift "
                f"{squares[:, 3:].mean():.1f}, within 2.5 σ {np.mean(squares < 6.25):.0%}, off "
                f"{np.median([r[1] for r in held]) * 1000:.1f} mm in the median, "
                f"{max(r[1] for r in held) * 1000:.1f} at worst; {len(loose)} held by nothing"
                + (f": |e|/σ {np.median([r[3] / r[2] for r in loose]):.2f} in the median" if loose else ""),
                flush=True,
            )


if __name__ == "__main__":
    main()
