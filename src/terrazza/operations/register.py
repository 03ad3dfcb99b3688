"""Step 2, Register: bring all scans into one frame, automatically or by hand."""

import contextlib
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.files import named_by
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.job import Job, Scan, plain
from terrazza.operations.judging import LOOSE_MM
from terrazza.operations.notation import Notation
from terrazza.operations.settling import settle, settle_aside, sightings, tie_record
from terrazza.operations.surfaces import SHARED, pictures, surfaces
from terrazza.operations.targets import find_targets

cloud_fit = later("terrazza.core.register.cloud_fit")
search = later("terrazza.core.register.search")
linking = later("terrazza.core.register.linking")
plan_match = later("terrazza.core.register.plan_match")

POSE_KINDS = frozenset({"pose", "tie", "network", "array", "standing"})
DECIDED = ("by hand", "chosen")


class AutomaticParams(Params):
    poses: Literal["refine", "trust", "forget"] = field(
        "Poses that came with the files",
        "refine",
        help="refine: start from them; trust: keep them as they are; forget: place everything anew.",
    )
    scans: list[int] = scans_field()
    least_overlap: float = field(
        "Least overlap for a tie",
        0.05,
        help="Share of judged points that two scans must have in common.",
        ge=0.01,
        le=0.9,
    )
    bias_sigma_mm: float = field(
        "Range bias allowed",
        0.4,
        unit="mm",
        help="Standard deviation of a constant range error of each set-up; it is estimated along.",
        ge=0.01,
        le=20,
    )


@operation
class Automatic(Operation):
    """Plan match between scans, verified by free space; targets where that does not decide; cloud fit on all
    pairs that overlap; network adjustment of all together.
    """

    name, title, step = "register.automatic", "Register automatically", "Register"
    reads, writes = frozenset({"scan", "left_out", "tie_choice"}), POSE_KINDS | {"target"}
    Params = AutomaticParams

    def run(self, job: Job, params: AutomaticParams, progress: Progress) -> Figures:
        scans = [s for s in job.need_scans(params.scans) if not job.get("left_out", s.id)]
        if not scans:
            raise StateError("Every scan is taken out of the adjustment.", "Take one back in.")
        with self._seen(job, scans, Part(progress, 0.0, 0.2)) as common:
            return self._placed(job, scans, params, common, Part(progress, 0.2, 1.0))

    @staticmethod
    @contextlib.contextmanager
    def _seen(job: Job, scans: list[Scan], progress: Progress):
        """Surfaces, plan shapes and pictures of the scans, laid where every process reads them."""
        faces = surfaces(job, scans, Part(progress, 0.0, 0.75))
        with job.fleet.share(
            (faces, [plan_match.PlanShape(f) for f in faces], pictures(job, scans, Part(progress, 0.75, 1.0)))
        ) as common:
            del faces
            yield common

    @staticmethod
    def _placed(job: Job, scans: list[Scan], params: AutomaticParams, common, progress: Progress) -> Figures:
        faces, shapes, seen = common.value
        start = (
            {} if params.poses == "forget" else {k: s.pose for k, s in enumerate(scans) if s.pose is not None}
        )
        fixed = _stay(scans, start, params.poses)
        off = {
            (i, j)
            for i, a in enumerate(scans)
            for j, b in enumerate(scans)
            if i < j
            and not job.get("tie_choice", "-".join(map(str, sorted((a.id, b.id)))), {"on": True})["on"]
        }
        found = search.place(
            faces,
            shapes,
            seen,
            start,
            fixed,
            Part(progress, 0.0, 0.7),
            job.fleet,
            common,
            off,
            lambda: _targets(job, scans, Part(progress, 0.69, 0.7)),
        )
        poses = [p if i == 1 else None for p, i in zip(found.poses, found.island)]
        figures = settle(
            job,
            scans,
            faces,
            seen,
            poses,
            fixed if params.poses == "trust" or len(fixed) < len(scans) else set(),
            params.least_overlap,
            params.bias_sigma_mm / 1000,
            Part(progress, 0.7, 1.0),
            "automatic",
            set(start),
        )
        for k in fixed:  # it stays where it was put, tied or not
            figures["unsettled"].pop(scans[k].id, None)
        for island in range(2, max(found.island) + 1):
            apart = [p if i == island else None for p, i in zip(found.poses, found.island)]
            settled, unsettled, loose = settle_aside(
                job,
                scans,
                faces,
                seen,
                apart,
                params.least_overlap,
                params.bias_sigma_mm / 1000,
                Part(progress, 0.99, 1.0),
            )
            found.poses = [s if s is not None else p for s, p in zip(settled, found.poses)]
            figures |= {
                "unsettled": figures["unsettled"] | unsettled,
                "loose_mm": figures["loose_mm"] | loose,
            }
        return figures | _stand(job, scans, found, figures)


