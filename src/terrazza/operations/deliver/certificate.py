"""Deliver the certificate: what was delivered and how good it is, on one page to sign."""

import time

from terrazza import __version__
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.deliver import about
from terrazza.operations.deliver.folders import called
from terrazza.operations.deliver.papers import written
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import report

FILES = 12  # deliverables that one page can list
DOUBTS = 6


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
        "scan column pose cut tie network looked standing left_out frame crs control walk deliverable".split()
    )
    writes = frozenset({"deliverable"})
    Params = CertificateParams

    def run(self, job: Job, params: CertificateParams, progress: Progress) -> Figures:
        if not job.scans(placed=True):
            raise StateError("No scan is placed yet, so there is nothing to certify.", "Register first.")
        found = written(job, params.path, f"{job.row.name}: certificate", _blocks(job, params))
        return found | {"job_sha256": about.checksum(job)}


def _blocks(job: Job, params: CertificateParams) -> list:
    by = ", ".join(v for v in (params.surveyor, params.firm) if v)
    blocks = [
        report.Text(f"{time.strftime('%d %B %Y')} · Terrazza {__version__}"),
        report.Rows(["", ""], [list(row) for row in about.rows(job, params.client, by)]),
    ]
    doubts = about.doubts(job)
    more = [f"and {len(doubts) - DOUBTS} more"] if len(doubts) > DOUBTS else []
    blocks += [report.Heading("In doubt")]
    blocks += [report.Text(t) for t in (doubts[:DOUBTS] + more or ["Nothing."])]
    files = sorted(job.facts("deliverable").values(), key=lambda d: -d["made"])
    if files:
        listed = [
            [called(d["path"], d), f"{d['bytes']:,}"]
            + ["listed inside" if d.get("folder") else d.get("sha256", "")[:16]]
            for d in files[:FILES]
        ]
        columns = ["File", "bytes", "SHA-256 begins"]
        blocks += [report.Heading("Delivered"), report.Rows(columns, listed, numeric={1})]
    blocks.append(report.Sign(["Place, date", "Signature"]))
    return blocks
