"""The registration report: plan, scans, ties, control with residuals, classes, drawings and the
field book.
"""

import time

import numpy as np

from terrazza import __version__
from terrazza.core.classify import classes as class_names
from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.db.models import Entry
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.deliver.papers import written
from terrazza.operations.draw.plan_slab import EYE
from terrazza.operations.draw.slab import floor_height, slab_points
from terrazza.operations.pieces.counting import class_counts, class_namer
from terrazza.operations.register.statement import statement
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, title
from terrazza.operations.spine.job import Job, covariance_of
from terrazza.operations.spine.notation import Notation

report = later("terrazza.formats.report")
voxels = later("terrazza.core.geometry.voxels")


class ReportParams(Params):
    path: str = field(
        "File",
        "report",
        role="write",
        help="Without an ending: report.html and report.pdf. Relative paths land in the job's deliverables.",
    )
    surveyor: str = field("Surveyor", "", max_length=120, help="Named on the first page.")


@operation
class Report(Operation):
    """Writes the registration report as HTML and PDF."""

    name, title, step = "deliver.report", "Report", "Deliver"
    reads, writes = (
        frozenset(
            {
                "scan",
                "pose",
                "tie",
                "looked",
                "network",
                "standing",
                "left_out",
                "frame",
                "crs",
                "control",
                "cut",
                "column",
                "drawing",
                "walk",
            }
        ),
        frozenset({"deliverable"}),
    )
    Params = ReportParams

    def run(self, job: Job, params: ReportParams, progress: Progress) -> Figures:
        if not job.scans():
            raise StateError("The job has no scans to report on.", "Import some first.")
        blocks = assemble(job, params.surveyor, progress)
        return written(job, params.path, f"{job.row.name}: registration report", blocks)


def assemble(job: Job, surveyor: str, progress: Progress) -> list:
    """The report's blocks, from facts and the field book alone."""
    scans = job.scans()
    frame, n = job.get("frame"), Notation.of(job)
    blocks = [
        report.Text(
            " · ".join(
                t
                for t in (
                    time.strftime("%d %B %Y, %H:%M"),
                    surveyor,
                    f"{len(scans)} scans, {sum(s.points for s in scans):,} points",
                    f"Lengths in {n.short} unless said otherwise",
                    f"Terrazza {__version__}",
                )
                if t
            )
        )
    ]
    blocks += [report.Heading("Plan"), _plan(job, scans, progress)]
    blocks += [report.Heading("Registration"), *_registration(job, scans)]
    if frame is not None:
        blocks += [report.Heading("Georeference"), *_georeference(job, frame)]
    blocks += [report.Heading("Classes"), _classes(job)]
    if job.facts("drawing"):
        rows = [
            [
                d["name"],
                str(len(d["lines"])),
                *(
                    "" if v is None else n.number(v / n.metres)
                    for v in (sum(x["length"] for x in d["lines"]), d.get("height"), d.get("thickness"))
                ),
            ]
            for d in job.facts("drawing").values()
        ]
        blocks += [
            report.Heading("Drawings"),
            report.Rows(
                ["Drawing", "Lines", *(f"{word} {n.short}" for word in ("Length", "Height", "Slab"))],
                rows,
                {1, 2, 3, 4},
            ),
        ]
    blocks += [report.Heading("Field book"), _book(job)]
    return blocks


def _plan(job: Job, scans, progress) -> "report.Plan":
    placed = {s.id: s for s in scans if s.pose is not None}
    plan = report.Plan()
    if not placed:
        return plan
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
    return plan


def _registration(job: Job, scans) -> list:
    network = job.get("network") or {}
    out, n = [], Notation.of(job)
    if network.get("rms_mm") is not None:
        out.append(
            report.Text(
                f"Cloud RMS over all ties {n.residual(network['rms_mm'], 2)} (root mean square of the "
                "point-to-plane distances of used point pairs). Network adjustment of planes seen "
                "by two scans or more: "
                f"redundancy {network['redundancy']:,}, variance factor "
                f"{network.get('variance_factor') or 1:.2f}."
            )
        )
    out += [report.Text(f"{what}: {sentence}") for what, sentence in statement(job)]
    return [*out, _placed(job, scans, n), _ties(job, n)]


