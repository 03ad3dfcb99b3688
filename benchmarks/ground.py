"""Ground on very many points: time, memory and agreement with the truth.

python benchmarks/ground.py [MILLIONS …]

A flight over rolling land with houses and trees, eight points a square metre, one tile of terrain after
another, imported from LAZ.  Wanted: 200 million points in 15 minutes, in memory that does not grow with them.
"""

import functools
import multiprocessing
import pathlib
import sys
import tempfile
import time

import numpy as np

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from benchmarks.many_scans import Watch
from terrazza.db import queries
from terrazza.formats import las_writer
from terrazza.work.open import open_workspace
from tests.run import must, opened

DENSITY, TILE = 8.0, 250.0  # points a m², m
ON_GROUND, ABOVE = 1000, 2000  # intensity, as the truth travels with the points


def height(at: np.ndarray) -> np.ndarray:
    """Heights (n,) in m of the land at plan places (n, 2)."""
    e, n = at.T
    return 40 + 18 * np.sin(e / 210) * np.cos(n / 170) + 3 * np.sin(e / 37 + n / 51) + 0.4 * np.sin(n / 9)


def tile(number: int, across: int) -> dict[str, np.ndarray]:
    """A tile's points, true kind as intensity: houses of 8 to 18 m, trees with gaps in their crowns."""
    rng = np.random.default_rng([11, number])
    corner = TILE * np.array([number % across, number // across])
    at = corner + rng.uniform(0, TILE, (int(DENSITY * TILE**2), 2))
    z, above = height(at), np.zeros(len(at), bool)
    for _ in range(25):
        middle, half = corner + rng.uniform(20, TILE - 20, 2), rng.uniform(4, 9, 2)
        on = (np.abs(at - middle) < half).all(1)
        slope = np.abs(at[on, 1] - middle[1])
        z[on], above[on] = height(middle[None])[0] + rng.uniform(4, 9) + 0.5 * (half[1] - slope), True
    for _ in range(120):
        middle, radius = corner + rng.uniform(0, TILE, 2), rng.uniform(1.5, 5)
        on = np.flatnonzero(((at - middle) ** 2).sum(1) < radius**2)
        on = on[rng.random(len(on)) < 0.7]
        z[on] += np.where(above[on], 0, rng.uniform(1.5, 3 * radius, len(on)))
        above[on] = True
    xyz = np.column_stack([at, z + rng.normal(0, 0.02, len(z))]) + (500_000.0, 5_000_000.0, 0.0)
    return {
        "xyz": xyz,
        "intensity": np.where(above, ABOVE, ON_GROUND).astype(np.uint16),
        "class": np.zeros(len(xyz), np.uint8),
    }


def agreement(job) -> tuple[float, float]:
    """Cohen's kappa and the recall of ground, over every point of the job."""
    table = np.zeros((2, 2), np.int64)
    for scan in job.scans():
        cloud = job.cloud(scan.id)
        for start in range(0, cloud.count, 2_000_000):
            stop = min(start + 2_000_000, cloud.count)
            true = cloud.values("intensity", 0, start, stop) == ON_GROUND
            got = cloud.values("class", 0, start, stop) == 2
            table += np.bincount(2 * true + got, minlength=4).reshape(2, 2)
    share = table / table.sum()
    chance = (share.sum(0) * share.sum(1)).sum()
    return float((np.trace(share) - chance) / (1 - chance)), float(table[1, 1] / table[1].sum())


def land(folder: str, millions: float):
    """A job of so many million points in a folder: (workspace, row, seconds that its import took)."""
    tiles = round(millions * 1e6 / (DENSITY * TILE**2))
    across = int(np.ceil(np.sqrt(tiles)))
    origin = np.array([500_000.0, 5_000_000.0, 0.0])
    with las_writer.Writer(f"{folder}/land.laz", 1e-3, origin) as out, multiprocessing.Pool() as pool:
        for made in pool.imap(functools.partial(tile, across=across), range(tiles)):
            out.write(made)
    open_workspace(f"{folder}/ws")
    row = queries.create_job(f"{folder}/ws", "Land")
    start = time.perf_counter()
    must(f"{folder}/ws", row, "import.files", files=[f"{folder}/land.laz"])
    return f"{folder}/ws", row, time.perf_counter() - start


def main() -> None:
    for millions in [float(word) for word in sys.argv[1:]] or [10, 200]:
        with tempfile.TemporaryDirectory() as folder:
            workspace, row, brought = land(folder, millions)
            watch, start = Watch(), time.perf_counter()
            watch.start()
            figures = must(workspace, row, "classify.ground")
            wall = time.perf_counter() - start
            watch.done.set()
            kappa, recall = agreement(opened(workspace, row))
            print(
                f"{millions:g} M points: import {brought:.0f} s, ground {wall:.0f} s ({watch.used:.0f} s of "
                f"processor time), {watch.most / 2**30:.2f} GB, cells of {figures['resolution_m']:g} m, "
                f"kappa {kappa:.4f}, recall {recall:.4f}; {figures.get('doubt')}",
                flush=True,
            )


if __name__ == "__main__":
    main()
