"""The registration report: a page of summary to sign, contents, then chapter by chapter what was done, how
good it is, what is doubted and what was not done.
"""

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.deliver import about
from terrazza.operations.deliver.chapters import chapters, undone
from terrazza.operations.deliver.papers import written
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.formats import report

DOUBTS = 6  # that the first page names
NAMES = {
    "rms": "RMS of the ties",
    "place": "σ of a place",
    "control": "RMS of the control",
    "check": "worst check point",
}


def _tolerance(title: str) -> float:
    return field(title, 0.0, unit="mm", blank="none", ge=0, le=1000)


class ReportParams(Params):
    path: str = field(
        "File",
        "report",
        role="write",
        help="Without an ending: report.html and report.pdf. Relative paths land in the job's deliverables.",
    )
    surveyor: str = field("Surveyor", "", max_length=120, help="Named on the first page.")
    firm: str = field("Firm", "", max_length=120)
    client: str = field("Made for", "", max_length=120)
    rms: float = _tolerance("Tolerance: RMS of the ties")
    place: float = _tolerance("Tolerance: σ of a place")
    control: float = _tolerance("Tolerance: RMS of the control")
    check: float = _tolerance("Tolerance: worst check point")


@operation
class Report(Operation):
    """Writes the registration report as HTML and PDF: summary to sign, plan, ties, targets, residuals,
    control, doubts, cuts, classes, what was not done, field book.
    """

    name, title, step = "deliver.report", "Report", "Deliver"
    reads = frozenset(
        """scan pose tie looked network standing left_out frame crs control target cut column drawing walk
        shelf deliverable""".split()
    )
    writes = frozenset({"deliverable"})
    Params = ReportParams

    def run(self, job: Job, params: ReportParams, progress: Progress) -> Figures:
        if not job.scans():
            raise StateError("The job has no scans to report on.", "Import some first.")
        verdicts = judged(job, params)
        blocks = assemble(job, params, verdicts, progress)
        figures = written(job, params.path, f"{job.row.name}: registration report", blocks)
        failed = [f"{v[0]} is {v[1]}, beyond {v[2]}." for v in verdicts if v[3] != "within"]
        return figures | {"verdicts": [v[3] for v in verdicts], "doubt": failed}


def judged(job: Job, params: ReportParams) -> list[tuple[str, str, str, str]]:
    """(what, value, tolerance, verdict) of all that a tolerance was given for."""
    n, out = Notation.of(job), []
    for key, value in measured(job).items():
        limit = getattr(params, key)
        if limit:
            told = "not known" if value is None else n.residual(value, 2)
            verdict = "not known" if value is None else "within" if value <= limit else "beyond"
            out.append((NAMES[key], told, n.residual(limit, 2), verdict))
    return out


def measured(job: Job) -> dict[str, float | None]:
    """What tolerances are held against, mm: RMS of the ties, largest σ of a place along its weakest
    direction, RMS of the control, largest distance of a check point.
    """
    network, frame = job.get("network") or {}, job.get("frame") or {}
    sigmas = [about.sigma_mm(s) for s in job.scans(placed=True)]
    known = [s for s in sigmas if s is not None]
    rows = frame.get("rows") or [] if frame.get("how") == "control" else []
    checks = [r["total_mm"] for r in rows if r["role"] == "check" and r.get("total_mm") is not None]
    return {
        "rms": network.get("rms_mm"),
        "place": max(known, default=None),
        "control": frame.get("rms_mm") if rows else None,
        "check": max(checks, default=None),
    }


def assemble(job: Job, params: ReportParams, verdicts: list, progress: Progress) -> list:
    """The report's blocks, from facts and the field book alone."""
    n = Notation.of(job)
    by = ", ".join(v for v in (params.surveyor, params.firm) if v)
    units = f"lengths in {n.short} unless said otherwise"
    rows = [*about.rows(job, params.client, by), ("Made", f"{about.made()}; {units}")]
    blocks = [report.Heading("Summary"), report.Rows(["", ""], [list(r) for r in rows])]
    if verdicts:
        head = ["Tolerance", "Found", "Allowed", "Verdict"]
        blocks.append(report.Rows(head, [list(v) for v in verdicts], {1, 2}))
    doubts = about.doubts(job)
    blocks += [report.Text(f"In doubt: {d}") for d in doubts[:DOUBTS]]
    if len(doubts) > DOUBTS:
        blocks.append(report.Text(f"… and {len(doubts) - DOUBTS} more, in the chapter on doubts."))
    missing = undone(job)
    blocks.append(report.Text(f"Not done: {'; '.join(missing)}." if missing else "Nothing was left undone."))
    blocks += [report.Sign(["Place, date", f"Signature{f': {by}' if by else ''}"]), report.Break()]
    blocks += [report.Heading("Contents", 3), report.Contents(), report.Break()]
    for title, told in chapters(job, progress):
        blocks += [report.Heading(title), *told]
    return [*blocks, report.Sign(["Place, date", f"Signature{f': {by}' if by else ''}"])]
