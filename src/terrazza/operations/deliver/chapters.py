"""The chapters of the registration report."""

import time
from collections.abc import Iterator

import numpy as np

from terrazza.core.classify import classes as class_names
from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.db.models import Entry
from terrazza.later import later
from terrazza.operations.deliver import about
from terrazza.operations.deliver.folders import called
from terrazza.operations.deliver.site_plan import site_plan
from terrazza.operations.pieces.counting import class_counts, class_namer
from terrazza.operations.register.looked_through import told
from terrazza.operations.register.strips_told import strips_told
from terrazza.operations.spine.base import title
from terrazza.operations.spine.job import Job, covariance_of
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.formats import report

SETTLING = (  # operations by which people decide what is doubted
    "register.choose register.set_pose register.like_points register.join register.tie register.leave_out "
    "register.cloud_fit register.looked_through georeference.match georeference.role "
    "georeference.drop_target georeference.pick_target"
).split()
DOUBLES = 40  # that are listed
FAR = 1000.0  # mm: an error that may go unnoticed up to here is not held at all


def chapters(job: Job, progress: Progress) -> Iterator[tuple[str, list]]:
    """(title, blocks) of the chapters that have something to say."""
    yield "Plan", site_plan(job, progress)
    yield "Scans", [_scans(job), _files(job)]
    yield "Ties and adjustment", _ties(job)
    for name, chapter in (
        ("Strips", _strips),
        ("Targets", _targets),
        ("Double walls", _doubles),
        ("Doubts, and how they were settled", _doubts),
        ("Georeference", _georeference),
        ("Cuts and losses", _cuts),
        ("Classes", _classes),
        ("Drawings", _drawings),
        ("Delivered", _delivered),
    ):
        blocks = chapter(job)
        if blocks:
            yield name, blocks
    missing = undone(job)
    yield "What was not done", [report.Text(f"{m[:1].upper()}{m[1:]}.") for m in missing or ["nothing"]]
    yield "Field book", [_book(job)]


def undone(job: Job) -> list[str]:
    """What a surveyor would expect and this job does not have."""
    network, frame = job.get("network") or {}, job.get("frame") or {}
    unplaced = [s.name for s in job.scans() if s.pose is None]
    controlled = frame.get("how") == "control"
    rows = frame.get("rows") or []
    return [
        sentence
        for sentence, wanting in (
            (f"{len(unplaced)} scans have no place: {', '.join(unplaced[:5])}", unplaced),
            ("no network adjustment", network.get("rms_mm") is None and len(job.scans()) > 1),
            ("double walls were not looked for", network.get("doubles") is None and len(job.scans()) > 1),
            ("nobody has signed that the scans were looked through", not told(job)),
            ("no control was used", not controlled),
            ("no check point tells the accuracy", controlled and all(r["role"] != "check" for r in rows)),
            ("the coordinate system is not said", not job.get("crs")),
            ("no point was cut", not job.facts("cut")),
            ("no point was classified", set(class_counts(job)) <= {0, 1}),
        )
        if wanting
    ]


def _scans(job: Job) -> "report.Rows":
    """Where scans stand and how sure that is."""
    n = Notation.of(job)
    grid = job.get("frame", "", {}).get("covariances") or {}
    rows = [_scan_row(job, s, grid.get(str(s.id)), n) for s in job.scans()]
    head = ["Scan", "Name", "Points", *n.named("X", "Y", "Z"), "Heading °"]
    head += [f"σ place {n.small_short}", "σ turn m°", f"RMS of its ties {n.small_short}"]
    return report.Rows(head, rows, set(range(2, 10)))


