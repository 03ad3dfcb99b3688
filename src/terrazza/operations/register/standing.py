"""What is said of where each scan stands: its island, why it is doubted, what else it could be."""

from terrazza.files import named_by
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job, Scan, plain

ALONE = "No other scan of its island is sure, and so nothing tells how it stands to them."


def put_standing(job: Job, scans: list[Scan], found, figures: Figures, fixed: set[int]) -> Figures:
    """Put for every scan its island, why its placement is doubted, and what else it could be; the doubts as
    sentences for the figures. Indices that are ``fixed`` stay where they were put.
    """
    doubts = _doubts(job, scans, found, figures)
    for island in set(found.island) - {0}:
        members = [k for k, i in enumerate(found.island) if i == island]
        sure = [k for k in members if not doubts[k]]
        if len(members) > 1 and len(sure) == 1 and sure[0] not in fixed:
            doubts[sure[0]] = ALONE
    said = [*figures.get("untied", [])]
    for k, scan in enumerate(scans):
        doubt, place = doubts[k], job.get("pose", scan.id)
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


def _doubts(job: Job, scans: list[Scan], found, figures: Figures) -> list[str]:
    """By scan why its placement is doubted; empty where it is not."""
    again, out = _scanned_again(job, scans), []
    for k, scan in enumerate(scans):
        doubt = found.doubt[k]
        if scan.id in again:
            doubt = (
                f"It holds the very same points as scan {again[scan.id]}: the same file twice. Remove "
                "one of them."
            )
        elif found.island[k] == 0:
            doubt = _aside(len(found.rivals[k]))
        elif not doubt and scan.id in figures["unsettled"]:
            doubt = figures["unsettled"][scan.id]
        elif not doubt:
            doubt = figures["loose"].get(scan.id, "")
        out.append(doubt)
    return out


def _aside(places: int) -> str:
    """Why a scan stands aside that may belong in so many places."""
    possible = {0: "", 1: " surely; one place is possible"}.get(
        places, f" surely; {places} places are possible"
    )
    return f"Nothing that the scans show ties it to another{possible}."


def _scanned_again(job: Job, scans: list[Scan]) -> dict[int, int]:
    """By scan an earlier one that holds the very same points, by the checksums of both."""
    first: dict[tuple, int] = {}
    return {
        s.id: other
        for s in scans
        if (
            other := first.setdefault(
                (s.points, *map(named_by, job.get("column", f"{s.id}/position") or [f".{s.id}."])), s.id
            )
        )
        != s.id
    }


def put_stood(job: Job, scans: list[Scan], figures: Figures) -> Figures:
    """Put what an adjustment by itself says of each scan; doubts between alternatives stay until one of them
    is chosen.
    """
    said = [*figures.get("untied", [])]
    for scan in scans:
        standing, place = job.get("standing", scan.id) or {"alternatives": []}, job.get("pose", scan.id)
        doubt = (
            figures["unsettled"].get(scan.id)
            or figures["loose"].get(scan.id, "")
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
