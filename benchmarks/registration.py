"""Registration of simulated jobs whose truth is known: how many scans are right, doubted, set aside, and
silently wrong.

python benchmarks/registration.py [FAMILY …] [--jobs 3] [--seed 0] [--tell] [--open] [--keep FOLDER]

``--open`` leaves it open what the place decides, which takes as long as the job; ``--keep`` keeps of each job
what was put together last, for ``assembled.py`` to put together again with other rules.

Families: rooms (random floor plans with doors and furniture), hotel (like rooms along a corridor), posed
(rooms with given poses disturbed by decimetres; posed-near, -far, -swapped, -one-off: by a centimetre, by
metres, two exchanged, one 3 m off), tilted (up to 5°), crowd (people and chairs that stand elsewhere in every
scan), floors (two like ones and a stair), corridor (like doors), street (two fronts with windows), terrain
(trees, no wall), islands (two buildings), sectors (rooms, three scans of which saw 40 to 160° only),
bands (rooms, 8 to 30° up and down), odd (see tests/places.py); house, garden, stairwell, plant, nave, tunnel,
garage, shelves (see tests/built.py); cloister, rotunda, bridge, office, flats, cave (see tests/alike.py);
terraces, quarry, dunes (see tests/open_ground.py); and ``house@posed-far``: one of these with poses as that
family's.

*Right*: within 20 mm and 0.2° in its island,
without doubt; *silently wrong*: farther off, without doubt; *truth offered*: of the doubted ones, those whose
truth is among the alternatives (0.3 m).  *Decided*: scans of which the place without noise tells where they
stood (see ambiguity.py), and those of them that are right or doubted.
"""

import argparse
import contextlib
import io
import json
import os
import pickle
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from terrazza.cli.main import main as terrazza
from terrazza.core.geometry import rigid
from terrazza.core.register import search
from terrazza.formats import e57_writer

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
from benchmarks.ambiguity import Evidence, View
from tests import built
from tests.places import COLUMNS, ROWS, WORLDS, rays, scanned

GIVEN = {
    "posed": (0.1, 0.5),
    "posed-near": (0.01, 0.05),
    "posed-far": (1.5, 5.0),
    "posed-swapped": (0.1, 0.5),
    "posed-one-off": (0.02, 0.1),
}  # families with given poses: m and degrees that they are off by
GRIDDED = 0.7  # share of jobs of what is built of meshes whose files have grids
EVERY_OF_MESHES = 31  # ray by which is told what a place of meshes decides, because each takes longer
RIGHT = (0.02, np.radians(0.2))  # m and rad from the truth
ELSEWHERE = 0.3  # m: what is nearer than this is no other place
COUNTED = (
    *("scans", "right", "doubted", "offered", "aside", "wrong"),
    *("decided", "decided_right", "decided_doubted", "open_offered"),
)


def disturbed(family: str, poses: list[np.ndarray], rng) -> list[np.ndarray | None]:
    """What the file says instead of the true poses."""
    if family not in GIVEN:
        return [None] * len(poses)
    shift, turn = GIVEN[family]
    told = []
    for pose in poses:
        one = rigid.make(rigid.about_z(np.radians(rng.normal(0, turn))), np.zeros(3)) @ pose
        one[:3, 3] = pose[:3, 3] + rng.normal(0, shift, 3) * [1, 1, 0.2]
        told.append(one)
    a, b = rng.choice(len(told), 2, replace=False)
    if family == "posed-swapped":
        told[a], told[b] = told[b], told[a]
    if family == "posed-one-off":
        told[a][:2, 3] += 3.0 * np.array([np.cos(t := rng.uniform(0, 6.28)), np.sin(t)])
    return told


@dataclass(frozen=True)
class Sweeps:
    """Of a job: by scan the true ``poses`` (4, 4), points (n, 3) and their rows and columns, and the ``grid``
    that they are of, if files are to have one; and what the place tells of it.
    """

    poses: list[np.ndarray]
    xyz: list[np.ndarray]
    rows: list[np.ndarray]
    columns: list[np.ndarray]
    grid: tuple[int, int] | None
    evidence: Evidence