def _scan_row(job: Job, s, in_grid, n: Notation) -> list[str]:
    row = [str(s.id), s.name, f"{s.points:,}"]
    if s.pose is None:
        return [*row, "not placed", *[""] * 6]
    covariance = np.array(in_grid) if in_grid else covariance_of(s.pose_record)
    sigma = np.sqrt(np.diag(covariance)) if covariance is not None else None
    p = job.grid_pose(s)
    if s.pose_record.get("fixed") and not in_grid:
        place = "fixed"
    else:
        place = n.small(max(sigma[3:]) * 1000, 2) if sigma is not None else "–"
    mine = [t for t in job.facts("tie").values() if s.id in (t["a"], t["b"]) and not t["failed"]]
    used = sum(t["used"] for t in mine)
    rms = np.sqrt(sum(t["used"] * t["rms_mm"] ** 2 for t in mine) / used) if used else None
    return [
        *row,
        *(n.number(v, n.decimals + 1) for v in n.ordered(p[:3, 3])),
        n.number(float(np.degrees(rigid.heading(p))), 4),
        place,
        f"{np.degrees(max(sigma[:3])) * 1000:.1f}" if sigma is not None else "–",
        n.small(float(rms), 2) if rms is not None else "–",
    ]


def _files(job: Job) -> "report.Rows":
    rows = [
        [str(s.id), s.record["file"], s.record["format"]]
        + [str(s.record.get(k) or "–") for k in ("instrument", "captured", "block")]
        for s in job.scans()
    ]
    return report.Rows(["Scan", "File", "Format", "Instrument", "Captured", "Block"], rows)


def _strips(job: Job) -> list:
    """How passes of flights were aligned, and a histogram of what is left of the worst pair."""
    found, n = strips_told(job), Notation.of(job)
    if found is None:
        return []
    u = n.small_short
    head = ["Passes", f"Before {u}", f"After {u}", f"In plan {u}", f"In height {u}"]
    out = [report.Rows(["Unknown", "Value", "σ"], [list(r) for r in found.unknowns], {1, 2})]
    out += [report.Text(f"{w[:1].upper()}{w[1:]}") for w in found.words]
    out.append(report.Rows(head, [list(r) for r in found.pairs], {1, 2, 3, 4}))
    if found.bars:
        worst, counts = next((k, found.bars[k]) for k in found.bars)
        out.append(report.Bars(f"Misfits of passes {worst}", found.edges_mm[::2], _by_twos(counts), "mm"))
    return out


def _by_twos(counts: list[int]) -> list[int]:
    return [a + b for a, b in zip(counts[::2], counts[1::2])]


def _ties(job: Job) -> list:
    n, network = Notation.of(job), job.get("network") or {}
    ties, out = list(job.facts("tie").values()), []
    if not ties:
        return [report.Text("The scans are not tied to each other.")]
    if network.get("rms_mm") is not None:
        out.append(
            report.Text(
                f"Cloud RMS over all ties {n.residual(network['rms_mm'], 2)} (root mean square of the "
                "point-to-plane distances of used point pairs). Network adjustment of planes seen by two "
                f"scans or more: redundancy {network['redundancy']:,}, variance factor "
                f"{network.get('variance_factor') or 1:.2f}."
            )
        )
    if (network.get("test") or {}).get("says"):
        out.append(report.Text(network["test"]["says"]))
    rows = [
        [
            f"{t['a']} – {t['b']}",
            n.small(t["rms_mm"], 2),
            n.small(t["median_mm"], 2) if t.get("median_mm") is not None else "–",
            f"{t['overlap']:.0%}",
            f"{t['unmatched']:.1%}" if t.get("unmatched") is not None else "–",
            f"{t['used']:,}",
            f"{t.get('patches', 0):,}",
            _unnoticed(t.get("unnoticed_mm"), n),
            t["words"] if not t["failed"] else t["failed"],
        ]
        for t in ties
    ]
    head = ["Tie", f"RMS {n.small_short}", "Median", "Overlap", "Unmatched", "Used points"]
    head += ["Planes", "Unnoticed up to", "Holds"]
    out.append(report.Rows(head, rows, set(range(1, 8))))
    good = [t["rms_mm"] for t in ties if not t["failed"]]
    if len(good) > 2:
        out.append(report.Bars.of("RMS of the ties", good, "mm"))
    loops = network.get("loops") or []
    if loops:
        told = [
            [" – ".join(map(str, v["scans"])), n.small(v["shift_mm"], 2), f"{v['turn_mdeg']:.1f}"]
            for v in loops
        ]
        out += [report.Heading("Loops", 3), report.Rows(["Scans", "Misclosure mm", "m°"], told, {1, 2})]
    if network.get("advice"):
        out.append(report.Text(network["advice"]))
    return out


