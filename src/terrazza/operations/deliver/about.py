"""What papers and folders say about a job: who, when, with what, how good, in which frame."""

import hashlib
import json
import time

import numpy as np

from terrazza import __version__
from terrazza.operations.register.statement import statement
from terrazza.operations.spine.job import Job, Scan, covariance_of

CERTIFIED = ("scan", "column", "pose", "frame", "crs", "cut")


def checksum(job: Job) -> str:
    """A checksum of what the job stands for: its scans with the checksums of their files, poses, frame,
    system, cuts.
    """
    told = {kind: dict(sorted(job.facts(kind).items())) for kind in CERTIFIED}
    return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()


def captured(job: Job) -> str:
    """The days on which scans were taken."""
    days = sorted({str(s.record.get("captured") or "")[:10] for s in job.scans()} - {""})
    return f"{days[0]} to {days[-1]}" if len(days) > 1 else "".join(days)


def instruments(job: Job) -> str:
    return ", ".join(sorted({s.record.get("instrument") or "" for s in job.scans()} - {""}))


def made() -> str:
    """When and with what a paper was made."""
    return f"{time.strftime('%d %B %Y, %H:%M')}, Terrazza {__version__}"


def sigma_mm(scan: Scan) -> float | None:
    """σ of a scan's place along its weakest direction; None where no adjustment has told it."""
    covariance = covariance_of(scan.pose_record)
    if covariance is None:
        return None
    return float(np.sqrt(max(np.linalg.eigvalsh(covariance[3:, 3:])[-1], 0.0)) * 1000)


def rows(job: Job, client: str = "", by: str = "") -> list[tuple[str, str]]:
    """(what, sentence) of everything that is known."""
    scans, frame, crs = job.scans(), job.get("frame"), job.get("crs")
    placed = sum(s.pose is not None for s in scans)
    told = [
        ("Made for", client),
        ("By", by),
        ("Captured", captured(job)),
        ("Instruments", instruments(job)),
        ("Scans", f"{placed} of {len(scans)} placed, {sum(s.points for s in scans):,} points"),
        *statement(job),
        ("Control", (frame or {}).get("says") or ("in the grid" if frame else "none: a frame of its own")),
        ("Coordinate system", crs["name"] if crs else "not said"),
        ("Checksum of the job", checksum(job)),
    ]
    return [(what, sentence) for what, sentence in told if sentence]


def doubts(job: Job) -> list[str]:
    """Scan by scan what is doubted of its place."""
    told = ((s, job.get("standing", s.id)) for s in job.scans())
    return [f"{s.name}: {standing['doubt']}" for s, standing in told if standing and standing["doubt"]]
