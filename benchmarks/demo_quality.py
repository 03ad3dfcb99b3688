"""The demo job against its truth: poses, control, ground, outlier filter, colour, time and memory.

    python benchmarks/demo_quality.py [--field FOLDER]

Runs the demo recipe in a fresh workspace and prints one row a figure with its target.
"""

import argparse
import json
import os
import sys
import tempfile
import time

import numpy as np
import truth as known
from measuring import run_measured

from terrazza.core.clean import outliers
from terrazza.core.geometry import rigid
from terrazza.db.queries import add_entry, job_by
from terrazza.demo import build, settegradini
from terrazza.operations.spine.job import Job
from terrazza.work.open import open_workspace
from terrazza.work.runner import run_entry

RECIPE = os.path.join(os.path.dirname(__file__), "..", "docs", "recipes", "whole-job.toml")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--field", default="", help="field data built before; empty: build it now")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        field = args.field
        if not field:
            field = os.path.join(scratch, "field")
            started = time.time()
            build.build(field)
            show("field data built", time.time() - started, "s", "< 60")
        workspace, figures = os.path.join(scratch, "ws"), os.path.join(scratch, "figures.json")
        files = sorted(os.path.join(field, f) for f in os.listdir(field) if f.endswith(".e57"))
        seconds, peak = run_measured(
            [
                sys.executable,
                "-m",
                "terrazza.cli.main",
                "run",
                RECIPE,
                "--workspace",
                workspace,
                "--job",
                "Demo",
                "--figures",
                figures,
                *files,
            ]
        )
        show("whole recipe", seconds, "s", "< 180")
        show("peak memory", peak, "GB", "< 2")
        with open(figures) as f:
            judge(json.load(f), field, workspace)


def show(what: str, value: float, unit: str, target: str) -> None:
    print(f"{what:<52} {value:10.3f} {unit:<6} {target}", flush=True)


def judge(figures: dict, field: str, workspace: str) -> None:
    truth = known.load(field)
    poses, real = (
        [np.array(s["pose"]).reshape(4, 4) for s in figures["scans"]],
        [np.array(truth["poses"][truth["names"].index(s["name"])]) for s in figures["scans"]],
    )
    position, attitude = known.pose_errors(poses, real)
    show("scans placed", len(poses), "", "8")
    show("worst position error", position.max(), "mm", "< 3")
    show("worst attitude error", attitude.max(), "°", "< 0.02")
    by_name = {s["operation"]: s["figures"] for s in figures["steps"]}
    show("control RMS", by_name["georeference.control"]["rms_mm"], "mm", "< 3")
    open_workspace(workspace)
    job = Job(workspace, job_by(name="Demo"))
    taken, codes = [], []
    for scan in job.scans():
        about = known.per_point(field, job, scan)
        cloud = job.cloud(scan.id)
        gone = ~cloud.kept()
        taken.append((about, gone, np.linalg.norm(cloud.xyz(), axis=1)))
        codes.append((about, np.asarray(cloud.read("class")), ~gone))
    ground(codes)
    filtered(taken)
    coloured(job, field)


def ground(codes) -> None:
    hit = miss = false = 0
    for about, code, kept in codes:
        use = kept & (about["kind"] == known.REAL) & ~about["moved"]
        is_ground, said = about["code"][use] == 2, code[use] == 2
        hit, miss, false = (
            hit + (is_ground & said).sum(),
            miss + (is_ground & ~said).sum(),
            false + (~is_ground & said).sum(),
        )
    show("ground F1", 2 * hit / (2 * hit + miss + false), "", "> 0.95")


def filtered(taken) -> None:
    detached = np.concatenate(
        [(a["kind"] == known.MIXED) & (a["clear"] > known.DETACHED) for a, _, _ in taken]
    )
    mirrored = np.concatenate([a["kind"] == known.MIRRORED for a, _, _ in taken])
    real = np.concatenate([a["kind"] == known.REAL for a, _, _ in taken])
    gone, ranges = np.concatenate([g for _, g, _ in taken]), np.concatenate([r for _, _, r in taken])
    show(f"detached mixed pixels taken (of {detached.sum():,})", gone[detached].mean() * 100, "%", "> 80")
    show(f"mirror images taken (of {mirrored.sum():,})", gone[mirrored].mean() * 100, "%", "reported")
    for low, high in zip(outliers.BANDS[:-1], outliers.BANDS[1:]):
        here = real & (ranges >= low) & (ranges < high)
        if here.any():
            name = f"real points taken, from {low:g} m on (of {here.sum():,})"
            show(name, 100 * gone[here].mean(), "%", "< 1")


LEAVES = (3, 4, 5)


def coloured(job: Job, field: str) -> None:
    """Share of coloured solid points with a free line to a camera (leaves are left out: their gaps are drawn
    anew for each ray).
    """
    work, world = build.field_work(), settegradini.build()
    show(
        "coloured points seen by some camera",
        *_seen_share(job, field, work, world, range(len(work.poses))),
        "> 99",
    )
    entry = add_entry(job.row, "colorize.photos", 1, {"neighbours": False})
    run_entry(job.workspace, entry)
    again = Job(job.workspace, job.row)
    show(
        "the same, own photo only, seen by its camera", *_seen_share(again, field, work, world, None), "> 99"
    )


def _seen_share(job, field, work, world, cameras):
    right = total = 0
    for scan in job.scans():
        cloud, k = job.cloud(scan.id), known.station(field, scan)
        about = known.per_point(field, job, scan)
        solid = (
            (about["kind"] == known.REAL)
            & ~np.isin(about["code"], LEAVES)
            & np.asarray(cloud.read("photo_rgb")).any(1)
        )
        pick = np.sort(np.random.default_rng(1).choice(np.flatnonzero(solid), 20_000, replace=False))
        xyz = rigid.apply(work.poses[k], cloud.xyz()[pick])
        free = np.zeros(len(xyz), bool)
        for j in cameras if cameras is not None else (k,):
            free |= known.seen(world, j, (work.poses[j] @ work.cameras[j])[:3, 3], xyz)
        right, total = right + int(free.sum()), total + len(xyz)
    return 100 * right / total, "%"


if __name__ == "__main__":
    main()