def _targets(job: Job, scans: list[Scan], progress: Progress) -> list:
    """Targets of the scans; where none are known yet they are looked for, except in large jobs, where that
    would take as long as all the rest.
    """
    if not job.facts("target") and len(scans) <= search.MANY:
        find_targets(job, scans, progress)
    return sightings(job, scans)


def _stay(scans: list[Scan], start: dict[int, np.ndarray], poses: str) -> set[int]:
    """Which scans stay where they are: all that are posed, on trust; what was set or chosen by hand; what
    shares a frame by its format; and of a finished job all but new scans.
    """
    if poses == "trust":
        return set(start)
    decided = {k for k in start if scans[k].pose_record.get("how") in DECIDED}
    shared = {
        k for k in start if scans[k].record["format"] in SHARED and scans[k].pose_record.get("how") == "file"
    }
    done = {k for k in start if scans[k].pose_record.get("how") not in {"file", *DECIDED}}
    new = len(done | decided) < len(scans)
    return decided | shared | (done if new else set())


def _stand(job: Job, scans: list[Scan], found, figures: Figures) -> Figures:
    """Put for every scan its island, why its placement is doubted, and what else it could be; the doubts as
    sentences for the figures.
    """
    said, again = [], _scanned_again(job, scans)
    for k, scan in enumerate(scans):
        doubt, place = found.doubt[k], job.get("pose", scan.id)
        if scan.id in again:
            doubt = (
                f"It holds the very same points as scan {again[scan.id]}: the same file twice. Remove "
                "one of them."
            )
        elif found.island[k] == 0:
            doubt = "Nothing that the scans show ties it to another."
        elif not doubt and scan.id in figures["unsettled"]:
            doubt = figures["unsettled"][scan.id]
        elif not doubt:
            doubt = _held(figures["loose_mm"].get(scan.id, 0.0))
        matrix = (
            place["matrix"]
            if found.island[k] == 1 and place
            else plain(found.poses[k])
            if found.poses[k] is not None
            else None
        )
        others = [plain(r) for r in found.rivals[k]]
        job.put(
            "standing",
            scan.id,
            {
                "island": found.island[k] or None,
                "matrix": matrix,
                "doubt": doubt or None,
                "alternatives": ([matrix, *others] if matrix and others else others) if doubt else [],
            },
            scan=scan.id,
        )
        if doubt:
            said.append(f"Scan {scan.id}, {scan.name}: {doubt}")
    islands = [
        [s.id for s, i in zip(scans, found.island) if i == n]
        for n in range(1, max(found.island, default=0) + 1)
    ]
    says = (
        figures["says"]
        + (f"; {len(islands)} islands" if len(islands) > 1 else "")
        + (f"; {len(said)} doubted" if said else "")
    )
    return {"doubt": said, "islands": islands, "says": says}


def _scanned_again(job: Job, scans: list[Scan]) -> dict[int, int]:
    """By scan an earlier one that holds the very same points, by the checksums of both."""
    first: dict[tuple, int] = {}
    return {
        s.id: other
        for s in scans
        if (
            other := first.setdefault(
                (s.points, *map(named_by, job.get("column", f"{s.id}/position") or [str(s.id)])), s.id
            )
        )
        != s.id
    }


def _stood(job: Job, scans: list[Scan], figures: Figures) -> Figures:
    """Put what an adjustment by itself says of each scan; doubts between alternatives stay until one of them
    is chosen.
    """
    said = []
    for scan in scans:
        standing, place = job.get("standing", scan.id) or {"alternatives": []}, job.get("pose", scan.id)
        doubt = (
            figures["unsettled"].get(scan.id)
            or _held(figures["loose_mm"].get(scan.id, 0.0))
            or (standing["doubt"] if standing["alternatives"] else None)
        )
        job.put(
            "standing",
            scan.id,
            {
                "island": 1,
                "matrix": place["matrix"],
                "doubt": doubt,
                "alternatives": standing["alternatives"] if doubt else [],
            },
            scan=scan.id,
        )
        if doubt:
            said.append(f"Scan {scan.id}, {scan.name}: {doubt}")
    return {"doubt": said}


