"""Registration of simulated jobs whose truth is known: how many scans are right, doubted, set aside, and silently wrong.

    python benchmarks/registration.py [FAMILY …] [--jobs 3] [--seed 0]

Families: rooms (random floor plans with doors and furniture), hotel (like rooms along a corridor), posed (rooms with given poses
disturbed by centimetres to decimetres), street (two fronts with windows).  The simulator casts rays at boxes and knows nothing of
the demo's instruments.  *Right*: within 20 mm and 0.2° in its island, without doubt; *silently wrong*: farther off, without doubt;
*truth offered*: of the doubted ones, those whose truth is among the alternatives (0.3 m).
"""

import argparse
import contextlib
import io
import json
import os
import sys
import tempfile
import time

import numpy as np
from numba import njit

from terrazza.cli.main import main as terrazza
from terrazza.core.geometry import rigid
from terrazza.formats import e57

ROWS, COLUMNS, LOW, HIGH, FARTHEST = 220, 480, -62.0, 82.0, 60.0


@njit(cache=True)
def cast(origin, rays, low, high):
    """Range (m) of each ray to the first box face, infinite where there is none."""
    out = np.full(len(rays), np.inf)
    for i in range(len(rays)):
        for k in range(len(low)):
            near, far = -np.inf, np.inf
            for a in range(3):
                d = rays[i, a] if abs(rays[i, a]) > 1e-12 else 1e-12
                t1, t2 = (low[k, a] - origin[a]) / d, (high[k, a] - origin[a]) / d
                near, far = max(near, min(t1, t2)), min(far, max(t1, t2))
            if near < far and 0.05 < near < out[i]:
                out[i] = near
    return out


def wall(boxes, axis, at, start, stop, gaps, height, thick=0.12):
    """A wall along an axis with gaps (from, to, sill, head): doors and windows."""
    cuts = sorted({start, stop, *(g for gap in gaps for g in gap[:2])})
    for a, b in zip(cuts, cuts[1:]):
        gap = next((g for g in gaps if g[0] <= a and b <= g[1]), None)
        for low, high in [(0.0, height)] if gap is None else [(0.0, gap[2]), (gap[3], height)]:
            if high > low and b > a:
                lo, hi = [a, at - thick / 2, low], [b, at + thick / 2, high]
                boxes.append((lo, hi) if axis == 0 else ([lo[1], lo[0], lo[2]], [hi[1], hi[0], hi[2]]))


def shell(boxes, width, depth, height):
    boxes += [([-0.3, -0.3, -0.2], [width + 0.3, depth + 0.3, 0.0]), ([-0.3, -0.3, height], [width + 0.3, depth + 0.3, height + 0.2])]


def furnish(boxes, rng, x0, x1, y0, y1, keep, n):
    for _ in range(n):
        w, d, h = rng.uniform(0.4, 1.6), rng.uniform(0.4, 0.9), rng.choice([0.45, 0.75, 1.2, 2.0]) * rng.uniform(0.9, 1.1)
        x, y = rng.uniform(x0 + 0.1, max(x1 - w - 0.1, x0 + 0.2)), rng.choice([y0 + 0.08, y1 - d - 0.08]) if rng.random() < 0.7 else rng.uniform(y0 + 0.3, max(y1 - d - 0.3, y0 + 0.4))
        if not any(x - 0.5 < p[0] < x + w + 0.5 and y - 0.5 < p[1] < y + d + 0.5 for p in keep):
            boxes.append(([x, y, 0.0], [x + w, y + d, h]))