def _placed(job: Job, scans, n: Notation) -> "report.Rows":
    """Where scans stand and how sure that is."""
    grid = job.get("frame", "", {}).get("covariances") or {}
    rows = [_placed_row(job, s, grid.get(str(s.id)), n) for s in scans]
    head = [
        "Scan",
        "Name",
        "Points",
        *n.named("X", "Y", "Z"),
        "Heading °",
        f"σ place {n.small_short}",
        "σ turn m°",
    ]
    return report.Rows(head, rows, {2, 3, 4, 5, 6, 7, 8})


def _placed_row(job: Job, s, in_grid, n: Notation) -> list[str]:
    about = [str(s.id), s.name, f"{s.points:,}"]
    if s.pose is None:
        return [*about, "not placed", *[""] * 5]
    covariance = np.array(in_grid) if in_grid else covariance_of(s.pose_record)
    sigma = np.sqrt(np.diag(covariance)) if covariance is not None else None
    p = job.grid_pose(s)
    if s.pose_record.get("fixed") and not in_grid:
        place = "fixed"
    else:
        place = n.small(max(sigma[3:]) * 1000, 2) if sigma is not None else "–"
    return [
        *about,
        *(n.number(v, n.decimals + 1) for v in n.ordered(p[:3, 3])),
        n.number(float(np.degrees(rigid.heading(p))), 4),
        place,
        f"{np.degrees(max(sigma[:3])) * 1000:.1f}" if sigma is not None else "–",
    ]


def _ties(job: Job, n: Notation) -> "report.Rows":
    rows = [
        [
            f"{t['a']} – {t['b']}",
            n.small(t["rms_mm"], 2),
            f"{t['overlap']:.0%}",
            f"{t['used']:,}",
            f"{t.get('patches', 0):,}",
            t["words"] if not t["failed"] else t["failed"],
        ]
        for t in job.facts("tie").values()
    ]
    head = ["Tie", f"RMS {n.small_short}", "Overlap", "Used points", "Common planes", "Holds"]
    return report.Rows(head, rows, {1, 2, 3, 4})


def _georeference(job: Job, frame: dict) -> list:
    n = Notation.of(job)
    out = [report.Text(frame["says"] + ".")] + [report.Text(w) for w in frame["warnings"]]
    if frame["how"] == "control":
        out.append(
            report.Text(
                f"Scale 1:1. The control would like {frame['scale']:.6f} ± {frame['scale_sigma']:.6f}. RMS "
                f"in plan {n.residual(frame['plan_mm'], 2)}, in height "
                f"{n.residual(frame['height_mm'], 2)}; check points are compared only."
            )
        )
        number = lambda r, k: ("+" if r[k] > 0 else "") + n.small(r[k], 2) if r.get(k) is not None else ""
        rows = [
            [
                r["name"],
                r["role"],
                *(n.number(v, n.decimals + 1) for v in n.ordered(r["grid"])),
                n.number(r["target_height"] / n.metres),
                *(number(r, k) for k in n.named("dx_mm", "dy_mm", "height_mm")),
                number(r, "left_out_mm"),
            ]
            for r in frame["rows"]
        ]
        out.append(
            report.Rows(
                [
                    "Point",
                    "Role",
                    *n.named("Easting", "Northing", "Height"),
                    "Target height",
                    *(f"{d} {n.small_short}" for d in n.named("dE", "dN", "dH")),
                    f"left out {n.small_short}",
                ],
                rows,
                set(range(2, 10)),
            )
        )
    crs = job.get("crs")
    return out + ([report.Text(f"Coordinate system: {crs['name']}.")] if crs else [])


def _classes(job: Job) -> "report.Rows":
    rows = [
        [str(r["code"]), r["name"], f"{r['points']:,}", f"{r['share']:.1%}"]
        for r in class_names.shares(class_counts(job), class_namer(job))
    ]
    return report.Rows(["Code", "Class", "Points kept", "Share"], rows, {2, 3})


def _book(job: Job) -> "report.Rows":
    rows = []
    for e in (
        Entry.select()
        .where((Entry.job == job.row) & (Entry.id != (job.entry.id if job.entry else 0)))
        .order_by(Entry.number)
    ):
        said = (e.figures or {}).get("says", "") or e.message
        rows.append(
            [
                str(e.number),
                title(e.operation),
                said,
                e.state,
                f"{e.seconds:.1f}" if e.seconds is not None else "",
                time.strftime("%d.%m. %H:%M", time.localtime(e.created)),
            ]
        )
    return report.Rows(["No", "Operation", "Figures", "State", "s", "When"], rows, {0, 4})
