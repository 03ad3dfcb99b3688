"""Deliver the certificate: what was delivered and how good it is, on one page to sign."""

import hashlib
import json
import os
import time

from terrazza import __version__
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.deliver.papers import written
from terrazza.operations.register.statement import statement
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

report = later("terrazza.formats.report")

FILES = 12  # deliverables that one page can list
DOUBTS = 6
CERTIFIED = ("scan", "column", "pose", "frame", "crs", "cut")


class CertificateParams(Params):
    path: str = field(
        "File",
        "certificate",
        role="write",
        help="Without an ending: certificate.html and certificate.pdf.",
    )
    firm: str = field("Firm", "", max_length=120)
    surveyor: str = field("Surveyor", "", max_length=120)
    client: str = field("Made for", "", max_length=120)


@operation
class Certificate(Operation):
    """Writes one page that can be signed: scans, how good their registration is, control, coordinate system,
    what is doubted, what was delivered with its checksums.
    """

    name, title, step = "deliver.certificate", "Certificate", "Deliver"
    reads = frozenset(
        "scan column pose cut tie network looked standing left_out frame crs control deliverable".split()
    )
    writes = frozenset({"deliverable"})
    Params = CertificateParams

    def run(self, job: Job, params: CertificateParams, progress: Progress) -> Figures:
        if not job.scans(placed=True):
            raise StateError("No scan is placed yet, so there is nothing to certify.", "Register first.")
        found = written(job, params.path, f"{job.row.name}: certificate", _blocks(job, params))
        return found | {"job_sha256": _sum(job)}


def _sum(job: Job) -> str:
    """A checksum of what the job stands for: its scans with the checksums of their files, poses, frame,
    system.
    """
    told = {kind: dict(sorted(job.facts(kind).items())) for kind in CERTIFIED}
    return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()


def _blocks(job: Job, params: CertificateParams) -> list:
    scans = job.scans()
    placed = [s for s in scans if s.pose is not None]
    days = sorted({str(s.record.get("captured") or "")[:10] for s in scans} - {""})
    instruments = sorted({s.record.get("instrument") or "" for s in scans} - {""})
    frame, crs = job.get("frame"), job.get("crs")
    rows = [
        ["Made for", params.client],
        ["By", ", ".join(v for v in (params.surveyor, params.firm) if v)],
        ["Captured", f"{days[0]} to {days[-1]}" if len(days) > 1 else "".join(days)],
        ["Instruments", ", ".join(instruments)],
        ["Scans", f"{len(placed)} of {len(scans)} placed, {sum(s.points for s in scans):,} points"],
        *[[what, sentence] for what, sentence in statement(job)],
        ["Control", (frame or {}).get("says") or ("in the grid" if frame else "none: a frame of its own")],
        ["Coordinate system", crs["name"] if crs else "not said"],
        ["Checksum of the job", _sum(job)],
    ]
    blocks = [
        report.Text(f"{time.strftime('%d %B %Y')} · Terrazza {__version__}"),
        report.Rows(["", ""], [[a, b] for a, b in rows if b]),
    ]
    doubts = [
        f"{s.name}: {standing['doubt']}"
        for s in scans
        if (standing := job.get("standing", s.id)) and standing["doubt"]
    ]
    more = [f"and {len(doubts) - DOUBTS} more"] if len(doubts) > DOUBTS else []
    blocks += [report.Heading("In doubt")]
    blocks += [report.Text(t) for t in (doubts[:DOUBTS] + more or ["Nothing."])]
    files = sorted(job.facts("deliverable").values(), key=lambda d: -d["made"])
    if files:
        listed = [
            [os.path.basename(d["path"]), f"{d['bytes']:,}", d.get("sha256", "")[:16]] for d in files[:FILES]
        ]
        columns = ["File", "bytes", "SHA-256 begins"]
        blocks += [report.Heading("Delivered"), report.Rows(columns, listed, numeric={1})]
    blocks.append(report.Text("Place, date, signature: ________________________________________"))
    return blocks
