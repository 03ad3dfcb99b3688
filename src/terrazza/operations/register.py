"""Step 2, Register: bring all scans into one frame, automatically or by hand."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.job import Job, Scan, plain
from terrazza.operations.notation import Notation
from terrazza.operations.surfaces import SHARED, kept_points, pictures, surfaces

cloud_fit = later("terrazza.core.register.cloud_fit")
contradiction = later("terrazza.core.register.contradiction")
search = later("terrazza.core.register.search")
linking = later("terrazza.core.register.linking")
network = later("terrazza.core.register.network")
plan_match = later("terrazza.core.register.plan_match")

POSE_KINDS = frozenset({"pose", "tie", "network", "array", "standing"})
DECIDED = ("by hand", "chosen")
LOOSE_MM = 7.0  # a standard deviation beyond this lets a placement be 20 mm off
FARTHEST_STEP = 0.15  # m that an adjustment may move a scan from where fits of pairs put it
FARTHEST_TURN = np.radians(1.0)
FIRM, WEAK = 0.03, 0.006


class AutomaticParams(Params):
    poses: Literal["refine", "trust", "forget"] = field(
        "Poses that came with the files", "refine", help="refine: start from them; trust: keep them as they are; forget: place everything anew.")
    scans: list[int] = scans_field()
    least_overlap: float = field("Least overlap for a tie", 0.05, help="Share of judged points that two scans must have in common.", ge=0.01, le=0.9)
    bias_sigma_mm: float = field("Range bias allowed", 0.4, unit="mm", help="Standard deviation of a constant range error of each set-up; it is estimated along.", ge=0.01, le=20)


@operation
class Automatic(Operation):
    """Plan match between scans, verified by free space; cloud fit on all pairs that overlap; network adjustment of all together."""

    name, title, step = "register.automatic", "Register automatically", "Register"
    reads, writes = frozenset({"scan", "left_out"}), POSE_KINDS
    Params = AutomaticParams

    def run(self, job: Job, params: AutomaticParams, progress: Progress) -> Figures:
        scans = [s for s in job.need_scans(params.scans) if not job.get("left_out", s.id)]
        if not scans:
            raise StateError("Every scan is taken out of the adjustment.", "Take one back in.")
        faces, seen = surfaces(job, scans, Part(progress, 0.0, 0.15)), pictures(job, scans, Part(progress, 0.15, 0.2))
        shapes = [plan_match.PlanShape(f) for f in faces]
        start = {} if params.poses == "forget" else {k: s.pose for k, s in enumerate(scans) if s.pose is not None}
        fixed = _stay(scans, start, params.poses)
        found = search.place(faces, shapes, seen, start, fixed, Part(progress, 0.2, 0.75), job.fleet)
        poses = [p if i == 1 else None for p, i in zip(found.poses, found.island)]
        figures = settle(job, scans, faces, shapes, poses, fixed if params.poses == "trust" or len(fixed) < len(scans) else set(), params.least_overlap, params.bias_sigma_mm / 1000, Part(progress, 0.75, 1.0), "automatic", set(start), seen)
        return figures | _stand(job, scans, found, figures)


def _stay(scans: list[Scan], start: dict[int, np.ndarray], poses: str) -> set[int]:
    """Which scans stay where they are: all that are posed, on trust; what was set or chosen by hand; what shares a frame by its format; and of a finished job all but new scans."""
    if poses == "trust":
        return set(start)
    decided = {k for k in start if scans[k].pose_record.get("how") in DECIDED}
    shared = {k for k in start if scans[k].record["format"] in SHARED and scans[k].pose_record.get("how") == "file"}
    done = {k for k in start if scans[k].pose_record.get("how") not in {"file", *DECIDED}}
    new = len(done | decided) < len(scans)
    return decided | shared | (done if new else set())


def _stand(job: Job, scans: list[Scan], found, figures: Figures) -> Figures:
    """Put for every scan its island, why its placement is doubted, and what else it could be; the doubts as sentences for the figures."""
    said, rows = [], {r["scan"]: r for r in figures["rows"]}
    for k, scan in enumerate(scans):
        doubt, place = found.doubt[k], job.get("pose", scan.id)
        sigma = max(rows[scan.id].get("sigma_mm") or [0.0])
        if found.island[k] == 0:
            doubt = "Nothing that the scans show ties it to another."
        elif found.island[k] > 1:
            doubt = doubt or ""
        elif not doubt and scan.id in figures["unsettled"]:
            doubt = figures["unsettled"][scan.id]
        elif not doubt and sigma > LOOSE_MM:
            doubt = f"It is held to {sigma:.0f} mm only in its weakest direction."
        matrix = place["matrix"] if found.island[k] == 1 and place else plain(found.poses[k]) if found.poses[k] is not None else None
        others = [plain(r) for r in found.rivals[k]]
        job.put("standing", scan.id, {"island": found.island[k] or None, "matrix": matrix, "doubt": doubt or None, "alternatives": ([matrix, *others] if matrix and others else others) if doubt else []}, scan=scan.id)
        if doubt:
            said.append(f"Scan {scan.id}, {scan.name}: {doubt}")
    islands = [[s.id for s, i in zip(scans, found.island) if i == n] for n in range(1, max(found.island, default=0) + 1)]
    says = figures["says"] + (f"; {len(islands)} islands" if len(islands) > 1 else "") + (f"; {len(said)} doubted" if said else "")
    return {"doubt": said, "islands": islands, "says": says}


class ChooseParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    alternative: int = field("Alternative", help="Its place in the list, from 1: the first is where the scan stands now.", ge=1)


@operation
class Choose(Operation):
    """Takes one of the placements between which the scans could not decide; later registrations keep it."""

    name, title, step = "register.choose", "Choose a placement", "Register"
    writes = frozenset({"pose", "standing"})
    bound_to_place = True
    Params = ChooseParams

    def run(self, job: Job, params: ChooseParams, progress: Progress) -> Figures:
        scan, standing = job.scan(params.scan), job.get("standing", params.scan)
        offered = standing["alternatives"] if standing else []
        if params.alternative > len(offered):
            raise ParamsError(f"Scan {params.scan} has {len(offered) or 'no'} placements to choose from.", "Register automatically first; the sheet lists what is doubted." if not offered else f"Give a number from 1 to {len(offered)}.")
        if standing["island"] not in {1, None}:
            raise StateError(f"Scan {params.scan} stands in island {standing['island']}, which is not joined to the job yet.", "Set one of its scans by hand, then register again.")
        pose = np.array(offered[params.alternative - 1])
        moved, turned = rigid.difference(scan.pose, pose) if scan.pose is not None else (0.0, 0.0)
        job.put("pose", scan.id, {"matrix": plain(pose), "how": "chosen", "covariance": None, "bias": 0.0, "fixed": False}, scan=scan.id)
        job.put("standing", scan.id, standing | {"island": 1, "matrix": plain(pose), "doubt": None}, scan=scan.id)
        return {"says": f"Scan {scan.id}, {scan.name}: placement {params.alternative} of {len(offered)} chosen, moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.1f}°", "moved_m": float(moved)}


class AdjustParams(Params):
    least_overlap: float = field("Least overlap for a tie", 0.05, help="Share of judged points that two scans must have in common.", ge=0.01, le=0.9)
    bias_sigma_mm: float = field("Range bias allowed", 0.4, unit="mm", help="Standard deviation of a constant range error of each set-up.", ge=0.01, le=20)
    fixed: list[int] = field("Scans that stay", list, help="Empty: the first placed scan.", widget="scans")


@operation
class Adjust(Operation):
    """Cloud fit of all placed pairs that overlap, then one adjustment of the whole network."""

    name, title, step = "register.adjust", "Adjust the whole network", "Register"
    reads, writes = frozenset({"scan", "left_out"}), POSE_KINDS
    Params = AdjustParams

    def run(self, job: Job, params: AdjustParams, progress: Progress) -> Figures:
        scans = [s for s in job.need_scans(placed=True, why=", so there is nothing to adjust") if not job.get("left_out", s.id)]
        if len(scans) < 2:
            raise StateError("An adjustment needs two placed scans at least.", "Place another, or take one back in.")
        faces = surfaces(job, scans, Part(progress, 0.0, 0.5))
        fixed = {k for k, s in enumerate(scans) if s.id in set(params.fixed)}
        return settle(job, scans, faces, [plan_match.PlanShape(f) for f in faces], [s.pose for s in scans], fixed, params.least_overlap, params.bias_sigma_mm / 1000, Part(progress, 0.5, 1.0), "adjusted",
                      set(range(len(scans))))


def settle(job, scans, faces, shapes, poses, fixed, least_overlap, bias_sigma, progress, how, started, seen=None) -> Figures:
    """Ties of all overlapping pairs, network adjustment island by island, and the facts and figures of both.

    ``poses`` (scan → job or None) are near enough for a narrow fit; ``started`` are the indices that had a pose before.  With ``seen`` (the scans'
    pictures) the final poses are judged again; ``unsettled`` in the figures says by scan what is wrong with them.
    """
    ties = linking.fit_all(faces, shapes, poses, least_overlap, Part(progress, 0.0, 0.4))
    clouds = [kept_points(job.cloud(s.id)) if p is not None else None for s, p in zip(scans, poses)]
    results, loose = [], []
    for island in _islands([k for k, p in enumerate(poses) if p is not None], ties):
        if len(island) == 1 and (island[0] in started or len(scans) == 1):
            results.append((island, None, {island[0]}))
        else:
            results.append(_adjust_island(island, clouds, poses, fixed, started, bias_sigma, loose, Part(progress, 0.4, 1.0)))
    unsettled = _bounded(scans, poses, results) | {scans[k].id: "What it has in common with the others does not hold it in the adjustment; it stands as the fits of pairs say." for k in loose}
    figures = _record(job, scans, poses, ties, results, loose, how)
    if seen is not None:
        unsettled = _judged_again(job, scans, seen) | unsettled
    return figures | {"unsettled": unsettled}


def _step(after: np.ndarray, before: np.ndarray) -> float:
    """How far an adjustment moved a scan, as a multiple of what it may."""
    moved, turned = rigid.difference(after, before)
    return max(moved / FARTHEST_STEP, turned / FARTHEST_TURN) if np.isfinite(moved) else np.inf


def _bounded(scans, poses, results) -> dict[int, str]:
    """An adjustment that moves a scan farther than fits allow did not settle: its island keeps its fits, and its scans say so."""
    wrong: dict[int, str] = {}
    for n, (members, adjusted, stay) in enumerate(results):
        if adjusted is None:
            continue
        if max(_step(a, poses[k]) for a, k in zip(adjusted.poses, members)) > 1 or not np.isfinite(adjusted.joint).all():
            results[n] = (members, None, set(members))
            wrong |= {scans[k].id: "The adjustment of its island did not settle; it stands as the fits of pairs say." for k in members if k not in stay}
    return wrong


def _judged_again(job: Job, scans: list[Scan], seen) -> dict[int, str]:
    """By scan what the pictures say against its final pose."""
    places = {k: np.array(job.get("pose", s.id)["matrix"]) for k, s in enumerate(scans) if (job.get("pose", s.id) or {}).get("matrix")}
    wrong: dict[int, str] = {}
    for a in places:
        for b in places:
            if a < b:
                verdict = contradiction.judge(seen[a], seen[b], rigid.inverse(places[a]) @ places[b])
                if verdict.area > search.REFUSED and verdict.common > search.COMMON:
                    at = rigid.apply(places[a], verdict.patches[0][1][None])[0]
                    for k in (a, b):
                        wrong.setdefault(scans[k].id, f"Scans {scans[a].id} and {scans[b].id} contradict each other over {verdict.area:.1f} m², most near {at[0]:.1f}, {at[1]:.1f}, {at[2]:.1f}.")
    return wrong


def _islands(members: list[int], ties) -> list[list[int]]:
    island = {k: k for k in members}
    for tie in ties:
        if not tie.failed and island[tie.a] != island[tie.b]:
            old, new = island[tie.b], island[tie.a]
            island = {k: new if i == old else i for k, i in island.items()}
    return [[k for k in members if island[k] == i] for i in dict.fromkeys(island.values())]


def _adjust_island(island, clouds, poses, fixed, started, bias_sigma, loose, progress):
    """(members, Adjusted, fixed members); a scan that the patches cannot hold is taken out and named in ``loose``."""
    members = list(island)
    while True:
        stay = {k for k in members if k in fixed} or {min(members, key=lambda k: (k not in started, k))}
        if len(stay) == len(members):
            return members, None, stay
        try:
            adjusted = network.solve([clouds[k] for k in members], [poses[k] for k in members], {members.index(k) for k in stay}, bias_sigma, progress=progress)
            steps = [_step(a, poses[k]) for a, k in zip(adjusted.poses, members)]
            if len(members) > 2 and max(steps) > 1 and np.isfinite(adjusted.joint).all():
                loose.append(members.pop(int(np.argmax(steps))))  # one that the others' patches carry away would carry them away, too
                continue
            return members, adjusted, stay
        except (InputError, np.linalg.LinAlgError) as error:
            seen = getattr(error, "seen", np.zeros(len(members), int))
            seen[[members.index(k) for k in stay]] = np.iinfo(seen.dtype).max
            loose.append(members.pop(int(np.argmin(seen))))


def _record(job: Job, scans: list[Scan], poses, ties, results, loose, how) -> Figures:
    joint_scans, blocks, rows = [], [], []
    by_scan = {}
    for members, adjusted, stay in results:
        for i, k in enumerate(members):
            by_scan[k] = (adjusted.poses[i], adjusted.covariance[i], float(adjusted.bias[i]), k in stay) if adjusted else (poses[k], None, 0.0, True)
        if adjusted:
            joint_scans += [scans[k].id for k in members]
            blocks.append(adjusted.joint)
    for k, scan in enumerate(scans):
        if poses[k] is None:
            if scan.pose is not None:
                job.put("pose", scan.id, None, scan=scan.id)
            rows.append({"scan": scan.id, "name": scan.name, "placed": False})
            continue
        pose, covariance, bias, stays = by_scan.get(k, (poses[k], None, 0.0, False))
        job.put("pose", scan.id, {"matrix": plain(pose), "how": how, "covariance": covariance.tolist() if covariance is not None else None, "bias": bias, "fixed": stays}, scan=scan.id)
        sigma = np.sqrt(np.diag(covariance)) if covariance is not None else None
        rows.append({"scan": scan.id, "name": scan.name, "placed": True, "fixed": stays, "sigma_mm": (sigma[3:] * 1000).tolist() if sigma is not None else None,
                     "sigma_mdeg": (np.degrees(sigma[:3]) * 1000).tolist() if sigma is not None else None, "bias_mm": bias * 1000})
    tie_rows = _put_ties(job, scans, poses, by_scan, ties, results)
    unplaced = [r["name"] for r in rows if not r["placed"]]
    placed = len(rows) - len(unplaced)
    good = [r for r in tie_rows if not r["failed"]]
    rms = float(np.sqrt(np.average([r["rms_mm"] ** 2 for r in good], weights=[r["used"] for r in good]))) if good else None
    adjusted = [a for _, a, _ in results if a]
    summary = {"scans": joint_scans, "rms_mm": rms, "patch_rms_mm": adjusted[0].rms * 1000 if adjusted else None, "variance_factor": adjusted[0].variance_factor if adjusted else None,
               "redundancy": sum(a.redundancy for a in adjusted)}
    job.put("network", "", summary)
    if blocks:
        size = sum(len(b) for b in blocks)
        joint, at = np.zeros((size, size)), 0
        for block in blocks:
            joint[at : at + len(block), at : at + len(block)] = block
            at += len(block)
        job.write_array("joint", joint)
    worst = max((max(r["sigma_mm"]) for r in rows if r.get("sigma_mm")), default=None)
    residual = Notation.of(job).residual
    says = f"{placed} of {len(rows)} scans placed" + (f", cloud RMS {residual(rms)} over {len(good)} ties" if rms is not None else "") + (f", worst σ {residual(worst, 2)}" if worst is not None else "")
    return {"says": says, "placed": placed, "scans": len(rows), "unplaced": unplaced, "rms_mm": rms, "worst_sigma_mm": worst, "ties": tie_rows, "rows": rows,
            "islands": [[scans[k].id for k in m] for m, _, _ in results], "loose": [scans[k].id for k in loose], "verdict": verdict(rms), **{k: summary[k] for k in ("patch_rms_mm", "variance_factor", "redundancy")}}


def verdict(rms_mm: float | None) -> str:
    """What a cloud RMS means for indoor work (common practice)."""
    if rms_mm is None:
        return "no ties to judge by"
    return "good for indoor work" if rms_mm <= 7 else "a rough stage that still needs the final fit" if rms_mm <= 20 else "too rough: look at the ties"


def _put_ties(job, scans, poses, by_scan, ties, results):
    patches = {}
    for members, adjusted, _ in results:
        if adjusted:
            for i, a in enumerate(members):
                for j, b in enumerate(members):
                    patches[a, b] = int(adjusted.shared[i, j]), float(adjusted.pair_rms[i, j] * 1000)
    job.clear("tie")
    rows = []
    for tie in ties:
        a, b = scans[tie.a], scans[tie.b]
        row = tie_record(a, b, tie, by_scan[tie.a][0] if tie.a in by_scan else poses[tie.a])
        row["patches"], row["patch_rms_mm"] = patches.get((tie.a, tie.b), (0, None))
        job.put("tie", f"{a.id}-{b.id}", row)
        rows.append(row)
    return rows


def tie_record(a: Scan, b: Scan, tie, pose_a: np.ndarray) -> dict:
    """A tie as a fact: RMS, overlap, used points, and which directions (job frame) it holds.

    ``hold`` gives for x, y, z the share of the used point pairs' normals that see the direction.
    """
    turn = np.kron(np.eye(2), pose_a[:3, :3])
    fit = tie.fit
    information = turn @ fit.information @ turn.T
    direction, share = cloud_fit.weak_direction(information)
    held = np.diag(information)[3:] / max(np.trace(information[3:, 3:]), 1e-12)
    return {"a": a.id, "b": b.id, "rms_mm": fit.rms * 1000, "median_mm": fit.median * 1000, "overlap": fit.overlap, "used": fit.used, "agree": tie.agree, "against": tie.against,
            "hold": {k: float(v) for k, v in zip("xyz", held)}, "weakest": share, "weak_direction": direction.tolist(), "words": hold_words(direction, share), "failed": tie.failed}


def hold_words(direction: np.ndarray, share: float) -> str:
    """How firmly a tie holds, and where it would slide, in words."""
    if share >= FIRM:
        return "firm"
    along = "in height" if abs(direction[2]) > 0.8 else f"towards {np.degrees(np.arctan2(direction[0], direction[1])) % 180:.0f}°"
    return f"{'slides' if share < WEAK else 'weak'} {along}"


class SetPoseParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    x: float = field("X or easting", unit="m", help="Of the scanner, in the grid where there is one, otherwise in the job frame.")
    y: float = field("Y or northing", unit="m")
    z: float = field("Z or height", unit="m")
    heading_deg: float = field("Heading", unit="°", help="Plan direction of the scan's x axis, counter-clockwise from X.", ge=-360, le=360)
    tilt_x_deg: float = field("Tilt about X", 0.0, unit="°", ge=-180, le=180)
    tilt_y_deg: float = field("Tilt about Y", 0.0, unit="°", ge=-180, le=180)


@operation
class SetPose(Operation):
    """Sets a scan by numbers, or by what dragging it in plan and slab came to."""

    name, title, step = "register.set_pose", "Set a scan by numbers", "Register"
    writes = frozenset({"pose"})
    bound_to_place = True
    Params = SetPoseParams

    def run(self, job: Job, params: SetPoseParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        tilt = rigid.rotation_from(np.radians([params.tilt_x_deg, params.tilt_y_deg, 0.0]))
        wanted = rigid.make(tilt @ rigid.about_z(np.radians(params.heading_deg)), np.array([params.x, params.y, params.z]))
        pose = rigid.inverse(job.frame) @ wanted
        moved, turned = rigid.difference(scan.pose, pose) if scan.pose is not None else (None, None)
        job.put("pose", scan.id, {"matrix": plain(pose), "how": "by hand", "covariance": None, "bias": 0.0, "fixed": False}, scan=scan.id)
        return {"says": f"Scan {scan.id} set by hand" + (f", moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.2f}°" if moved is not None else ""), "moved_m": moved}


class FitParams(Params):
    scan: int = field("Scan to move", help="Its number.", ge=1, widget="scan")
    neighbour: int = field("Neighbour that stays", help="Its number.", ge=1, widget="scan")
    width: float = field("Search width at the start", 0.5, unit="m", help="How far off the scan may be now; the search narrows to 0.03 m.", ge=0.03, le=5)


@operation
class FitToNeighbour(Operation):
    """Cloud fit of one scan to a chosen neighbour, from where it stands now."""

    name, title, step = "register.cloud_fit", "Cloud fit to a neighbour", "Register"
    writes = frozenset({"pose", "tie"})
    Params = FitParams

    def run(self, job: Job, params: FitParams, progress: Progress) -> Figures:
        if params.scan == params.neighbour:
            raise ParamsError("register.cloud_fit: a scan cannot be fitted to itself.", "Choose another neighbour.")
        b, a = job.scan(params.scan), job.scan(params.neighbour)
        for scan in (a, b):
            if scan.pose is None:
                raise StateError(f"Scan {scan.id} is not placed yet.", "Place it by numbers or by dragging first.")
        faces = surfaces(job, [a, b], Part(progress, 0, 0.8))
        widths = tuple(w for w in (5, 2, 1, *cloud_fit.WIDTHS) if w <= params.width) or (params.width,)
        shapes = [plan_match.PlanShape(f) for f in faces]
        tie = linking.fit_pair(faces, shapes, 0, 1, rigid.inverse(a.pose) @ b.pose, widths)
        if tie is None:
            raise StateError(f"Scans {a.id} and {b.id} have too little in common where they stand.", "Drag the scan nearer, widen the search, or choose another neighbour.")
        pose = a.pose @ tie.fit.pose
        low, high = sorted((a, b), key=lambda s: s.id)
        job.put("tie", f"{low.id}-{high.id}", tie_record(a, b, tie, a.pose) | {"patches": 0, "patch_rms_mm": None})
        job.put("pose", b.id, {"matrix": plain(pose), "how": f"cloud fit to {a.id}", "covariance": None, "bias": 0.0, "fixed": False}, scan=b.id)
        moved, turned = rigid.difference(b.pose, pose)
        residual = Notation.of(job).residual
        return {"says": f"Scan {b.id} to {a.id}: RMS {residual(tie.fit.rms * 1000)}, overlap {tie.fit.overlap:.0%}, moved {residual(moved * 1000, 0)}" + (f"; {tie.failed}" if tie.failed else ""),
                "rms_mm": tie.fit.rms * 1000, "overlap": tie.fit.overlap, "used": tie.fit.used, "moved_mm": moved * 1000, "turned_deg": float(np.degrees(turned)), "failed": tie.failed}


class LeaveOutParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    out: bool = field("Taken out", True, help="Off: back in.")


@operation
class LeaveOut(Operation):
    """Takes a scan out of the adjustment, or back in; its pose stays."""

    name, title, step = "register.leave_out", "Take a scan out of the adjustment", "Register"
    writes = frozenset({"left_out"})
    Params = LeaveOutParams

    def run(self, job: Job, params: LeaveOutParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        job.put("left_out", scan.id, True if params.out else None, scan=scan.id)
        return {"says": f"Scan {scan.id}, {scan.name}, {'taken out of' if params.out else 'back in'} the adjustment"}