def of_boxes(family: str, rng) -> Sweeps:
    place = WORLDS[family.split("-")[0]](rng)
    row, column, _ = rays()
    stations, views = list(place.places), {}
    if family == "odd":  # the same station twice, and one that saw next to nothing
        stations, views = [*stations[-5:], stations[-3]], {1: View(0.3, 1.0)}
    if family == "sectors":  # three that did not look all around
        stations = stations[-7:]
        halves = np.radians(rng.choice([20, 35, 55, 80], 3))
        views = {int(k): View(-h, h) for k, h in zip(rng.choice(len(stations), 3, replace=False), halves)}
    if family == "bands":  # nothing of the floor and the ceiling near them
        stations = stations[-7:]
        views = {k: View(steep=np.radians(rng.uniform(8, 30))) for k in range(len(stations))}
    poses, xyz, rows, columns = [], [], [], []
    for k, station in enumerate(stations):
        pose, hit, points = scanned(place, family, station, rng)
        take = views.get(k, View()).of(points)
        poses.append(pose)
        xyz.append(points[take])
        rows.append(row[hit][take])
        columns.append(column[hit][take])
    evidence = Evidence.of(place, poses, family == "crowd", views)
    return Sweeps(poses, xyz, rows, columns, (ROWS, COLUMNS), evidence)


def of_built(family: str, rng) -> Sweeps:
    place, scanner, swept = built.swept(family, rng)
    poses, rows, columns, xyz = map(list, zip(*swept))
    grid = scanner.grid() if rng.random() < GRIDDED else None
    evidence = Evidence(place.clear(), poses, None, scanner.farthest, EVERY_OF_MESHES)
    return Sweeps(poses, xyz, rows, columns, grid, evidence)


def job(family: str, seed: int, path: str) -> Evidence:
    """Write one job as E57; its truth."""
    kind, _, given = family.partition("@")
    rng = np.random.default_rng([seed, sum(map(ord, family))])
    made = (of_built if kind in built.WORLDS else of_boxes)(kind, rng)
    with e57_writer.Writer(path) as out:
        for k, told in enumerate(disturbed(given or kind, made.poses, rng)):
            block = {"xyz": made.xyz[k], "intensity": np.full(len(made.xyz[k]), 20000, np.uint16)}
            if made.grid:
                block |= {"row": made.rows[k].astype(np.uint32), "column": made.columns[k].astype(np.uint32)}
            out.add_scan(f"s{k + 1}", [block], list(block), pose=told, grid=made.grid)
    return made.evidence


def rivals(at: dict[int, list[np.ndarray]], truth: list[np.ndarray], k: int) -> list[dict[int, np.ndarray]]:
    """Where scan k would stand elsewhere, alone and with whatever would go the same way: ``at`` has by scan
    the poses (4, 4) that are possible.
    """
    out = []
    for pose in at.get(k, []):
        if rigid.difference(pose, truth[k])[0] > ELSEWHERE or rigid.difference(pose, truth[k])[1] > 0.05:
            goes = pose @ rigid.inverse(truth[k])
            near = lambda j: any(rigid.difference(goes @ truth[j], p)[0] < ELSEWHERE for p in at[j])
            out += [{k: pose}, {j: goes @ truth[j] for j in at if j == k or near(j)}]
    return out


def onto(poses: dict[int, np.ndarray], truth: list[np.ndarray], reach: tuple[float, float]) -> np.ndarray:
    """The motion (4, 4) of an island, by scan its ``poses`` (4, 4), that puts most within a reach (m, rad) of
    the truth.
    """
    turns = [truth[k] @ rigid.inverse(p) for k, p in poses.items()]
    near = lambda turn: sum(rigid.within(turn @ p, truth[k], reach) for k, p in poses.items())
    return max(turns, key=near, default=np.eye(4))


def judged(
    out: dict, truth: list[np.ndarray], tell: bool = False, evidence: Evidence | None = None
) -> dict[str, int]:
    """Counts over the scans of one job; ``tell`` prints what is doubted or wrong, with how far off it is.
    Without ``evidence`` it is left open what the place decides.
    """
    scans = out["scans"]
    counts = dict.fromkeys(COUNTED, 0)
    for island in {s["island"] for s in scans}:
        members = [k for k, s in enumerate(scans) if s["island"] == island]
        poses = {k: np.array(scans[k]["pose"]).reshape(4, 4) for k in members if scans[k]["pose"]}
        turn = onto(poses, truth, RIGHT)
        at = {
            k: [turn @ p, *(turn @ np.array(a).reshape(4, 4) for a in scans[k]["alternatives"])]
            for k, p in poses.items()
            if scans[k]["doubt"]
        }
        for k in members:
            counts["scans"] += 1
            away = rigid.difference(turn @ poses[k], truth[k]) if k in poses else (np.inf, np.inf)
            good = k in poses and rigid.within(turn @ poses[k], truth[k], RIGHT)
            decided = evidence is not None and evidence.decides(k, rivals(at, truth, k))
            counts["decided"] += decided
            if tell and (k not in poses or scans[k]["doubt"] or not good):
                print(
                    f"    {scans[k]['name']}: off {away[0] * 1000:.1f} mm, {np.degrees(away[1]):.2f}°; "
                    f"{'decided: ' if decided else ''}{scans[k]['doubt'] or 'SILENT'}"
                )
            if k not in poses:
                counts["aside"] += 1
                counts["decided_doubted"] += decided
            elif scans[k]["doubt"]:
                offered = good or any(rigid.difference(p, truth[k])[0] < ELSEWHERE for p in at[k])
                counts["doubted"] += 1
                counts["offered"] += offered
                counts["decided_doubted"] += decided
                counts["open_offered"] += offered and not decided
            else:
                counts["right" if good else "wrong"] += 1
                counts["decided_right"] += good and decided
                counts["open_offered"] += good and not decided
    return counts


