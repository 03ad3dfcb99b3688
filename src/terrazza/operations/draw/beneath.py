"""By how much the scans beneath a drawing were moved since it was begun."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

TOLD = 0.0005  # m from which on it is told
BESIDE = 0.5  # m beyond a scan's points that still lie on it
PLACES = 400  # of a drawing that are looked at


def moved(job: Job) -> dict[str, float]:
    """By drawing, how far (m) the scans beneath it lie from where they lay when it was begun, at its
    vertices; only where that can be told.
    """
    return job.once("moved beneath drawings", lambda: _moved(job), ("drawing", "pose", "scan"))


def words(job: Job, drawings: list[int] | None = None) -> list[str]:
    """Sentences about drawings (all, or some numbers) whose scans were moved since."""
    n, there = Notation.of(job), job.facts("drawing")
    return [
        f"“{there[k]['name']}”: scans beneath it were moved by up to {n.residual(1000 * far)} since it was "
        "drawn; draw it again."
        for k, far in moved(job).items()
        if not drawings or int(k) in drawings
    ]


def _moved(job: Job) -> dict[str, float]:
    out, scans = {}, {str(s.id): s for s in job.scans(placed=True)}
    for number, drawing in job.facts("drawing").items():
        begun = queries.begun(job.row.id, "drawing", number)
        then = queries.values_before(job.row.id, "pose", begun) if begun else {}
        lines = [np.array(line["vertices"], float) for line in drawing["lines"]]
        places = np.concatenate(lines) if lines else np.zeros((0, 3))
        places = places[:: len(places) // PLACES + 1]
        far = 0.0
        for key, before in then.items():
            scan = scans.get(key)
            if scan is None or not before or not before.get("matrix"):
                continue
            own = rigid.apply(rigid.inverse(np.array(before["matrix"])), places)
            low, high = (np.array(v) for v in scan.record["bounds"])
            on = ((own >= low - BESIDE) & (own <= high + BESIDE)).all(1)
            away = np.linalg.norm(rigid.apply(scan.pose, own[on]) - places[on], axis=1)
            far = max(far, float(away.max(initial=0.0)))
        if far > TOLD:
            out[number] = far
    return out
