"""What a run has brought, as plain values: steps, scans with poses and sigmas, deliverables."""

import numpy as np

from terrazza.db.models import Job as Row
from terrazza.operations.spine import recipe
from terrazza.operations.spine.job import Job, covariance_of


def _standing(job: Job, scan) -> dict:
    """Island, doubt and alternatives of a scan, and the pose of one that stands in an island of its own."""
    standing = job.get("standing", scan.id) or {
        "island": 1 if scan.pose is not None else None,
        "matrix": None,
        "doubt": None if scan.pose is not None else "It was not registered.",
        "alternatives": [],
    }
    told = np.eye(4) if standing["island"] not in {1, None} else job.frame
    out = {
        "island": standing["island"],
        "doubt": standing["doubt"],
        "alternatives": [(told @ np.array(m)).ravel().tolist() for m in standing["alternatives"]],
    }
    return out | (
        {"pose": [float(v) for v in np.ravel(standing["matrix"])], "placed": True}
        if standing["island"] not in {1, None} and standing["matrix"]
        else {}
    )


def summary(workspace: str, row: Row, first: int = 1) -> dict:
    """Steps since entry ``first``, scans with poses and sigmas, and deliverables, as the figures file gives
    them.
    """
    job = Job(workspace, row)
    entries = [e for e in recipe.entries_of(row) if e.number >= first]
    steps = [
        {
            "operation": e.operation,
            "params": e.params,
            "state": e.state,
            "figures": e.figures or {},
            "seconds": e.seconds,
            "message": e.message,
            "hint": e.hint,
        }
        for e in entries
    ]
    grid = job.get("frame", "", {}).get("covariances") or {}
    frame_turn = job.frame[:3, :3]
    scans = []
    for s in job.scans():
        record = {
            "name": s.name,
            "points": s.points,
            "kept": sum(int(job.cloud(s.id).kept(*b).sum()) for b in job.cloud(s.id).blocks()),
            "placed": s.pose is not None,
            "pose": None,
            **_standing(job, s),
            "sigma_mm": None,
            "sigma_mdeg": None,
        }
        if s.pose is not None:
            record["pose"] = [float(v) for v in job.grid_pose(s).ravel()]
            own = covariance_of(s.pose_record)
            turn = np.kron(np.eye(2), frame_turn)
            covariance = (
                np.array(grid[str(s.id)])
                if str(s.id) in grid
                else turn @ own @ turn.T
                if own is not None
                else None
            )
            if covariance is not None:
                sigma = np.sqrt(np.maximum(np.diag(covariance), 0))
                record |= {
                    "sigma_mm": (sigma[3:] * 1000).tolist(),
                    "sigma_mdeg": (np.degrees(sigma[:3]) * 1000).tolist(),
                }
        scans.append(record)
    return {
        "steps": steps,
        "scans": scans,
        "deliverables": [d["path"] for d in job.facts("deliverable").values()],
    }
