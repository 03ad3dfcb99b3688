"""Scans that move as one, and scans that are held where they stand: alone or with a block around."""

import numpy as np

from terrazza.errors import NotFound, StateError
from terrazza.operations.spine.job import Job, Scan, plain


def blocks_of(scan: Scan) -> list[str]:
    """The blocks around a scan, the outermost first: “Day 1”, “Day 1/House”."""
    parts = [p for p in scan.record.get("block", "").split("/") if p]
    return ["/".join(parts[: k + 1]) for k in range(len(parts))]


def members(job: Job, block: str) -> list[Scan]:
    """The scans of a block, those of the blocks in it among them; NotFound where there are none."""
    inside = [s for s in job.scans() if block in blocks_of(s)]
    if not inside:
        known = sorted({b for s in job.scans() for b in blocks_of(s)})
        hint = f"Blocks are {', '.join(known)}." if known else "Give scans a block on the sheet Import."
        raise NotFound(f"There is no block “{block}”.", hint)
    return inside


def holder(job: Job, scan: Scan) -> str:
    """What holds a scan where it stands, in words; empty where it is free."""
    if job.get("held", scan.id):
        return f"scan {scan.id}"
    return next((f"block “{b}”" for b in blocks_of(scan) if job.get("held_block", b)), "")


def held(job: Job, scans: list[Scan]) -> set[int]:
    """Which of some scans (by place in the list) are held and stand somewhere."""
    return {k for k, s in enumerate(scans) if s.pose is not None and holder(job, s)}


def need_free(job: Job, scans: list[Scan]) -> None:
    """StateError where one of some placed scans is held."""
    for scan in scans:
        by = holder(job, scan) if scan.pose is not None else ""
        if by:
            own = by.startswith("scan")
            raise StateError(
                f"Scan {scan.id}, {scan.name}, is held where it stands" + ("." if own else f" by {by}."),
                f"Free {'it' if own else by} first (Hold or free).",
            )


def put_pose(job: Job, scan: Scan, pose: np.ndarray, how: str) -> list[list[float]]:
    """Keep where a gesture or a fit of one scan puts it: ``pose`` (4×4, scan to job, m), free to be adjusted
    and without a covariance. Returns the matrix as it is kept; StateError where the scan is held.
    """
    need_free(job, [scan])
    matrix = plain(pose)
    record = {"matrix": matrix, "how": how, "covariance": None, "bias": 0.0, "fixed": False}
    job.put("pose", scan.id, record, scan=scan.id)
    return matrix