@contextlib.contextmanager
def keeping(state: dict) -> Iterator[None]:
    """While it lasts, ``state`` gets what a search puts together: scans, offers and given poses."""
    assembled = search._assembled

    def noted(task, quiet, offers, witnessed, progress):
        state.update(surfaces=task.surfaces, shapes=task.shapes, pictures=task.pictures, given=task.given)
        state.update(fixed=task.fixed, quiet=quiet, offers=list(offers), witnessed=witnessed)
        return assembled(task, quiet, offers, witnessed, progress)

    search._assembled = noted
    try:
        yield
    finally:
        search._assembled = assembled


def run(family: str, seed: int, tell: bool = False, decided: bool = True, keep: str = "") -> dict:
    """Counts of one job; whether it is worked out what the place has ``decided``; ``keep``: the folder for
    what is kept of it.
    """
    state: dict = {}
    with tempfile.TemporaryDirectory() as folder:
        evidence = job(family, seed, os.path.join(folder, "job.e57"))
        with open(os.path.join(folder, "r.toml"), "w") as f:
            f.write('[[step]]\noperation = "import.files"\n[[step]]\noperation = "register.automatic"\n')
        started, before = time.process_time() + os.times().children_user, sys.argv
        sys.argv = [
            "terrazza",
            "run",
            f"{folder}/r.toml",
            "--workspace",
            f"{folder}/ws",
            "--job",
            "J",
            "--figures",
            f"{folder}/out.json",
            f"{folder}/job.e57",
        ]
        try:
            with contextlib.redirect_stderr(io.StringIO()), contextlib.suppress(SystemExit), keeping(state):
                terrazza()
        finally:
            sys.argv = before
        seconds = time.process_time() + os.times().children_user - started
        with open(f"{folder}/out.json") as f:
            out = json.load(f)
        if keep:
            os.makedirs(keep, exist_ok=True)
            with open(f"{keep}/{family}_{seed}.pkl", "wb") as f:
                pickle.dump(state | {"truth": evidence.truth}, f)
        told = judged(out, evidence.truth, tell, evidence if decided else None)
        return told | {"failed": int(out["error"] is not None), "seconds": seconds}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument(
        "families", nargs="*", default=[*WORLDS, *built.WORLDS, *(g for g in GIVEN if g not in WORLDS)]
    )
    parser.add_argument("--jobs", type=int, default=3)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--tell", action="store_true", help="print what is doubted, and why")
    parser.add_argument("--open", action="store_true", help="do not work out what the place decides")
    parser.add_argument("--keep", default="", help="folder for what was put together last of each job")
    args = parser.parse_args()
    for family in args.families:
        rows = []
        for seed in range(args.seed, args.seed + args.jobs):
            rows.append(run(family, seed, args.tell, not args.open, args.keep))
            print(f"  {family} {seed}: {rows[-1]}", flush=True)
        total = {k: sum(r[k] for r in rows) for k in rows[0]}
        print(
            f"{family:8} {args.jobs} jobs, {total['scans']} scans: {total['right']} right, "
            f"{total['doubted']} doubted ({total['offered']} with the truth offered), "
            f"{total['aside']} set aside, "
            f"{total['wrong']} silently wrong; {total['failed']} failed; of {total['decided']} decided "
            f"{total['decided_right']} right, {total['decided_doubted']} doubted; of "
            f"{total['scans'] - total['decided']} others {total['open_offered']} right or with the truth "
            f"offered; "
            f"{total['seconds'] / max(total['scans'], 1):.1f} s a scan"
        )


if __name__ == "__main__":
    main()
