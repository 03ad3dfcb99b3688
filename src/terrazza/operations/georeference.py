"""Step 3, Georeference: targets, control, levelling; all of it sets job → grid and moves no scan."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import NotFound, ParamsError, StateError
from terrazza.later import later
from terrazza.operations import reading
from terrazza.operations.base import Figures, Operation, Params, field, operation
from terrazza.operations.job import Job, plain
from terrazza.operations.notation import Notation
from terrazza.operations.surfaces import surfaces
from terrazza.operations.targets import find_targets, places, true_centre
from terrazza.units import metres_per

control_fit = later("terrazza.core.georef.fit")
level = later("terrazza.core.georef.level")
match = later("terrazza.core.georef.match")
review = later("terrazza.core.georef.review")
uncertainty = later("terrazza.core.georef.uncertainty")

ORDERS = {
    "E N H": (0, 1, 2),
    "N E H": (1, 0, 2),
    "E H N": (0, 2, 1),
    "N H E": (2, 0, 1),
    "H E N": (1, 2, 0),
    "H N E": (2, 1, 0),
}
SURVEY_SIGMA = 0.0005
UPRIGHT_DEG = 0.1
TOLERANCE = 0.03  # m: largest mismatch of a target and its control point


class DropParams(Params):
    target: int = field("Target", help="Its number.", ge=1)
    dropped: bool = field("Dropped", True, help="Off: taken back.")


@operation
class DropTarget(Operation):
    """Drops a false or poor target sighting, or takes it back; a fit to control is solved again."""

    name, title, step = "georeference.drop_target", "Drop a target", "Georeference"
    writes = frozenset({"target", "control", "frame"})
    Params = DropParams

    def run(self, job: Job, params: DropParams, progress: Progress) -> Figures:
        target = _target(job, params.target)
        job.put("target", params.target, target | {"dropped": params.dropped}, scan=target["scan"])
        says = f"Target {params.target} {'dropped' if params.dropped else 'taken back'}"
        if job.get("frame", "", {}).get("how") == "control":
            return solve_again(job) | {"says": says + "; " + job.get("frame")["says"]}
        return {"says": says}


class ControlParams(Params):
    control: str = field(
        "Control file",
        help="Path of a text file: name, easting, northing, height, and where there, target height and role "
        "(control or check).",
        widget="file",
        role="read",
    )
    unit: Literal["metre", "millimetre", "international foot", "US survey foot", "inch"] = field(
        "Unit of the control file", "metre", help="The two feet cannot be told apart from the data."
    )
    order: Literal["as the file says", "E N H", "N E H", "E H N", "N H E", "H E N", "H N E"] = field(
        "Order of its columns",
        "as the file says",
        help="Without a header line all orders are tried against the targets.",
    )
    check: list[str] = field(
        "Check points", list, help="Names that stay out of the fit, besides those that the file marks."
    )
    tolerance: float = field(
        "Matching tolerance",
        TOLERANCE,
        unit="m",
        help="Largest mismatch of a target and its control point.",
        ge=0.001,
        le=1,
    )
    solution: int = field(
        "Solution",
        1,
        help="Where the points lie nearly symmetrical, several placements explain them: 1 is the best, 2 "
        "the next.",
        ge=1,
        le=9,
    )
    board: float = field(
        "Board edge",
        0.0,
        unit="m",
        blank="any",
        help="Used where targets were not looked for yet; 0: any of 5 to 65 cm.",
        ge=0,
        le=3,
    )


@operation
class Control(Operation):
    """Reads a control file, matches its points to the targets by geometry and fits the job to them at a scale
    of 1.
    """

    name, title, step = "georeference.control", "Fit to control", "Georeference"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"target", "control", "frame"})
    Params = ControlParams

    def run(self, job: Job, params: ControlParams, progress: Progress) -> Figures:
        job.need_scans(placed=True, why=", so targets have no place in a common frame")
        read = reading.control(job.input(params.control, "The control file"))
        if not job.facts("target"):
            find_targets(job, job.scans(), Part(progress, 0, 0.9), sizes={"checkerboard": params.board})
        seen = places(job)
        if len(seen) < 3:
            raise StateError(
                f"{len(seen)} targets were found in the placed scans; georeferencing needs three at least.",
                "Check the board edge, pick targets by hand, or level the job without control.",
            )
        factor = metres_per(params.unit)
        centres, sigma = np.array([p["centre"] for p in seen]), np.array([p["sigma"] for p in seen])
        unknown = sorted(set(params.check) - set(read.names))
        if unknown:
            raise ParamsError(
                f"georeference.control: the file has no point {', '.join(unknown)}.",
                f"Its points are {', '.join(read.names)}.",
            )
        check = np.array([bool(c) or n in params.check for n, c in zip(read.names, read.check)])
        columns, heights = read.columns * factor, read.target_heights * factor
        order = ORDERS[params.order] if params.order in ORDERS else read.order
        found, given, says = review.decide(
            read.names,
            columns,
            heights,
            check,
            order,
            centres,
            sigma,
            params.tolerance,
            _upright(job),
            params.solution,
        )
        matched, before = (
            dict(found.pairs),
            {n: c for n, c in job.facts("control").items() if c["how"] == "by hand" and c["targets"]},
        )
        job.clear("control")
        for i, name in enumerate(read.names):
            targets = seen[matched[i]]["targets"] if i in matched else []
            if name in before and not set(before[name]["targets"]) & set(targets):
                says.doubt.append(
                    f"{name}: by hand it was matched to target {before[name]['targets'][0]}, by geometry it "
                    f"is {'target ' + str(targets[0]) if targets else 'none'}. Are names exchanged?"
                )
            job.put(
                "control",
                name,
                {
                    "grid": given.columns[i].tolist(),
                    "target_height": float(heights[i]),
                    "check": bool(check[i]),
                    "targets": targets,
                    "how": "geometry",
                },
            )
        detectable = dict(
            zip([read.names[i] for i in sorted(matched) if not check[i]], says.detectable.tolist())
        )
        return solve(job, says.doubt, detectable)


def _upright(job: Job) -> bool:
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
        _upright(job),
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


def _control_point(job: Job, name: str) -> dict:
    """The control point of that name; NotFound names those that are there."""
    point = job.get("control", name)
    if point is None:
        raise NotFound(
            f"There is no control point “{name}”.",
            f"Points are {', '.join(job.facts('control')) or 'none yet'}.",
        )
    return point


def _target(job: Job, number: int) -> dict:
    """The target of that number; NotFound names those that are there."""
    target = job.get("target", number)
    if target is None:
        raise NotFound(
            f"There is no target {number}.", f"Targets are {', '.join(job.facts('target')) or 'none yet'}."
        )
    return target


class MatchParams(Params):
    point: str = field("Control point", help="Its name.")
    target: int = field("Target", 0, help="Number of the target; 0 takes the match away.", ge=0)


@operation
class Match(Operation):
    """Matches a control point to a target by hand, or takes its match away, and fits again."""

    name, title, step = "georeference.match", "Match a control point", "Georeference"
    writes = frozenset({"control", "frame"})
    Params = MatchParams

    def run(self, job: Job, params: MatchParams, progress: Progress) -> Figures:
        point = _control_point(job, params.point)
        if params.target:
            _target(job, params.target)
        job.put(
            "control",
            params.point,
            point | {"targets": [params.target] if params.target else [], "how": "by hand"},
        )
        return solve_again(job)


class RoleParams(Params):
    point: str = field("Control point", help="Its name.")
    check: bool = field("Check point", True, help="On: only compared; off: used in the fit.")


@operation
class Role(Operation):
    """Makes a point a check point or a control point, and fits again."""

    name, title, step = "georeference.role", "Control or check", "Georeference"
    writes = frozenset({"control", "frame"})
    Params = RoleParams

    def run(self, job: Job, params: RoleParams, progress: Progress) -> Figures:
        point = _control_point(job, params.point)
        job.put("control", params.point, point | {"check": params.check})
        return solve_again(job)


class LevelParams(Params):
    scan: int = field(
        "Scan to level by",
        0,
        widget="scan",
        blank="the first placed one",
        help="A scan that stands on a floor; 0: the first placed one.",
        ge=0,
    )
    turn: bool = field("Turn by the longest wall", True, help="The longest wall then runs along an axis.")
    origin: list[float] = field(
        "Origin",
        list,
        unit="m",
        help="A picked point in the job frame as X, Y, Z; empty: the scan's place on its floor.",
        widget="point",
    )


@operation
class Level(Operation):
    """A frame without control: level by the floor, turn by the longest wall, origin at a picked point."""

    name, title, step = "georeference.level", "Level without control", "Georeference"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"frame"})
    Params = LevelParams

    def run(self, job: Job, params: LevelParams, progress: Progress) -> Figures:
        scans = job.need_scans([params.scan] if params.scan else None, placed=True)
        if params.origin and len(params.origin) != 3:
            raise ParamsError(
                f"georeference.level: “origin” needs three numbers, got {len(params.origin)}.",
                "Give X, Y and Z.",
            )
        scan = scans[0]
        face = surfaces(job, [scan], progress)[0]
        xyz, normals = rigid.apply(scan.pose, face.xyz), face.normals @ scan.pose[:3, :3].T
        up = level.level(level.floor_normal(xyz, normals, face.flat))
        heading = level.wall_heading(xyz @ up.T, normals @ up.T, face.flat) if params.turn else 0.0
        turn = rigid.about_z(-heading) @ up
        if params.origin:
            origin = np.array(params.origin, float)
        else:
            below = (
                face.flat
                & (normals[:, 2] > 0.99)
                & (np.linalg.norm(face.xyz[:, :2], axis=1) < 4)
                & (face.xyz[:, 2] < 0)
            )
            origin = scan.pose[:3, 3] + [0, 0, float(np.median(face.xyz[below, 2])) if below.any() else 0.0]
        tilt = float(np.degrees(np.arccos(np.clip(up[2, 2], -1, 1))))
        says = f"Levelled by {tilt:.3f}°, turned by {np.degrees(-heading):.3f}°"
        job.put(
            "frame",
            "",
            {
                "matrix": plain(rigid.make(turn, -turn @ origin)),
                "how": "level",
                "rows": [],
                "warnings": [],
                "says": says,
                "covariances": {},
            },
        )
        return {"says": says, "tilt_deg": tilt, "turn_deg": float(np.degrees(-heading))}