def building(rng, alike: bool):
    """Boxes and station places: a corridor with rooms on both sides; ``alike``: all rooms and their furniture the same."""
    n, height, corridor = int(rng.integers(3, 5)), rng.uniform(2.5, 3.2), rng.uniform(1.5, 2.2)
    widths = np.full(n, rng.uniform(3.6, 4.4)) if alike else rng.uniform(3.0, 6.5, n)
    depth, edges = (rng.uniform(4.2, 5.5), np.r_[0, np.cumsum(widths)])
    width, boxes, places = float(edges[-1]), [], []
    shell(boxes, width, depth + corridor, height)
    doors = [(a + 0.7, a + 1.6, 0.0, 2.05) for a in edges[:-1]] if alike else [(a + (o := rng.uniform(0.3, w - 1.3)), a + o + 0.9, 0.0, 2.05) for a, w in zip(edges, widths)]
    windows = [(a + w / 2 - 0.6, a + w / 2 + 0.6, 0.9, 2.1) for a, w in zip(edges, widths)]
    wall(boxes, 0, corridor, 0, width, doors, height)
    wall(boxes, 0, corridor + depth, 0, width, windows, height, 0.3)
    wall(boxes, 0, 0.0, 0, width, [] if alike else [(width * 0.4, width * 0.4 + 1.5, 0.9, 2.0)], height, 0.3)
    for x in edges:
        wall(boxes, 1, float(x), corridor if 0 < x < width else 0, corridor + depth, [], height)
    for k, (a, w) in enumerate(zip(edges, widths)):
        places.append((a + w * (0.5 if alike else rng.uniform(0.35, 0.65)), corridor + depth * rng.uniform(0.35, 0.65)))
    for x in np.arange(1.5, width, 4.6):
        places.append((x + rng.uniform(-0.4, 0.4), corridor * rng.uniform(0.4, 0.6)))
    for a, w in zip(edges, widths):
        spread = np.random.default_rng(5) if alike else rng
        part = []
        furnish(part, spread, 0.1, w - 0.1, corridor + 0.1, corridor + depth - 0.1, [(p[0] - a, p[1]) for p in places] if not alike else [(w / 2, corridor + depth / 2)], 4)
        boxes += [([lo[0] + a, lo[1], lo[2]], [hi[0] + a, hi[1], hi[2]]) for lo, hi in part]
    return boxes, places


def street(rng):
    boxes, places, length = [([-5, -15, -0.3], [75, 25, 0.0])], [], 70.0
    for at, sign in ((0.0, -1), (rng.uniform(9, 13), 1)):
        x = 0.0
        while x < length:
            w = rng.uniform(6, 14)
            set_back, height = rng.uniform(0, 0.8) * sign, rng.uniform(6, 12)
            holes = [(x + k + 0.8, x + k + 0.8 + rng.uniform(0.9, 1.4), z, z + 1.5) for k in np.arange(0, w - 2.5, rng.uniform(2.2, 3.2)) for z in (0.9,)]
            wall(boxes, 0, at + set_back, x, min(x + w, length), holes, height, 0.4)
            boxes.append(([x, at + set_back + (sign * 0.5 if sign > 0 else -0.9), 0], [min(x + w, length), at + set_back + (0.9 if sign > 0 else -0.5), height]))
            x += w
    for _ in range(8):
        x, y = rng.uniform(3, length - 3), rng.choice([2.0, 7.0])
        boxes.append(([x, y, 0], [x + rng.uniform(0.3, 4), y + rng.uniform(0.3, 1.8), rng.uniform(1.0, 4)]))
    for x in np.arange(12, 58, 12.0):
        places.append((x + rng.uniform(-2, 2), rng.uniform(3.5, 5.5)))
    return boxes, places


def job(family: str, seed: int, path: str) -> list[np.ndarray]:
    """Write one job as E57; its true poses."""
    rng = np.random.default_rng([seed, sum(map(ord, family))])
    boxes, places = street(rng) if family == "street" else building(rng, family == "hotel")
    low, high = (np.array([b[k] for b in boxes], float) for k in (0, 1))
    row, column = (a.ravel() for a in np.meshgrid(np.arange(ROWS), np.arange(COLUMNS), indexing="ij"))
    el, az = np.radians(LOW + (HIGH - LOW) * (row + 0.5) / ROWS), 2 * np.pi * column / COLUMNS
    rays = np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], 1)
    poses = []
    with e57.Writer(path) as out:
        for k, (x, y) in enumerate(places):
            tilt = rigid.rotation_from(np.append(rng.normal(0, np.radians(0.003), 2), 0))
            pose = rigid.make(tilt @ rigid.about_z(rng.uniform(-np.pi, np.pi)), np.array([x, y, rng.uniform(1.4, 1.75)]))
            people_low, people_high = [], []
            for _ in range(int(rng.integers(0, 3))):  # somebody who walks about
                p = np.array([x, y]) + rng.uniform(1.0, 2.2) * np.array([np.cos(t := rng.uniform(0, 6.3)), np.sin(t)])
                people_low.append([p[0] - 0.2, p[1] - 0.15, 0.0])
                people_high.append([p[0] + 0.2, p[1] + 0.15, 1.75])
            lo, hi = (np.r_[low, np.array(p).reshape(-1, 3)] for p, low in ((people_low, low), (people_high, high)))
            r = cast(pose[:3, 3], rays @ pose[:3, :3].T, lo, hi)
            hit = r < FARTHEST
            measured = r[hit] + rng.normal(0, 0.002, int(hit.sum()))
            told = pose.copy()
            if family == "posed":
                told = rigid.make(rigid.about_z(np.radians(rng.normal(0, 0.5))), np.zeros(3)) @ pose
                told[:3, 3] = pose[:3, 3] + rng.normal(0, 0.1, 3) * [1, 1, 0.2]
            out.add_scan(f"s{k + 1}", [{"xyz": rays[hit] * measured[:, None], "intensity": np.full(int(hit.sum()), 20000, np.uint16), "row": row[hit].astype(np.uint32), "column": column[hit].astype(np.uint32)}],
                         ["xyz", "intensity", "row", "column"], pose=told if family == "posed" else None, grid=(ROWS, COLUMNS))
            poses.append(pose)
    return poses


