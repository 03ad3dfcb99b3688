"""The look inside an E57 of 40 scans and 2 GB: its list, and the thumbnails against bare decoding of every
scan on as many cores.

python benchmarks/looking_inside.py FOLDER     (the file is made there once)
"""

import os
import pathlib
import sys
import tempfile
import time
from multiprocessing import get_context

import numpy as np

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from benchmarks.import_export import decode_scan
from terrazza.core.geometry import rigid
from terrazza.demo import settegradini as estate
from terrazza.demo.build import field_work
from terrazza.formats import (
    e57,
    e57_writer,
    glimpse,
)
from terrazza.instruments.scanner import Setup, sweep
from terrazza.work.looking import Looker

SCANS = 40
SETUP = Setup(columns=3200, rows=1350, beam=0.0)


def make(path: str) -> None:
    """Forty scans from eight stations of the demo estate, each turned another way."""
    world, poses = estate.build(), field_work().poses
    swept = [sweep(world, pose, SETUP, k, 100 + k) for k, pose in enumerate(poses)]
    with e57_writer.Writer(path) as out:
        for k in range(SCANS):
            data, turn = swept[k % len(swept)], rigid.about_z(0.15 * k)
            chunk = {
                "xyz": np.stack([data[a] for a in "xyz"], 1) @ turn.T,
                "intensity": data["intensity"],
                "native_rgb": data["rgb"],
                "row": data["row"],
                "column": data["column"],
                "invalid": np.where(data["valid"], 0, 2),
            }
            out.add_scan(
                f"Scan {k + 1}",
                [chunk],
                ["xyz", "intensity", "native_rgb", "row", "column", "invalid"],
                pose=poses[k % 8] @ rigid.inverse(rigid.make(turn, np.zeros(3))),
                grid=(SETUP.rows, SETUP.columns),
                bounds=(np.full(3, -75.0), np.full(3, 75.0)),
            )


def main(folder: str) -> None:
    path = os.path.join(folder, "forty.e57")
    if not os.path.exists(path):
        make(path)
    print(f"{os.path.getsize(path) / 1e9:.2f} GB", flush=True)
    started = time.time()
    found = e57.look(path)
    print(
        f"list of {len(found.scans)} scans, {sum(s.points for s in found.scans) / 1e6:.0f} M points: "
        f"{time.time() - started:.2f} s (wanted: under 3)",
        flush=True,
    )
    cores = min(os.cpu_count() or 1, 4)
    started = time.time()
    with get_context("spawn").Pool(cores) as pool:
        pool.starmap(decode_scan, [(path, k) for k in range(SCANS)], chunksize=1)
    bare = time.time() - started
    with tempfile.TemporaryDirectory() as kept:
        looker, asks, started = (
            Looker(cores),
            [glimpse.Ask(path, k, (), kept) for k in range(SCANS)],
            time.time(),
        )
        first = None
        while waiting := [a for a in asks if looker.ask(a) is None]:
            first = first or (time.time() - started if len(waiting) < SCANS else None)
            time.sleep(0.05)
        took = time.time() - started
        looker.close()
    print(
        f"thumbnails with extent, unit and up-axis of all: {took:.1f} s, the first after {first:.1f} s; bare "
        f"decoding of every scan on {cores} cores {bare:.1f} s, ratio {took / bare:.2f} (wanted: 1)",
        flush=True,
    )


if __name__ == "__main__":
    main(sys.argv[1])