def _unnoticed(mm: float | None, n: Notation) -> str:
    """The largest error of a tie that no other would notice."""
    if mm is None:
        return "–"
    return n.small(mm, 1) if mm < FAR else "any"


def _targets(job: Job) -> list:
    n, frame = Notation.of(job), job.get("frame") or {}
    left = {k: r for r in frame.get("rows") or [] for k in r.get("targets") or []}
    rows = []
    for key, t in job.facts("target").items():
        row = left.get(int(key))
        of = row["name"] if row else ""
        off = n.small(row["total_mm"], 2) if row and row.get("total_mm") is not None else ""
        rows.append(
            [
                key,
                t.get("kind", ""),
                str(t["scan"]),
                n.number(t["range"] / n.metres) if t.get("range") is not None else "–",
                f"{t['incidence_deg']:.0f}" if t.get("incidence_deg") is not None else "–",
                str(t.get("points", "")),
                n.small(t["sigma"] * 1000, 2),
                of,
                off,
                "left out" if t["dropped"] else "used",
            ]
        )
    if not rows:
        return []
    head = ["No", "Kind", "Scan", "Range", "Incidence °", "Points", f"σ {n.small_short}", "Control"]
    return [report.Rows([*head, "Residual", ""], rows, {3, 4, 5, 6, 8})]


def _doubles(job: Job) -> list:
    n, doubles = Notation.of(job), (job.get("network") or {}).get("doubles")
    signed = told(job)
    if doubles is None and not signed:
        return []
    out = [report.Text(f"Looked through: {signed}" if signed else "Nobody has signed for them.")]
    if doubles is None:
        return [*out, report.Text("Double walls were not looked for.")]
    if not doubles:
        return [*out, report.Text("No surface shows twice.")]
    rows = [
        [f"{d['a']} – {d['b']}", n.small(abs(d["offset_mm"]), 1), n.number(d.get("area_m2", 0.0), 2)]
        for d in doubles[:DOUBLES]
    ]
    more = [report.Text(f"… and {len(doubles) - DOUBLES} more.")] if len(doubles) > DOUBLES else []
    return [*out, report.Rows(["Scans", f"Apart {n.small_short}", "Area m²"], rows, {1, 2}), *more]


def _doubts(job: Job) -> list:
    doubts = about.doubts(job)
    rows = [
        [str(e.number), title(e.operation), (e.figures or {}).get("says", ""), e.who, _day(e.created)]
        for e in _entries(job)
        if e.state == "done" and e.operation in SETTLING
    ]
    out = [report.Text(d) for d in doubts] or [report.Text("No placement is in doubt.")]
    for e in _entries(job):
        if e.state == "done":
            out += [report.Text(f"{title(e.operation)}: {d}") for d in _said(e)]
    if rows:
        out += [
            report.Heading("Decided by hand", 3),
            report.Rows(["No", "Operation", "Figures", "By", "When"], rows, {0}),
        ]
    return out


def _said(entry: Entry) -> list[str]:
    doubt = (entry.figures or {}).get("doubt") or []
    return [doubt] if isinstance(doubt, str) else [d for d in doubt if isinstance(d, str)]


def _georeference(job: Job) -> list:
    n, frame, crs = Notation.of(job), job.get("frame"), job.get("crs")
    out = []
    if frame is not None:
        out = [report.Text(t if t.endswith(".") else f"{t}.") for t in (frame["says"],) if t]
        out += [report.Text(w) for w in frame.get("warnings") or []]
    if frame is not None and frame["how"] == "control":
        out.append(
            report.Text(
                f"Scale 1:1. The control would like {frame['scale']:.6f} ± {frame['scale_sigma']:.6f}. RMS "
                f"in plan {n.residual(frame['plan_mm'], 2)}, in height "
                f"{n.residual(frame['height_mm'], 2)}; check points are compared only."
            )
        )
        out += [_control(frame, n)]
        known = [r["total_mm"] for r in frame["rows"] if r.get("total_mm") is not None]
        if len(known) > 2:
            out.append(report.Bars.of("Residuals of control and check points", known, "mm"))
        if frame.get("accuracy"):
            out.append(report.Text(frame["accuracy"]))
    return out + ([report.Text(f"Coordinate system: {crs['name']}.")] if crs else [])