def judged(out: dict, truth: list[np.ndarray]) -> dict[str, int]:
    """Counts over the scans of one job."""
    scans, counts = out["scans"], dict.fromkeys(("scans", "right", "doubted", "offered", "aside", "wrong"), 0)
    for island in {s["island"] for s in scans}:
        members = [k for k, s in enumerate(scans) if s["island"] == island]
        poses = {k: np.array(scans[k]["pose"]).reshape(4, 4) for k in members if scans[k]["pose"]}
        turns = [truth[k] @ rigid.inverse(p) for k, p in poses.items()]
        near = lambda turn: sum(rigid.difference(turn @ p, truth[k])[0] < 0.02 for k, p in poses.items())  # noqa: E731
        turn = max(turns, key=near) if turns else np.eye(4)
        for k in members:
            counts["scans"] += 1
            away = rigid.difference(turn @ poses[k], truth[k]) if k in poses else (np.inf, np.inf)
            good = away[0] < 0.02 and away[1] < np.radians(0.2)
            if k not in poses:
                counts["aside"] += 1
            elif scans[k]["doubt"]:
                counts["doubted"] += 1
                counts["offered"] += any(rigid.difference(turn @ np.array(a).reshape(4, 4), truth[k])[0] < 0.3 for a in scans[k]["alternatives"]) or good
            else:
                counts["right" if good else "wrong"] += 1
    return counts


def run(family: str, seed: int) -> dict:
    with tempfile.TemporaryDirectory() as folder:
        truth = job(family, seed, os.path.join(folder, "job.e57"))
        with open(os.path.join(folder, "r.toml"), "w") as f:
            f.write('[[step]]\noperation = "import.files"\n[[step]]\noperation = "register.automatic"\n')
        started, before = time.process_time() + os.times().children_user, sys.argv
        sys.argv = ["terrazza", "run", f"{folder}/r.toml", "--workspace", f"{folder}/ws", "--job", "J", "--figures", f"{folder}/out.json", f"{folder}/job.e57"]
        try:
            with contextlib.redirect_stderr(io.StringIO()), contextlib.suppress(SystemExit):
                terrazza()
        finally:
            sys.argv = before
        with open(f"{folder}/out.json") as f:
            out = json.load(f)
        return judged(out, truth) | {"failed": int(out["error"] is not None), "seconds": time.process_time() + os.times().children_user - started}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("families", nargs="*", default=["rooms", "hotel", "posed", "street"])
    parser.add_argument("--jobs", type=int, default=3)
    parser.add_argument("--seed", type=int, default=0)
    args = parser.parse_args()
    for family in args.families:
        rows = []
        for seed in range(args.seed, args.seed + args.jobs):
            rows.append(run(family, seed))
            print(f"  {family} {seed}: {rows[-1]}", flush=True)
        total = {k: sum(r[k] for r in rows) for k in rows[0]}
        print(f"{family:8} {args.jobs} jobs, {total['scans']} scans: {total['right']} right, {total['doubted']} doubted ({total['offered']} with the truth offered), {total['aside']} set aside, "
              f"{total['wrong']} silently wrong; {total['failed']} failed; {total['seconds'] / max(total['scans'], 1):.1f} s a scan")


if __name__ == "__main__":
    main()