def _held(sigma_mm: float) -> str:
    """That a place is too loose, in words; empty where it is not."""
    return (
        f"It is held to {sigma_mm:.0f} mm only in its weakest direction against the others."
        if sigma_mm > LOOSE_MM
        else ""
    )


class ChooseParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    alternative: int = field(
        "Alternative", help="Its place in the list, from 1: the first is where the scan stands now.", ge=1
    )


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
            raise ParamsError(
                f"Scan {params.scan} has {len(offered) or 'no'} placements to choose from.",
                "Register automatically first; the sheet lists what is doubted."
                if not offered
                else f"Give a number from 1 to {len(offered)}.",
            )
        if standing["island"] not in {1, None}:
            raise StateError(
                f"Scan {params.scan} stands in island {standing['island']}, which is not joined to the "
                "job yet.",
                "Set one of its scans by hand, then register again.",
            )
        pose = np.array(offered[params.alternative - 1])
        moved, turned = rigid.difference(scan.pose, pose) if scan.pose is not None else (0.0, 0.0)
        job.put(
            "pose",
            scan.id,
            {"matrix": plain(pose), "how": "chosen", "covariance": None, "bias": 0.0, "fixed": False},
            scan=scan.id,
        )
        job.put(
            "standing", scan.id, standing | {"island": 1, "matrix": plain(pose), "doubt": None}, scan=scan.id
        )
        return {
            "says": f"Scan {scan.id}, {scan.name}: placement {params.alternative} of {len(offered)} chosen, "
            f"moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.1f}°",
            "moved_m": float(moved),
        }


class AdjustParams(Params):
    least_overlap: float = field(
        "Least overlap for a tie",
        0.05,
        help="Share of judged points that two scans must have in common.",
        ge=0.01,
        le=0.9,
    )
    bias_sigma_mm: float = field(
        "Range bias allowed",
        0.4,
        unit="mm",
        help="Standard deviation of a constant range error of each set-up.",
        ge=0.01,
        le=20,
    )
    fixed: list[int] = field("Scans that stay", list, help="Empty: the first placed scan.", widget="scans")


@operation
class Adjust(Operation):
    """Cloud fit of all placed pairs that overlap, then one adjustment of the whole network."""

    name, title, step = "register.adjust", "Adjust the whole network", "Register"
    reads, writes = frozenset({"scan", "left_out", "tie_choice", "target"}), POSE_KINDS
    Params = AdjustParams

    def run(self, job: Job, params: AdjustParams, progress: Progress) -> Figures:
        scans = [
            s
            for s in job.need_scans(placed=True, why=", so there is nothing to adjust")
            if not job.get("left_out", s.id)
        ]
        if len(scans) < 2:
            raise StateError(
                "An adjustment needs two placed scans at least.", "Place another, or take one back in."
            )
        faces, seen = (
            surfaces(job, scans, Part(progress, 0.0, 0.4)),
            pictures(job, scans, Part(progress, 0.4, 0.5)),
        )
        fixed = {k for k, s in enumerate(scans) if s.id in set(params.fixed)}
        figures = settle(
            job,
            scans,
            faces,
            seen,
            [s.pose for s in scans],
            fixed,
            params.least_overlap,
            params.bias_sigma_mm / 1000,
            Part(progress, 0.5, 1.0),
            "adjusted",
            set(range(len(scans))),
        )
        return figures | _stood(job, scans, figures)


class SetPoseParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    x: float = field(
        "X or easting",
        unit="m",
        help="Of the scanner, in the grid where there is one, otherwise in the job frame.",
    )
    y: float = field("Y or northing", unit="m")
    z: float = field("Z or height", unit="m")
    heading_deg: float = field(
        "Heading",
        unit="°",
        help="Plan direction of the scan's x axis, counter-clockwise from X.",
        ge=-360,
        le=360,
    )
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
        wanted = rigid.make(
            tilt @ rigid.about_z(np.radians(params.heading_deg)), np.array([params.x, params.y, params.z])
        )
        pose = rigid.inverse(job.frame) @ wanted
        moved, turned = rigid.difference(scan.pose, pose) if scan.pose is not None else (None, None)
        job.put(
            "pose",
            scan.id,
            {"matrix": plain(pose), "how": "by hand", "covariance": None, "bias": 0.0, "fixed": False},
            scan=scan.id,
        )
        return {
            "says": f"Scan {scan.id} set by hand"
            + (
                f", moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.2f}°"
                if moved is not None
                else ""
            ),
            "moved_m": moved,
        }


