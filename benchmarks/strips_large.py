"""A large flight: how long its strips take to be solved and applied, and how much memory, against the truth.

.venv/bin/python benchmarks/strips_large.py FOLDER [MILLIONS]
"""

import contextlib
import pathlib
import sys
import time

import numpy as np

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from benchmarks.many_scans import Watch
from terrazza.db import queries
from terrazza.formats import las_writer
from terrazza.work.open import open_workspace
from tests.flown import attitude
from tests.run import must

TURN = np.radians([0.21, -0.17, 0.26])
SIDE, PASSES, HALF, HEIGHT, SPEED, RATE = 2000.0, 16, 100.0, 180.0, 25.0, 50.0
ORIGIN = np.array([500_000.0, 4_600_000.0, 0.0])


def heights(xy: np.ndarray) -> np.ndarray:
    """Rolling land with a house in every square of 50 m, each turned its own way."""
    z = 6 * np.sin(xy[:, 0] / 90) * np.cos(xy[:, 1] / 110) + np.sin(xy[:, 0] / 23) * np.sin(xy[:, 1] / 31)
    square = np.floor(xy / 50).astype(np.int64)
    turn = (square[:, 0] * 73856093 ^ square[:, 1] * 19349663) % 628 / 100
    q = xy - (square + 0.5) * 50
    c, s = np.cos(turn), np.sin(turn)
    u, v = q[:, 0] * c + q[:, 1] * s, q[:, 1] * c - q[:, 0] * s
    on = (np.abs(u) < 8) & (np.abs(v) < 6)
    z[on] += 5 + 0.6 * (6 - np.abs(v[on]))
    return z


def build(folder: pathlib.Path, points: int) -> None:
    """flight.laz and path.txt: passes side by side, there and back, and two across."""
    rng, now, rows = np.random.default_rng(3), 1000.0, []
    ways = [
        ((0, y), (SIDE, y))[:: 1 if k % 2 else -1] for k, y in enumerate(np.linspace(60, SIDE - 60, PASSES))
    ]
    ways += [((600, 0), (600, SIDE)), ((1400, SIDE), (1400, 0))]
    with las_writer.Writer(str(folder / "flight.laz"), 1e-3, ORIGIN, time=True) as out:
        for start, end in ways:
            start, end = np.array(start, float), np.array(end, float)
            along = (end - start) / SIDE
            t = np.arange(0, SIDE / SPEED, 1 / RATE)
            wave = lambda most: sum(
                most / k * np.sin(2 * np.pi * t * k / rng.uniform(5, 9) + rng.uniform(0, 6)) for k in (1, 3)
            )
            at = np.c_[start + (t * SPEED)[:, None] * along, np.full(len(t), HEIGHT)]
            at += np.stack([wave(0.4) for _ in range(3)], 1)
            way = np.stack([wave(0.05), wave(0.05), np.arctan2(along[1], along[0]) + wave(0.05)], 1)
            each = points // len(ways)
            s, side = np.sort(rng.uniform(0, t[-1], each)), rng.uniform(-HALF, HALF, each)
            for part in np.array_split(np.arange(each), max(each // 1_000_000, 1)):
                xy = start + s[part, None] * SPEED * along + side[part, None] * [-along[1], along[0]]
                own = np.stack([np.interp(s[part], t, v) for v in (*at.T, *way.T)], 1)
                frames = attitude(own[:, 3:])
                seen = np.einsum("nba,nb->na", frames, np.c_[xy, heights(xy)] - own[:, :3])
                m = seen @ attitude(TURN) + rng.normal(0, 0.02, (len(part), 3))
                told = own[:, :3] + np.einsum("nab,nb->na", frames, m)
                out.write({"xyz": told + ORIGIN, "time": now + s[part]})
            rows.append(np.c_[now + t, at + ORIGIN, np.degrees(way)])
            now += t[-1] + 30
    head = "Time X Y Z Roll Pitch Heading"
    np.savetxt(folder / "path.txt", np.concatenate(rows), "%.9f", header=head, comments="")


@contextlib.contextmanager
def watched():
    """Print the most memory that this process and its helpers took together meanwhile."""
    watch = Watch()
    watch.start()
    try:
        yield
    finally:
        watch.done.set()
        watch.join()
        print(f"  most memory {watch.most / 1e9:.2f} GB over all processes", flush=True)


def main(folder: pathlib.Path, millions: float) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / "flight.laz").exists():
        build(folder, int(millions * 1e6))
    workspace = str(folder / "ws")
    open_workspace(workspace)
    row = queries.create_job(workspace, f"Flight {time.time():.0f}")
    begun = time.perf_counter()
    must(workspace, row, "import.files", files=[str(folder / "flight.laz")])
    print(f"imported in {time.perf_counter() - begun:.0f} s", flush=True)
    path = str(folder / "path.txt")
    with watched():
        begun = time.perf_counter()
        solved = must(workspace, row, "register.strips", trajectory=path, apply=False)
        print(f"solved in {time.perf_counter() - begun:.0f} s: {solved['says']}", flush=True)
    off = np.array(solved["angles_mdeg"]) - np.degrees(TURN) * 1000
    print(
        "  off", np.round(off, 2), "mdeg, σ", np.round(solved["sigma_mdeg"], 2), solved["doubt"], flush=True
    )
    with watched():
        begun = time.perf_counter()
        must(workspace, row, "register.strips", trajectory=path, turn_mdeg=solved["angles_mdeg"])
        print(f"given by number and applied in {time.perf_counter() - begun:.0f} s", flush=True)


if __name__ == "__main__":
    main(pathlib.Path(sys.argv[1]), float(sys.argv[2]) if len(sys.argv) > 2 else 100)
