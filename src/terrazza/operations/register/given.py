"""Poses that came with the files, held against where the scans stand: a wrong one is named."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.spine.notation import Notation

OFF, TURNED = (
    0.1,
    np.radians(1.0),
)  # m and rad: given poses farther off than this from where most say are wrong
ASKED = 20  # scans, at most about twice, by whose poses the frame of the files is tried
FEWEST = 2  # that have to agree with each other


def given_poses(scans: list[Scan]) -> dict[int, np.ndarray]:
    """Poses (4×4) as the files gave them, by the scan's number; of scans that nothing has moved since."""
    return {s.id: s.pose for s in scans if s.pose is not None and s.pose_record.get("how") == "file"}


def wrong(job: Job, given: dict[int, np.ndarray]) -> list[dict]:
    """Given poses that are wrong, where more than half of them agree with where the scans now stand: rows of
    scan, name, ``off_mm`` and ``turned_deg``.  Where most are off they were rough, and nothing is said.
    """
    stand = {s.id: s for s in job.scans(placed=True) if s.id in given}
    if len(stand) <= FEWEST:
        return []
    some = list(stand)[:: max(1, len(stand) // ASKED)]
    frames = {k: stand[k].pose @ rigid.inverse(given[k]) for k in some}  # of the files, as each says
    apart = {
        k: {j: rigid.difference(frame @ given[j], o.pose) for j, o in stand.items()}
        for k, frame in frames.items()
    }
    right = lambda k: [j for j, (off, turn) in apart[k].items() if off < OFF and turn < TURNED]
    best = max(apart, key=lambda k: len(right(k)))
    if len(right(best)) < FEWEST or 2 * len(right(best)) <= len(stand):
        return []
    rows = [(stand[j], *apart[best][j]) for j in stand if j not in right(best)]
    return [
        {"scan": s.id, "name": s.name, "off_mm": 1000 * off, "turned_deg": float(np.degrees(turn))}
        for s, off, turn in rows
    ]


def said(rows: list[dict], n: Notation) -> str:
    """Wrong given poses in a sentence; empty where there are none."""
    told = [
        f"that of scan {r['scan']}, {r['name']}, by {n.length(r['off_mm'] / 1000)}"
        + (f" and {r['turned_deg']:.1f}°" if r["turned_deg"] > np.degrees(TURNED) else "")
        for r in rows
    ]
    return f"Poses from the files were wrong and are put right: {'; '.join(told)}." if told else ""
