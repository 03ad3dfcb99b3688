"""Control under strips: measured heights, and points of measured planes."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.box import Box
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.pieces import reading
from terrazza.operations.register.holding import need_free
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, plain

with later():
    from terrazza.core.strips import under

LEAST = 3  # places that a shift is believed from
APART = 3.0  # σ by which a shift has to differ from nothing, else it is told


class ControlParams(Params):
    control: str = field(
        "Control",
        role="read",
        widget="file",
        help="Text: name, easting, northing, height of places on level or leaning surfaces.",
    )
    radius: float = field("Radius", 1.0, unit="m", ge=0.05, le=20, help="About a place: points that tell it.")
    apply: bool = field("Apply", True, help="Off: only the figures.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class StripControl(Operation):
    """Compares strips with measured heights (and points of measured planes) under them, and shifts all chosen
    scans by one height; what stands apart from the others is left out and named.
    """

    name, title, step = "register.strip_control", "Heights under strips", "Register"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "column"}), frozenset({"pose"})
    looks = frozenset({"held", "held_block"})
    Params = ControlParams

    def run(self, job: Job, params: ControlParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to compare")
        if params.apply:
            need_free(job, scans)
        given = reading.control(job.input(params.control, "The control file"))
        places = given.columns[:, list(given.order or (0, 1, 2))]
        rows = []
        for k, (name, place) in enumerate(zip(given.names, places)):
            progress.advance(k, len(places), f"Looking about {name}")
            found = under.above(_about(job, scans, place, params.radius), place)
            rows.append({"name": name, "off": found.off, "sigma": found.sigma, "points": found.points})
        off, sigma = (np.array([r[k] for r in rows]) for k in ("off", "sigma"))
        if np.isfinite(off).sum() < LEAST:
            raise StateError(
                f"Points lie about {int(np.isfinite(off).sum())} of {len(off)} places; {LEAST} are needed.",
                "Check columns and coordinate system, or give a larger radius.",
            )
        shift = under.shift(off, sigma)
        if params.apply:
            for scan in scans:
                _lift(job, scan, shift.by)
        return _figures(rows, shift, params.apply)


def _figures(rows: list[dict], shift, applied: bool) -> Figures:
    doubt, left = [], [r["name"] for r, u in zip(rows, shift.used) if not u and np.isfinite(r["off"])]
    bare = [r["name"] for r in rows if not np.isfinite(r["off"])]
    if left:
        doubt.append(f"Left out, since they stand apart from the others: {', '.join(left)}.")
    if bare:
        doubt.append(f"No points lie about {', '.join(bare)}.")
    if abs(shift.by) < APART * shift.sigma:
        doubt.append("The shift is hardly larger than its σ: the strips lie right as they are.")
    done = "shifted" if applied else "not applied"
    told = [
        {"name": r["name"], "points": r["points"], "used": bool(u)}
        | {k: float(r[v]) * 1000 if np.isfinite(r[v]) else None for k, v in MM.items()}
        | {"left_mm": float(r["off"] + shift.by) * 1000 if np.isfinite(r["off"]) else None}
        for r, u in zip(rows, shift.used)
    ]
    return {
        "says": f"{shift.used.sum()} of {len(rows)} places: heights {shift.by * 1000:+.1f} mm "
        f"± {shift.sigma * 1000:.1f}, {done}; places spread by {shift.spread * 1000:.1f} mm",
        "by": shift.by,
        "sigma_mm": shift.sigma * 1000,
        "spread_mm": shift.spread * 1000,
        "rows": told,
        "doubt": doubt,
    }


MM = {"off_mm": "off", "sigma_mm": "sigma"}


def _about(job: Job, scans, place: np.ndarray, radius: float) -> np.ndarray:
    """(n, 3) kept points of the grid within a radius in plan, of the surface nearest in height."""
    tall = np.array([radius, radius, 4 * radius])
    box, out = Box(place - tall, place + tall, np.eye(4)), []
    for scan in scans:
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        for node in cloud.nodes[box.nodes(cloud, pose)[0]]:
            start, stop = int(node["start"]), int(node["start"] + node["count"])
            xyz = rigid.apply(pose, cloud.xyz(start, stop)[cloud.kept(start, stop)])
            near = np.hypot(*(xyz[:, :2] - place[:2]).T) < radius
            out.append(xyz[near & (np.abs(xyz[:, 2] - place[2]) < tall[2])])
    found = np.concatenate([np.zeros((0, 3)), *out])
    if len(found) < under.FEWEST:
        return found
    order = np.argsort(found[:, 2])
    found = found[order]
    parts = np.split(found, np.flatnonzero(np.diff(found[:, 2]) > radius) + 1)
    large = [p for p in parts if len(p) >= under.FEWEST]
    return min(large, key=lambda p: abs(np.median(p[:, 2]) - place[2])) if large else found[:0]


def _lift(job: Job, scan, by: float) -> None:
    """Shift a scan by a height of the grid."""
    up = job.frame[:3, :3].T @ np.array([0.0, 0.0, by])
    pose = np.array(scan.pose)
    pose[:3, 3] += up
    record = scan.pose_record | {"matrix": plain(pose), "how": "heights under strips"}
    job.put("pose", scan.id, record, scan=scan.id)
