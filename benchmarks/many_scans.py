"""Registration of a job of many small scans: wall and processor time, memory, and how many stand right.

python benchmarks/many_scans.py [--scans 100 200] [--first 0] [--tell]

Scans of as many simulated buildings as it takes, out of order of place only as buildings are; nothing is told
of where they stood.  Wanted: 400 scans in 15 minutes on two cores with at most 2 GB, and twice the scans in
at most 2.3 times the time.
"""

import argparse
import os
import sys
import tempfile
import threading
import time

import numpy as np
import psutil

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from benchmarks.registration import judged
from terrazza.db import queries
from terrazza.formats import (
    e57_writer,
)
from terrazza.work.open import open_workspace
from tests.boxes import moved
from tests.places import COLUMNS, ROWS, building, rays, scanned
from tests.run import must, opened


def write(path: str, count: int, first: int) -> list[np.ndarray]:
    """A file of ``count`` scans of buildings side by side; the true poses."""
    row, column, _ = rays()
    truth: list[np.ndarray] = []
    with e57_writer.Writer(path) as out:
        number = first
        while len(truth) < count:
            rng = np.random.default_rng([7, number])
            place = moved(building(rng, False), (40.0 * (number % 10), 40.0 * (number // 10), 0.0))
            for station in place.places[: count - len(truth)]:
                pose, hit, xyz = scanned(place, "rooms", station, rng)
                truth.append(pose)
                out.add_scan(
                    f"s{len(truth)}",
                    [
                        {
                            "xyz": xyz,
                            "intensity": np.full(len(xyz), 20000, np.uint16),
                            "row": row[hit].astype(np.uint32),
                            "column": column[hit].astype(np.uint32),
                        }
                    ],
                    ["xyz", "intensity", "row", "column"],
                    grid=(ROWS, COLUMNS),
                )
            number += 1
    return truth


class Watch(threading.Thread):
    """The largest resident memory (``most``, bytes, shared pages once) and the processor time (``used``, s)
    of this process and its helpers while it runs.
    """

    def __init__(self):
        super().__init__(daemon=True)
        self.most, self.used, self.done = 0, 0.0, threading.Event()
        self.before = {
            p.pid: sum(p.cpu_times()[:2])
            for p in (psutil.Process(), *psutil.Process().children(recursive=True))
        }

    def run(self):
        me = psutil.Process()
        while not self.done.wait(0.5):
            total, used = 0, 0.0
            for p in (me, *me.children(recursive=True)):
                try:
                    total += p.memory_full_info().pss
                    used += sum(p.cpu_times()[:2]) - self.before.get(p.pid, 0.0)
                except psutil.Error:
                    continue
            self.most, self.used = max(self.most, total), max(self.used, used)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--scans", type=int, nargs="*", default=[100, 200])
    parser.add_argument("--first", type=int, default=0, help="number of the first building")
    parser.add_argument("--tell", action="store_true", help="print what is doubted or wrong")
    args = parser.parse_args()
    before = None
    for count in args.scans:
        with tempfile.TemporaryDirectory() as folder:
            truth = write(f"{folder}/many.e57", count, args.first)
            open_workspace(f"{folder}/ws")
            row = queries.create_job(f"{folder}/ws", "Many")
            must(f"{folder}/ws", row, "import.files", files=[f"{folder}/many.e57"])
            watch, wall = Watch(), time.perf_counter()
            watch.start()
            figures = must(f"{folder}/ws", row, "register.automatic")
            wall = time.perf_counter() - wall
            watch.done.set()
            job = opened(f"{folder}/ws", row)
            standing = job.facts("standing")
            out = {
                "scans": [
                    {
                        "name": s.name,
                        "island": standing[str(s.id)]["island"],
                        "pose": np.ravel(standing[str(s.id)]["matrix"]).tolist()
                        if standing[str(s.id)]["matrix"]
                        else None,
                        "doubt": standing[str(s.id)]["doubt"],
                        "alternatives": [np.ravel(a).tolist() for a in standing[str(s.id)]["alternatives"]],
                    }
                    for s in job.scans()
                ]
            }
            told = judged(out, truth, args.tell)
            ties = sum(not t["failed"] for t in figures["ties"])
            print(
                f"{count} scans: {wall:.0f} s, {watch.used:.0f} s of processor time "
                f"({watch.used / count:.1f} a scan), {watch.most / 2**30:.2f} GB; {told}; "
                f"{len(figures['islands'])} islands, {ties} ties in the first"
                + (f"; {wall / before:.2f} times the time of half" if before else ""),
                flush=True,
            )
            before = wall


if __name__ == "__main__":
    main()
