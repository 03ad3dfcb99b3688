"""New positions of points in the order that they have, so that cuts, classes and colours stay with them."""

from collections.abc import Callable
from typing import Any

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.pieces import portions
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

STILL = 1e-6  # m: what moves by less keeps its stored numbers


def rewrite(
    job: Job, scans: list[Scan], moved: Callable, args: dict[int, Any], progress: Progress, common=None
) -> dict[int, float]:
    """Write positions anew; ``moved(cloud, start, stop, args of the scan, common)`` gives those of a stretch
    (n, 3), m, in the scan's frame.  Bounds and drift of the scans follow; returns how far points moved at
    most (m), by scan.
    """
    told = portions.rewrite(job, scans, "position", _rewritten, args, progress, "Correcting", (moved, common))
    out = {}
    for scan in scans:
        lows, highs, far = (np.array(v) for v in zip(*told[scan.id]))
        record = dict(job.get("scan", scan.id))
        record["bounds"] = [lows.min(0).tolist(), highs.max(0).tolist()]
        record["drift"] = float(record.get("drift", 0.0) + far.max())
        job.put("scan", scan.id, record, scan=scan.id)
        out[scan.id] = float(far.max())
    return out


def _rewritten(cloud: Cloud, start: int, stop: int, args, common):
    moved, rest = common
    old, before = np.array(cloud.read("position", start, stop)), cloud.xyz(start, stop)
    own = moved(cloud, start, stop, args, rest)
    new = np.rint((own - cloud.offset) / cloud.scale)
    if np.abs(new).max(initial=0) >= 2**31:
        raise StateError("A corrected point lies out of the reach of its scan.", "Import it anew.")
    still = np.linalg.norm(own - before, axis=1) < STILL
    new[still] = old[still]
    now = new * cloud.scale + cloud.offset
    far = float(np.linalg.norm(now - before, axis=1).max(initial=0))
    return new.astype(old.dtype), (now.min(0), now.max(0), far)
