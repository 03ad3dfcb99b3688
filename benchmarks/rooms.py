"""Rooms of simulated floors (see tests/plans.py) against their truth, and the time of a floor of twenty.

python benchmarks/rooms.py [--floors 6] [--seed 100] [--coarse]
"""

import argparse
import pathlib
import sys
import time

import numpy as np
from shapely.geometry import LineString, Polygon

from terrazza.core.draw import floor_plan, rooms

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests import plans
from tests.operations.test_rooms import corners_of, scanned


def judged(floor, got, height: float) -> dict:
    """Errors of one floor: corners, angles, openings' widths (m, rad), and shares of wall lines."""
    out = {k: [] for k in ("corner", "angle", "width", "off", "missed", "pieces")}
    for room in got:
        shape = Polygon(room.corners)
        true = next((r for r in floor.rooms if Polygon(r).contains(shape.representative_point())), None)
        if true is None:
            out["pieces"].append(len(room.outline))
            continue
        starts, corners = np.array([f.start for f in room.outline]), corners_of(true)
        out["corner"] += [np.linalg.norm(starts - c, axis=1).min() for c in corners]
        out["pieces"].append(abs(len(room.outline) - len(corners)))
        for face in room.outline:
            if face.centre is None and face.length > 3 and face.points:
                ahead = np.roll(corners, -1, 0) - corners
                ahead /= np.linalg.norm(ahead, axis=1)[:, None]
                out["angle"].append(np.arccos(np.clip((ahead @ face.along).max(), -1, 1)))
    gaps = floor_plan.gaps_of(got)
    for ends, *_ in floor.openings:
        away = [np.linalg.norm(g.ends.mean(0) - ends.mean(0)) for g in gaps]
        k = int(np.argmin(away)) if gaps else -1
        found = k >= 0 and away[k] < 0.3
        out["width"].append(gaps[k].width - np.linalg.norm(ends[1] - ends[0]) if found else np.inf)
    drawn = [d for d in floor_plan.lines_of(got, height) if d.layer == "WALLS"]
    lines = [LineString(np.r_[d.vertices, d.vertices[:1]] if d.closed else d.vertices) for d in drawn]
    true = [LineString([w[:2], w[2:4]]) for w in floor.walls]
    here = [t for t, w in zip(true, floor.walls) if w[4] < height < w[5] and w[5] == floor.height]
    for line in lines:
        places = map(line.interpolate, np.arange(0.02, line.length, 0.05))
        out["off"] += [min(t.distance(p) for t in true) for p in places]
    for t in here:
        places = map(t.interpolate, np.arange(0.05, t.length, 0.1))
        out["missed"] += [min((line.distance(p) for line in lines), default=9.0) for p in places]
    return out


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--floors", type=int, default=6)
    parser.add_argument("--seed", type=int, default=100)
    parser.add_argument("--coarse", action="store_true")
    args = parser.parse_args()
    how = {"rows": 200, "columns": 620, "noise": 0.003} if args.coarse else {}
    total, wanted, found = {}, 0, 0
    for seed in range(args.seed, args.seed + args.floors):
        rng = np.random.default_rng(seed)
        floor = plans.floor_of(rng)
        points, who = scanned(floor, rng, **how)
        got = rooms.find(points, who, np.array(floor.stations), 0.0)
        wanted, found = wanted + len(floor.rooms), found + len(got)
        for k, v in judged(floor, got, 1.3).items():
            total.setdefault(k, []).extend(v)
    share = lambda k, limit: float((np.abs(total[k]) < limit).mean())
    told = [
        f"{found} of {wanted} rooms",
        f"corners within 8 mm {share('corner', 0.008):.1%} (wanted 90 %)",
        f"angles of faces over 3 m within 0.05° {share('angle', np.radians(0.05)):.1%} (95 %)",
        f"widths of openings within 15 mm {share('width', 0.015):.1%} (90 %)",
        f"drawn walls within 5 mm of true ones {share('off', 0.005):.1%}",
        f"true walls within 5 mm of drawn ones {share('missed', 0.005):.1%} (97 %)",
        f"most pieces too many or too few in a room {max(total['pieces'])} (2)",
    ]
    print(", ".join(told))
    rng = np.random.default_rng(args.seed)
    floor = plans.floor_of(rng, 5, 4)
    points, who = scanned(floor, rng)
    start = time.perf_counter()
    got = rooms.find(points, who, np.array(floor.stations), 0.0)
    print(
        f"twenty rooms, {len(points):,} points: {len(got)} found in {time.perf_counter() - start:.1f} s (20)"
    )


if __name__ == "__main__":
    main()
