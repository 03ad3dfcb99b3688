"""Registration of simulated jobs whose truth is known: how many scans are right, doubted, set aside, and silently wrong.

    python benchmarks/registration.py [FAMILY …] [--jobs 3] [--seed 0] [--tell]

Families: rooms (random floor plans with doors and furniture), hotel (like rooms along a corridor), posed (rooms with given poses
disturbed by centimetres to decimetres), tilted (up to 5°), crowd (people and chairs that stand elsewhere in every scan), floors (two like ones
and a stair), corridor (like doors), street (two fronts with windows), terrain (trees, no wall), islands (two buildings), odd.  See tests/places.py.  *Right*: within 20 mm and 0.2° in its island, without doubt; *silently wrong*: farther off, without doubt;
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

from terrazza.cli.main import main as terrazza
from terrazza.core.geometry import rigid
from terrazza.formats import e57

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from tests.places import COLUMNS, ROWS, WORLDS, rays, scanned  # noqa: E402


def disturbed(family: str, pose: np.ndarray, rng) -> np.ndarray:
    """What the file says instead of the true pose."""
    told = rigid.make(rigid.about_z(np.radians(rng.normal(0, 0.5))), np.zeros(3)) @ pose
    told[:3, 3] = pose[:3, 3] + rng.normal(0, 0.1, 3) * [1, 1, 0.2]
    return told


def job(family: str, seed: int, path: str) -> list[np.ndarray]:
    """Write one job as E57; its true poses."""
    rng = np.random.default_rng([seed, sum(map(ord, family))])
    place = WORLDS[family](rng)
    row, column, _ = rays()
    poses, stations = [], list(place.places)
    if family == "odd":  # the same station twice, and one that saw next to nothing
        stations = [*stations[-5:], stations[-3]]
    with e57.Writer(path) as out:
        for k, station in enumerate(stations):
            pose, hit, xyz = scanned(place, family, station, rng)
            take = np.ones(len(xyz), bool)
            if family == "odd" and k == 1:
                take = (np.arctan2(xyz[:, 1], xyz[:, 0]) > 0.3) & (np.arctan2(xyz[:, 1], xyz[:, 0]) < 1.0)
            told = disturbed(family, pose, rng) if family == "posed" else None
            out.add_scan(f"s{k + 1}", [{"xyz": xyz[take], "intensity": np.full(int(take.sum()), 20000, np.uint16), "row": row[hit][take].astype(np.uint32), "column": column[hit][take].astype(np.uint32)}],
                         ["xyz", "intensity", "row", "column"], pose=told, grid=(ROWS, COLUMNS))
            poses.append(pose)
    return poses


def judged(out: dict, truth: list[np.ndarray], tell: bool = False) -> dict[str, int]:
    """Counts over the scans of one job; ``tell`` prints what is doubted or wrong, with how far off it is."""
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
            if tell and (k not in poses or scans[k]["doubt"] or not good):
                print(f"    {scans[k]['name']}: off {away[0] * 1000:.1f} mm, {np.degrees(away[1]):.2f}°; {scans[k]['doubt'] or 'SILENT'}")
            if k not in poses:
                counts["aside"] += 1
            elif scans[k]["doubt"]:
                counts["doubted"] += 1
                counts["offered"] += any(rigid.difference(turn @ np.array(a).reshape(4, 4), truth[k])[0] < 0.3 for a in scans[k]["alternatives"]) or good
            else:
                counts["right" if good else "wrong"] += 1
    return counts


def run(family: str, seed: int, tell: bool = False) -> dict:
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
        return judged(out, truth, tell) | {"failed": int(out["error"] is not None), "seconds": time.process_time() + os.times().children_user - started}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("families", nargs="*", default=list(WORLDS))
    parser.add_argument("--jobs", type=int, default=3)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--tell", action="store_true", help="print what is doubted, and why")
    args = parser.parse_args()
    for family in args.families:
        rows = []
        for seed in range(args.seed, args.seed + args.jobs):
            rows.append(run(family, seed, args.tell))
            print(f"  {family} {seed}: {rows[-1]}", flush=True)
        total = {k: sum(r[k] for r in rows) for k in rows[0]}
        print(f"{family:8} {args.jobs} jobs, {total['scans']} scans: {total['right']} right, {total['doubted']} doubted ({total['offered']} with the truth offered), {total['aside']} set aside, "
              f"{total['wrong']} silently wrong; {total['failed']} failed; {total['seconds'] / max(total['scans'], 1):.1f} s a scan")


if __name__ == "__main__":
    main()