class FitParams(Params):
    scan: int = field("Scan to move", help="Its number.", ge=1, widget="scan")
    neighbour: int = field("Neighbour that stays", help="Its number.", ge=1, widget="scan")
    width: float = field(
        "Search width at the start",
        0.5,
        unit="m",
        help="How far off the scan may be now; the search narrows to 0.03 m.",
        ge=0.03,
        le=5,
    )


@operation
class FitToNeighbour(Operation):
    """Cloud fit of one scan to a chosen neighbour, from where it stands now."""

    name, title, step = "register.cloud_fit", "Cloud fit to a neighbour", "Register"
    writes = frozenset({"pose", "tie"})
    Params = FitParams

    def run(self, job: Job, params: FitParams, progress: Progress) -> Figures:
        if params.scan == params.neighbour:
            raise ParamsError(
                "register.cloud_fit: a scan cannot be fitted to itself.", "Choose another neighbour."
            )
        b, a = job.scan(params.scan), job.scan(params.neighbour)
        for scan in (a, b):
            if scan.pose is None:
                raise StateError(
                    f"Scan {scan.id} is not placed yet.", "Place it by numbers or by dragging first."
                )
        faces, seen = (
            surfaces(job, [a, b], Part(progress, 0, 0.6)),
            pictures(job, [a, b], Part(progress, 0.6, 0.8)),
        )
        widths = tuple(w for w in (5, 2, 1, *cloud_fit.WIDTHS) if w <= params.width) or (params.width,)
        tie = linking.fit_pair(faces, seen, 0, 1, rigid.inverse(a.pose) @ b.pose, widths)
        if tie is None:
            raise StateError(
                f"Scans {a.id} and {b.id} have too little in common where they stand.",
                "Drag the scan nearer, widen the search, or choose another neighbour.",
            )
        pose = a.pose @ tie.fit.pose
        low, high = sorted((a, b), key=lambda s: s.id)
        job.put(
            "tie", f"{low.id}-{high.id}", tie_record(a, b, tie, a.pose) | {"patches": 0, "patch_rms_mm": None}
        )
        job.put(
            "pose",
            b.id,
            {
                "matrix": plain(pose),
                "how": f"cloud fit to {a.id}",
                "covariance": None,
                "bias": 0.0,
                "fixed": False,
            },
            scan=b.id,
        )
        moved, turned = rigid.difference(b.pose, pose)
        residual = Notation.of(job).residual
        return {
            "says": f"Scan {b.id} to {a.id}: RMS {residual(tie.fit.rms * 1000)}, overlap "
            f"{tie.fit.overlap:.0%}, moved {residual(moved * 1000, 0)}"
            + (f"; {tie.failed}" if tie.failed else ""),
            "rms_mm": tie.fit.rms * 1000,
            "overlap": tie.fit.overlap,
            "used": tie.fit.used,
            "moved_mm": moved * 1000,
            "turned_deg": float(np.degrees(turned)),
            "failed": tie.failed,
        }


class TieParams(Params):
    a: int = field("Scan", help="Its number.", ge=1, widget="scan")
    b: int = field("Other scan", help="Its number.", ge=1, widget="scan")
    on: bool = field(
        "On", True, help="Off: the two do not hold each other, now and when registration runs again."
    )
    weight: float = field("Weight", 1.0, help="How much the tie counts against others.", ge=0.01, le=100)


@operation
class TieChoice(Operation):
    """Switches a tie between two scans off or on, or lets it count more or less; every adjustment from now on
    keeps to it.
    """

    name, title, step = "register.tie", "Switch a tie", "Register"
    writes = frozenset({"tie_choice"})
    Params = TieParams

    def run(self, job: Job, params: TieParams, progress: Progress) -> Figures:
        if params.a == params.b:
            raise ParamsError("register.tie: a tie joins two different scans.", "Choose another scan.")
        a, b = sorted((job.scan(params.a), job.scan(params.b)), key=lambda s: s.id)
        usual = params.on and params.weight == 1.0
        job.put(
            "tie_choice",
            f"{a.id}-{b.id}",
            None if usual else {"a": a.id, "b": b.id, "on": params.on, "weight": params.weight},
            scan=a.id,
        )
        state = (
            "off" if not params.on else "on" + (f", weight {params.weight:g}" if params.weight != 1.0 else "")
        )
        return {"says": f"Tie {a.id} – {b.id} switched {state}; the adjustment is due", "doubt": []}


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
        return {
            "says": f"Scan {scan.id}, {scan.name}, {'taken out of' if params.out else 'back in'} the "
            "adjustment"
        }