def _control(frame: dict, n: Notation) -> "report.Rows":
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
    head = ["Point", "Role", *n.named("Easting", "Northing", "Height"), "Target height"]
    head += [f"{d} {n.small_short}" for d in n.named("dE", "dN", "dH")] + [f"left out {n.small_short}"]
    return report.Rows(head, rows, set(range(2, 10)))


def _cuts(job: Job) -> list:
    titles = {e.number: title(e.operation) for e in _entries(job)}
    rows = [
        [key, titles.get(c.get("entry") or -1, ""), f"{c['points']:,}", f"{len(c['scans'])}"]
        + [f"{c['points'] / c['of']:.2%}" if c.get("of") else ""]
        for key, c in job.facts("cut").items()
    ]
    out = [report.Rows(["Cut", "By", "Points", "Scans", "Share"], rows, {2, 3, 4})] if rows else []
    shelves = [[v["name"], f"{v['points']:,}", _switched(v)] for v in job.facts("shelf").values()]
    if shelves:
        out.append(report.Rows(["Shelf", "Points", ""], shelves, {1}))
    lost = [
        [str(s.id), s.name, f"{s.record.get('dropped', 0):,}", s.record.get("losses") or "none"]
        for s in job.scans()
        if s.record.get("dropped") or s.record.get("lost")
    ]
    if lost:
        head = ["Scan", "Name", "Returns without a point", "Lost on import"]
        out.append(report.Rows(head, lost, {2}))
    return out


def _switched(shelf: dict) -> str:
    apart = "kept apart" if shelf["apart"] else "among the others"
    return f"{apart}, {'delivered' if shelf['delivered'] else 'not delivered'}"


def _classes(job: Job) -> list:
    rows = [
        [str(r["code"]), r["name"], f"{r['points']:,}", f"{r['share']:.1%}"]
        for r in class_names.shares(class_counts(job), class_namer(job))
    ]
    return [report.Rows(["Code", "Class", "Points kept", "Share"], rows, {2, 3})]


def _drawings(job: Job) -> list:
    n = Notation.of(job)
    length = lambda v: "" if v is None else n.number(v / n.metres)
    rows = [
        [d["name"], str(len(d["lines"])), length(sum(x["length"] for x in d["lines"]))]
        + [length(d.get(k)) for k in ("height", "thickness")]
        for d in job.facts("drawing").values()
    ]
    head = ["Drawing", "Lines", *(f"{word} {n.short}" for word in ("Length", "Height", "Slab"))]
    return [report.Rows(head, rows, {1, 2, 3, 4})] if rows else []


def _delivered(job: Job) -> list:
    rows = [
        [called(path, d), d.get("format", ""), f"{d['bytes']:,}"]
        + [
            "yes" if d.get("read_back") else "",
            "listed inside" if d.get("folder") else d.get("sha256", ""),
            _day(d["made"]),
        ]
        for path, d in job.facts("deliverable").items()
    ]
    head = ["File", "Form", "Bytes", "Read back", "SHA-256", "Made"]
    return [report.Rows(head, rows, {2})] if rows else []


def _day(seconds: float) -> str:
    return time.strftime("%d.%m. %H:%M", time.localtime(seconds))


def _entries(job: Job) -> list[Entry]:
    """The field book without this very report."""
    mine = job.entry.id if job.entry else 0
    return list(Entry.select().where((Entry.job == job.row) & (Entry.id != mine)).order_by(Entry.number))


def _book(job: Job) -> "report.Rows":
    rows = [
        [
            str(e.number),
            title(e.operation),
            (e.figures or {}).get("says", "") or e.message,
            e.state,
            f"{e.seconds:.1f}" if e.seconds is not None else "",
            e.who,
            _day(e.created),
        ]
        for e in _entries(job)
    ]
    return report.Rows(["No", "Operation", "Figures", "State", "s", "By", "When"], rows, {0, 4})
