"""The plan of the registration report: what stands at eye height, stations, ties, control, ellipses."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.draw.plan_slab import EYE
from terrazza.operations.draw.slab import floor_height, slab_points
from terrazza.operations.spine.job import Job, Scan, covariance_of

with later():
    from terrazza.core.geometry import voxels
    from terrazza.formats import report

ELLIPSE = 0.05  # of the plan's width: how long the largest ellipse is drawn, about


def site_plan(job: Job, progress: Progress) -> list:
    """The plan, and what it shows in words."""
    placed = {s.id: s for s in job.scans(placed=True)}
    plan = report.Plan()
    if not placed:
        return [report.Text("No scan has a place.")]
    height = floor_height(job) + EYE
    points = slab_points(job, list(placed.values()), height - 0.05, height + 0.05, progress)
    flat = np.c_[points[:, :2], np.zeros(len(points))]
    thin = flat[voxels.one_per_cell(flat - flat.mean(0), 0.08), :2] if len(flat) else flat[:, :2]
    plan.points = thin[:: max(1, len(thin) // 9000)]
    at = {k: job.grid_pose(s)[:2, 3] for k, s in placed.items()}
    plan.ties = [
        (at[t["a"]], at[t["b"]], bool(t["failed"]))
        for t in job.facts("tie").values()
        if t["a"] in at and t["b"] in at
    ]
    plan.stations = [(str(k), *p) for k, p in at.items()]
    if job.get("frame", "", {}).get("how") == "control":
        plan.control = [(n, c["grid"][0], c["grid"][1]) for n, c in job.facts("control").items()]
    low, high = plan.bounds()
    plan.ellipses = [(*at[k], *axes) for k, s in placed.items() if (axes := _ellipse(job, s))]
    longest = max((e[2] for e in plan.ellipses), default=0.0)
    says = f"North is up; 1:{plan.scale:,} in print. Blue: ties; dashed: failed ones."
    if longest > 0:
        wanted = ELLIPSE * float((high - low).max()) / longest
        power = 10.0 ** np.floor(np.log10(wanted))
        plan.enlarged = float(max(f * power for f in (1, 2, 5) if f * power <= wanted))
        says += f" Ellipses: one σ of each place, enlarged {plan.enlarged:,.0f} times."
    return [plan, report.Text(says)]


def _ellipse(job: Job, scan: Scan) -> tuple | None:
    """Half axes (m) and direction (rad) of the standard ellipse of a place in plan, in the grid; None where
    it is fixed or not known.
    """
    grid = (job.get("frame", "", {}).get("covariances") or {}).get(str(scan.id))
    covariance = np.array(grid) if grid else covariance_of(scan.pose_record)
    if covariance is None:
        return None
    turn = np.eye(3) if grid else job.frame[:3, :3]
    values, vectors = np.linalg.eigh((turn @ covariance[3:, 3:] @ turn.T)[:2, :2])
    if values[1] <= 0:
        return None
    longer = float(np.sqrt(values[1])), float(np.sqrt(max(values[0], 0.0)))
    return (*longer, float(np.arctan2(vectors[1, 1], vectors[0, 1])))
