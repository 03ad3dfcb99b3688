"""Colours from photos against simulated truth: which camera saw a point, whose colour it took, what seams
are left.

python benchmarks/colorize.py [--seeds 0 1 2] [--coarse]

Three stations in a building (``tests/places.py``), each with a photo of its own exposure and white balance,
turned by half a degree and beside the scanner; somebody stands before one camera who was not there when the
scanner looked.
"""

import argparse
import os
import sys
import tempfile
import time

import numpy as np

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from terrazza.core.color.evening import stored
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.work.open import open_workspace
from tests import beams
from tests.photographed import field_work, paint, ranges, seen
from tests.places import Place, building, corridor, street
from tests.run import must, opened

RIM, WRONG = 0.05, 25.0  # m from a silhouette; grey levels from the true colour


def rims(place: Place, eye, at: np.ndarray) -> np.ndarray:
    """Mask of points within ``RIM`` of a silhouette as seen from a place: where a way a little aside meets
    something else.
    """
    out = np.zeros(len(at), bool)
    way = at - eye
    r = np.linalg.norm(way, axis=1)[:, None]
    side = np.cross(way / r, [0, 0, 1.0])
    side /= np.linalg.norm(side, axis=1)[:, None] + 1e-12
    up = np.cross(side, way / r)
    for a, b in ((1, 0), (-1, 0), (0, 1), (0, -1)):
        aside = way + RIM * (a * side + b * up)
        aside /= np.linalg.norm(aside, axis=1)[:, None]
        met = ranges(place, eye, aside)
        near = ranges(place, eye, way / r)
        out |= ~(np.abs(met - near) < 0.5)
    return out


def judge(name: str, place: Place, seed: int, scanner, wide: int, aside: float, turn: float) -> None:
    with tempfile.TemporaryDirectory() as folder:
        open_workspace(os.path.join(folder, "w"))
        path = os.path.join(folder, "f.e57")
        poses, eyes = field_work(path, place, seed, scanner, wide, aside, turn)
        row = queries.create_job(os.path.join(folder, "w"), "c")
        must(os.path.join(folder, "w"), row, "import.files", files=[path])
        must(os.path.join(folder, "w"), row, "register.automatic")
        begun = time.perf_counter()
        told = must(os.path.join(folder, "w"), row, "colorize.photos")
        took = time.perf_counter() - begun
        job = opened(os.path.join(folder, "w"), row)
        tally = np.zeros(8)
        for pose, scan in zip(poses, job.scans()):
            cloud = job.cloud(scan.id)
            at = rigid.apply(pose, cloud.xyz())
            rgb = np.asarray(cloud.read("photo_rgb")).astype(float)
            lit = rgb.any(1)
            visible = np.zeros(len(at), bool)
            rim = np.zeros(len(at), bool)
            for eye in eyes:
                sees = seen(place, eye, at)
                visible |= sees
            rim = rims(place, eyes[scan.id - 1], at)
            true = stored(paint(place, at, seed))
            # the whole job has one exposure: compare after one gain a channel
            gain = np.median(rgb[lit] / np.maximum(true[lit], 1), axis=0)
            wrong = np.abs(rgb - true * gain).max(1) > WRONG
            tally += [
                visible.sum(),
                (visible & lit).sum(),
                (lit & ~visible).sum(),
                (lit & visible & wrong).sum(),
                (visible & rim).sum(),
                (visible & rim & lit).sum(),
                (lit & ~visible & rim).sum(),
                (lit & visible & rim & wrong).sum(),
            ]
        v, vl, bad, w, rv, rvl, rbad, rw = tally
        points = sum(s.points for s in job.scans())
        print(
            f"{name:<10} {seed:>3}  coloured of seen {vl / v:7.2%} (rim {rvl / rv:7.2%})  unseen "
            f"{bad / (vl + bad):7.3%} (rim {rbad / max(rvl + rbad, 1):7.3%})  other colour {w / vl:6.2%} "
            f"(rim {rw / max(rvl, 1):6.2%})  seams {told['seams']['before']:.1f} → "
            f"{told['seams']['after']:.1f}  turned {sum(t['used'] for t in told['turns'])}  passers "
            f"{told['photos_with_passers']}  "
            f"{points / took / 1e6:.2f} M/s",
            flush=True,
        )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, nargs="*", default=[0, 1])
    parser.add_argument("--coarse", action="store_true")
    args = parser.parse_args()
    scanner = beams.Scanner(rows=400, columns=1000) if args.coarse else beams.Scanner(rows=900, columns=2300)
    for seed in args.seeds:
        for name, make in (
            ("building", lambda rng: building(rng, False)),
            ("corridor", corridor),
            ("street", street),
        ):
            place = make(np.random.default_rng([11, seed]))
            judge(name, place, seed, scanner, 2400, 0.08, 0.4)


if __name__ == "__main__":
    main()
