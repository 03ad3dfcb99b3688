"""Control with blunders of twenty kinds, and without: how many are accepted in silence, named rightly, and
doubted without reason.

python benchmarks/control.py [--jobs 20]

Targets stand about a house of random size, seen with σ of 0.5 to 2 mm where 1 mm is told, some of them
without control and some control without a target.
"""

import argparse

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.georef import review
from terrazza.errors import StateError

FOOT = 0.3048


def site(rng, symmetric: bool = False):
    """Names, true grid (n, 3), target heights (n,), targets (m, 3) in the job frame."""
    n, noise = int(rng.integers(5, 13)), rng.uniform(0.5, 2.0) / 1000
    size = rng.uniform(8, 40, 2)
    places = np.c_[
        rng.uniform(-size / 2, size / 2, (n, 2)), rng.uniform(0, 3, n) + rng.choice([0, 0, 3.0], n)
    ]
    if symmetric:
        half = places[: n // 2]
        places, n = np.concatenate([half, half * [-1, -1, 1]]), 2 * (n // 2)
    heights = (
        np.where(rng.random(n) < 0.5, np.round(rng.uniform(1.2, 1.7, n), 3), 0.0)
        if rng.random() < 0.6
        else np.zeros(n)
    )
    frame = rigid.make(
        rigid.about_z(rng.uniform(-3, 3)),
        np.array([rng.uniform(1000, 60000), rng.uniform(1000, 90000), rng.uniform(50, 900)]),
    )
    extra = rng.uniform(-5, 5, (int(rng.integers(0, 4)), 3))
    seen = np.arange(n) if rng.random() < 0.6 or symmetric else rng.permutation(n)[: n - 1]
    targets = np.concatenate([places[seen] + rng.normal(0, noise, (len(seen), 3)), extra])
    grid = rigid.apply(frame, places) + rng.normal(0, 0.0005, (n, 3))
    return [f"C{k + 1}" for k in range(n)], grid, heights, rng.permutation(targets), seen


def _one(rng, seen):
    return int(rng.choice(seen))


def shift(axis, size):
    def spoil(rng, c, h, seen):
        k = _one(rng, seen)
        c[k, axis] += size * rng.choice([-1, 1])
        return [k], ""

    return spoil


def single(change, words):
    def spoil(rng, c, h, seen):
        k = _one(rng, seen)
        c[k] = change(c[k])
        return [k], words

    return spoil


def some(factor, words):
    def spoil(rng, c, h, seen):
        k = rng.permutation(seen)[:2]
        c[k] = c[k] / factor
        return list(map(int, k)), words

    return spoil


def whole(change, words):
    def spoil(rng, c, h, seen):
        c[:] = change(c)
        if words == "feet":
            h[:] = h / FOOT
        return [], words

    return spoil


def forgotten(rng, c, h, seen):
    k = _one(rng, seen)
    c[k, 2] -= 1.5 if h[k] == 0 else 0
    h[k] = 0 if h[k] else h[k]
    return [k], "height"


def twice(rng, c, h, seen):
    k = _one(rng, seen)
    if not h[k]:
        h[k] = 1.45
    else:
        c[k, 2] += h[k]
    return [k], "height"


def left_in(rng, c, h, seen):
    if not h.any() or len(set(h)) < 3:
        h[:] = np.round(rng.uniform(1.2, 1.7, len(h)), 3)
    else:
        c[:, 2] += h
    return [], "already"


def heights_exchanged(rng, c, h, seen):
    j, k = rng.permutation(seen)[:2]
    if abs(c[j, 2] - c[k, 2]) < 0.05:
        c[j, 2] += 0.5
    c[[j, k], 2] = c[[k, j], 2]
    return [int(j), int(k)], ""


KINDS = {
    "height 25 mm": shift(2, 0.025),
    "height 0.1 m": shift(2, 0.1),
    "height 1 m": shift(2, 1.0),
    "easting 15 mm": shift(0, 0.015),
    "easting 0.1 m": shift(0, 0.1),
    "northing 1 m": shift(1, 1.0),
    "northing 20 mm": shift(1, 0.02),
    "one E and N exchanged": single(lambda p: p[[1, 0, 2]], "exchanged"),
    "one in feet": single(lambda p: p / FOOT, "feet"),
    "one height in feet": single(lambda p: p / [1, 1, FOOT], "feet"),
    "two in feet": some(FOOT, "feet"),
    "one easting's sign": single(lambda p: p * [-1, 1, 1], "sign"),
    "one in millimetres": single(lambda p: p * 1000, "millimetres"),
    "target height forgotten": forgotten,
    "target height twice": twice,
    "heights exchanged": heights_exchanged,
    "target heights in the heights": left_in,
    "mirrored": whole(lambda c: c * [-1, 1, 1], "mirrored"),
    "E and N exchanged": whole(lambda c: c[:, [1, 0, 2]], "exchanged"),
    "all in feet": whole(lambda c: c / FOOT, "feet"),
}


def judged(spoiled, heights, names, targets):
    try:
        _, _, says = review.decide(
            names,
            spoiled,
            heights,
            np.zeros(len(names), bool),
            (0, 1, 2),
            targets,
            np.full(len(targets), 0.001),
        )
        return says.doubt
    except StateError as error:
        return [str(error)]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--jobs", type=int, default=20)
    args = parser.parse_args()
    silent = named = total = 0
    for kind, spoil in KINDS.items():
        row = [0, 0]
        for seed in range(args.jobs):
            rng = np.random.default_rng([seed, sum(map(ord, kind))])
            names, grid, heights, targets, seen = site(rng)
            c, h = grid - np.c_[np.zeros((len(names), 2)), heights], heights.copy()
            which, words = spoil(rng, c, h, seen)
            doubt = judged(c, h, names, targets)
            text = " ".join(doubt)
            right = (
                bool(doubt)
                and words in text
                and all(names[k] in text.replace(",", " ").replace(":", " ").split() for k in which)
            )
            row[0] += not doubt
            row[1] += right
            if doubt and not right:
                print("   ", kind, seed, [names[k] for k in which], doubt)
        silent, named, total = silent + row[0], named + row[1], total + args.jobs
        print(
            f"{kind:<32} {args.jobs} jobs: {row[0]} accepted in silence, {row[1]} named rightly", flush=True
        )
    good = symmetric = 0
    for seed in range(5 * args.jobs):
        names, grid, heights, targets, _ = site(np.random.default_rng([seed, 7]))
        doubt = judged(grid - np.c_[np.zeros((len(names), 2)), heights], heights, names, targets)
        good += bool(doubt)
        if doubt:
            print("    good", seed, doubt)
    for seed in range(args.jobs):
        names, grid, heights, targets, _ = site(np.random.default_rng([seed, 8]), True)
        symmetric += bool(judged(grid - np.c_[np.zeros((len(names), 2)), heights], heights, names, targets))
    print(
        f"in all {total}: {silent} accepted in silence, {named / total:.1%} named rightly; {good} of "
        f"{5 * args.jobs} good ones doubted; {symmetric} of {args.jobs} symmetrical ones asked"
    )


if __name__ == "__main__":
    main()
