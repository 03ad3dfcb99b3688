"""Put jobs together again from what was kept of them (registration.py --keep), with the rules of now.

python benchmarks/assembled.py FILE … [--tell]

A line a job, a letter a scan: R right, o doubted with the truth offered, d doubted without, - alone, X
silently wrong; all as put together (0.12 m and 0.6°), before the adjustment.
"""

import argparse
import os
import pickle
import sys
import time
from collections import Counter

import numpy as np

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from benchmarks.registration import ELSEWHERE, onto
from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.core.register import search

NEAR = (0.12, np.radians(0.6))


def letters(assembly, rivals, doubts, truth: list[np.ndarray]) -> dict[int, str]:
    """By scan what became of it, against the ``truth`` (4, 4) of each; the island's frame is free."""
    out = {}
    for island in dict.fromkeys(assembly.island):
        members = assembly.members(island)
        turn = onto({k: assembly.pose[k] for k in members}, truth, NEAR)
        for k in members:
            good = rigid.within(turn @ assembly.pose[k], truth[k], NEAR)
            others = [rigid.difference(turn @ r, truth[k])[0] < ELSEWHERE for r in rivals[k]]
            if len(members) == 1:
                out[k] = "-"
            elif doubts[k]:
                out[k] = "o" if good or any(others) else "d"
            else:
                out[k] = "R" if good else "X"
    return out


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("files", nargs="+")
    parser.add_argument("--tell", action="store_true", help="print why scans are doubted")
    args = parser.parse_args()
    total: Counter[str] = Counter()
    for path in args.files:
        with open(path, "rb") as f:
            kept = pickle.load(f)
        began = time.process_time()
        task = search._Task(*(kept[k] for k in ("surfaces", "shapes", "pictures", "given", "fixed")))
        found = search._assembled(task, kept["quiet"], kept["offers"], kept["witnessed"], QUIET)
        told = letters(*found, kept["truth"])
        total.update(told.values())
        row = "".join(told[k] for k in sorted(told))
        print(f"{os.path.basename(path):32} {row} {time.process_time() - began:.1f} s", flush=True)
        for k, doubt in enumerate(found[2]):
            if args.tell and doubt:
                print(f"    s{k + 1}: {told[k]} {doubt}")
    print("  ".join(f"{letter} {n}" for letter, n in sorted(total.items())))


if __name__ == "__main__":
    main()
