"""The fit to control: frame, residuals and covariances from matched points."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import NotFound
from terrazza.later import later
from terrazza.operations.georeference.sightings import places, true_centre
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job, plain
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.georef import fit as control_fit
    from terrazza.core.georef import match, review, uncertainty

SURVEY_SIGMA = 0.0005
UPRIGHT_DEG = 0.1
TOLERANCE = 0.03  # m: largest mismatch of a target and its control point


def stands_upright(job: Job) -> bool:
    """Whether the scans stand upright in the job: their axes agree, so levelled instruments have made them
    (one scan alone is taken to be).
    """
    axes = np.array([s.pose[:3, 2] for s in job.scans(placed=True)])
    return bool((axes @ [0, 0, 1.0] > np.cos(np.radians(UPRIGHT_DEG))).all())


def solve(job: Job, doubt: list[str] | None = None, detectable: dict[str, float] | None = None) -> Figures:
    """Fit the frame to the matched control points and put it with its residuals, what is doubted of them, and
    the least blunder (m) that would be found in each.
    """
    by_target = {k: p for p in places(job) for k in p["targets"]}
    points = []
    for name, c in job.facts("control").items():
        place = next((by_target[t] for t in c["targets"] if t in by_target), None)
        points.append((name, c, place, np.array(c["grid"]) + [0, 0, c["target_height"]]))
    used = [p for p in points if p[2] is not None and not p[1]["check"]]
    fit = control_fit.fit(
        np.array([p[2]["centre"] for p in used]).reshape(-1, 3),
        np.array([p[3] for p in used]).reshape(-1, 3),
        [p[0] for p in used],
    )
    rows = [_row(name, c, place, grid, fit, used) for name, c, place, grid in points]
    for row in rows:
        least = (detectable or {}).get(row["name"], np.inf)
        row["detectable_mm"] = least * 1000 if np.isfinite(least) else None
    sigma_target = np.array([p[2]["sigma"] for p in used])
    warnings, doubt = list(fit.warnings), doubt or []
    checks = [r for r in rows if r["role"] == "check" and r["matched"]]
    covariances = _covariances(job, fit, used, sigma_target)
    rms_mm = fit.rms * 1000
    plan = float(np.sqrt(np.mean(np.sum(fit.residuals[:, :2] ** 2, 1)))) * 1000
    height = float(np.sqrt(np.mean(fit.residuals[:, 2] ** 2))) * 1000
    residual = Notation.of(job).residual
    says = (
        f"{len(used)} of {sum(not p[1]['check'] for p in points)} control points, RMS {residual(rms_mm)}"
        + (
            f", check {residual(checks[0]['total_mm'])}"
            if len(checks) == 1
            else f", {len(checks)} check points"
            if checks
            else ""
        )
    )
    away = np.array([[r["dx_mm"], r["dy_mm"], r["height_mm"]] for r in checks]).reshape(-1, 3) / 1000
    accuracy = review.statement(away) if len(away) else None
    frame = {
        "doubt": doubt,
        "accuracy": accuracy,
        "matrix": plain(fit.pose),
        "how": "control",
        "rms_mm": rms_mm,
        "plan_mm": plan,
        "height_mm": height,
        "scale": fit.scale,
        "scale_sigma": fit.scale_sigma,
        "rows": rows,
        "warnings": warnings,
        "says": says,
        "covariances": covariances,
    }
    job.put("frame", "", frame)
    return {
        k: frame[k]
        for k in ("says", "rms_mm", "plan_mm", "height_mm", "scale", "rows", "warnings", "doubt", "accuracy")
    } | {"used": len(used)}


def solve_again(job: Job) -> Figures:
    """Fit to control after a change by hand, reviewed as at first: a choice made by hand is not asked again,
    but what speaks against it is said.
    """
    seen, control = places(job), job.facts("control")
    at = {t: i for i, place in enumerate(seen) for t in place["targets"]}
    pairs = [
        (i, next(at[t] for t in c["targets"] if t in at))
        for i, c in enumerate(control.values())
        if any(t in at for t in c["targets"])
    ]
    points = list(control.values())
    given = review.Given(
        list(control),
        np.array([c["grid"] for c in points]).reshape(-1, 3),
        np.array([c["target_height"] for c in points]),
        np.array([c["check"] for c in points], bool),
    )
    used = [(i, k) for i, k in pairs if not given.check[i]]
    if len(used) < 3:
        return solve(job)
    centres, sigma = np.array([p["centre"] for p in seen]), np.array([p["sigma"] for p in seen])
    pose, _ = rigid.fit(centres[[k for _, k in used]], given.centres[[i for i, _ in used]])
    says = review.review(
        given,
        centres,
        sigma,
        match.Matching(pairs, 0.0, pose=pose),
        TOLERANCE,
        stands_upright(job),
        chosen=any(c["how"] == "by hand" for c in points),
    )
    return solve(
        job, says.doubt, dict(zip([given.names[i] for i, _ in sorted(used)], says.detectable.tolist()))
    )


def _row(name, c, place, grid, fit, used):
    row = {
        "name": name,
        "role": "check" if c["check"] else "control",
        "matched": place is not None,
        "target_height": c["target_height"],
        "grid": c["grid"],
        "targets": place["targets"] if place else [],
    }
    if place is not None:
        d = (rigid.apply(fit.pose, place["centre"][None])[0] - grid) * 1000
        index = next((i for i, p in enumerate(used) if p[0] == name), None)
        out = (
            fit.left_out[index] * 1000
            if index is not None and np.isfinite(fit.left_out[index]).all()
            else d
            if index is None
            else None
        )
        row |= {
            "dx_mm": d[0],
            "dy_mm": d[1],
            "plan_mm": float(np.hypot(d[0], d[1])),
            "height_mm": d[2],
            "total_mm": float(np.linalg.norm(d)),
            "left_out_mm": float(np.linalg.norm(out)) if out is not None else None,
            "spread_mm": place["spread"] * 1000,
        }
    return row


def _covariances(job: Job, fit, used, sigma_target) -> dict:
    """Covariance of each adjusted scan's pose in the grid, by scan number."""
    members = job.adjusted()
    joint = job.array("joint")
    scans = {s.id: s for s in job.scans(placed=True)}
    if joint is None or len(joint) != 6 * len(members) or any(m not in scans for m in members):
        return {}
    centres, weights, owners, point = [], [], [], []
    for i, (_, _, place, _) in enumerate(used):
        for key, w in zip(place["targets"], place["weights"]):
            target = job.get("target", key)
            scan = scans[target["scan"]]
            centres.append(rigid.apply(scan.pose, true_centre(target, scan)[None])[0])
            weights.append(w)
            owners.append(members.index(scan.id) if scan.id in members else -1)
            point.append(i)
    least = np.repeat(sigma_target[:, None] ** 2 + SURVEY_SIGMA**2, 3, axis=1)
    factor = max(1.0, float((fit.residuals**2 / least).sum() / max(3 * len(used) - 6, 1)))
    values = uncertainty.grid_covariances(
        fit.pose,
        np.array(centres),
        np.array(weights),
        np.array(owners),
        least * factor,
        np.array(point),
        [scans[m].pose for m in members],
        joint,
    )
    return {str(m): v.tolist() for m, v in zip(members, values)}


def control_point_of(job: Job, name: str) -> dict:
    """The control point of that name; NotFound names those that are there."""
    point = job.get("control", name)
    if point is None:
        raise NotFound(
            f"There is no control point “{name}”.",
            f"Points are {', '.join(job.facts('control')) or 'none yet'}.",
        )
    return point


def target_of(job: Job, number: int) -> dict:
    """The target of that number; NotFound names those that are there."""
    target = job.get("target", number)
    if target is None:
        raise NotFound(
            f"There is no target {number}.", f"Targets are {', '.join(job.facts('target')) or 'none yet'}."
        )
    return target
