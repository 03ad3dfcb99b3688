"""An adjustment as facts and figures: poses with covariances, ties, the network."""

import numpy as np

from terrazza.later import later
from terrazza.operations.register.judging import verdict
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job, Scan, plain
from terrazza.operations.spine.notation import Notation

with later():
    from scipy import linalg

    from terrazza.core.register import cloud_fit

WEAK = 0.006
BY_SLOPES = 0.8  # part of a shift, squared, that slopes have to hold for it not to slide


def record_of(job: Job, scans: list[Scan], poses, ties, results, loose, how) -> Figures:
    """Keep an adjustment: poses (4×4 or None a scan), ties, the network; its figures.  ``results`` has
    (members, adjusted or None, those that stay) an island, ``loose`` the scans that nothing holds.
    """
    by_scan = _standing(poses, results)
    rows = [_put_pose(job, scan, poses[k], by_scan.get(k), how) for k, scan in enumerate(scans)]
    tie_rows = _put_ties(job, scans, poses, by_scan, ties, results)
    good = [r for r in tie_rows if not r["failed"]]
    rms = (
        float(np.sqrt(np.average([r["rms_mm"] ** 2 for r in good], weights=[r["used"] for r in good])))
        if good
        else None
    )
    summary = _put_network(job, scans, results, rms)
    unplaced = [r["name"] for r in rows if not r["placed"]]
    placed = len(rows) - len(unplaced)
    worst = max((max(r["sigma_mm"]) for r in rows if r.get("sigma_mm")), default=None)
    residual = Notation.of(job).residual
    says = (
        f"{placed} of {len(rows)} scans placed"
        + (f", cloud RMS {residual(rms)} over {len(good)} ties" if rms is not None else "")
        + (f", worst σ {residual(worst, 2)}" if worst is not None else "")
    )
    return {
        "says": says,
        "placed": placed,
        "scans": len(rows),
        "unplaced": unplaced,
        "rms_mm": rms,
        "worst_sigma_mm": worst,
        "ties": tie_rows,
        "rows": rows,
        "islands": [[scans[k].id for k in m] for m, _, _ in results],
        "loose": [scans[k].id for k in loose],
        "verdict": verdict(rms),
        **{k: summary[k] for k in ("patch_rms_mm", "variance_factor", "redundancy")},
    }


def _standing(poses, results) -> dict:
    """By scan: pose, 6×6 covariance or None, range bias (m), whether it stays."""
    out = {}
    for members, adjusted, stay in results:
        for i, k in enumerate(members):
            if adjusted:
                out[k] = adjusted.poses[i], adjusted.covariance[i], float(adjusted.bias[i]), k in stay
            else:
                out[k] = poses[k], None, 0.0, True
    return out


def _put_pose(job: Job, scan: Scan, pose, standing, how: str) -> dict:
    """Keep one scan's pose; what is told of it."""
    if pose is None:
        if scan.pose is not None:
            job.put("pose", scan.id, None, scan=scan.id)
        return {"scan": scan.id, "name": scan.name, "placed": False}
    matrix, covariance, bias, stays = standing or (pose, None, 0.0, False)
    record = {
        "matrix": plain(matrix),
        "how": how,
        "covariance": covariance.tolist() if covariance is not None else None,
        "bias": bias,
        "fixed": stays,
    }
    job.put("pose", scan.id, record, scan=scan.id)
    sigma = np.sqrt(np.diag(covariance)) if covariance is not None else None
    return {
        "scan": scan.id,
        "name": scan.name,
        "placed": True,
        "fixed": stays,
        "sigma_mm": (sigma[3:] * 1000).tolist() if sigma is not None else None,
        "sigma_mdeg": (np.degrees(sigma[:3]) * 1000).tolist() if sigma is not None else None,
        "bias_mm": bias * 1000,
    }


def _put_network(job: Job, scans: list[Scan], results, rms: float | None) -> dict:
    """Keep the network with its joint covariance; its summary."""
    adjusted = [(members, a) for members, a, _ in results if a]
    first = adjusted[0][1] if adjusted else None
    summary = {
        "scans": [scans[k].id for members, _ in adjusted for k in members],
        "rms_mm": rms,
        "patch_rms_mm": first.rms * 1000 if first else None,
        "variance_factor": first.variance_factor if first else None,
        "redundancy": sum(a.redundancy for _, a in adjusted),
    }
    job.put("network", "", summary)
    if adjusted:
        job.write_array("joint", linalg.block_diag(*(a.joint for _, a in adjusted)))
    return summary


def _put_ties(job, scans, poses, by_scan, ties, results):
    patches = {}
    for members, adjusted, _ in results:
        if adjusted:
            for i, a in enumerate(members):
                for j, b in enumerate(members):
                    patches[a, b] = int(adjusted.shared[i, j]), float(adjusted.pair_rms[i, j] * 1000)
    job.clear("tie")
    rows = []
    for tie in ties:
        a, b = scans[tie.a], scans[tie.b]
        row = tie_record(a, b, tie, by_scan[tie.a][0] if tie.a in by_scan else poses[tie.a])
        row["patches"], row["patch_rms_mm"] = patches.get((tie.a, tie.b), (0, None))
        job.put("tie", f"{a.id}-{b.id}", row)
        rows.append(row)
    return rows


def weakest(tie, pose_a: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Of a tie whose first scan stands at ``pose_a``: its information (6, 6) in the job frame, the direction
    (3,) that it holds least, and the share that sees it.
    """
    turn = np.kron(np.eye(2), pose_a[:3, :3])
    information = turn @ tie.fit.information @ turn.T
    return information, *cloud_fit.weak_direction(information)


def tie_record(a: Scan, b: Scan, tie, pose_a: np.ndarray) -> dict:
    """A tie as a fact: RMS, overlap, used points, and which directions (job frame) it holds.

    ``hold`` gives for x, y, z the share of the used point pairs' normals that see the direction.
    """
    fit = tie.fit
    information, direction, share = weakest(tie, pose_a)
    held = np.diag(information)[3:] / max(np.trace(information[3:, 3:]), 1e-12)
    return {
        "a": a.id,
        "b": b.id,
        "rms_mm": fit.rms * 1000,
        "median_mm": fit.median * 1000,
        "overlap": fit.overlap,
        "used": fit.used,
        "agree": tie.agree,
        "against": tie.against,
        "unmatched": tie.unmatched,
        "hold": {k: float(v) for k, v in zip("xyz", held)},
        "weakest": share,
        "weak_direction": direction.tolist(),
        "words": hold_words(direction, share, slides(tie, pose_a)),
        "failed": tie.failed,
    }


def slides(tie, pose_a: np.ndarray) -> bool:
    """Whether a tie, whose first scan stands at ``pose_a``, may slide along what it holds least:
    hardly anything faces that, and slopes do not hold it.
    """
    _, direction, share = weakest(tie, pose_a)
    by_slopes = sum(float(direction @ pose_a[:3, :3] @ shift) ** 2 for shift in tie.fit.sloping)
    return share < WEAK and by_slopes < BY_SLOPES


def hold_words(direction: np.ndarray, share: float, sliding: bool) -> str:
    """How firmly a tie holds, and where it would slide, in words."""
    if share >= cloud_fit.FIRM:
        return "firm"
    return f"{'slides' if sliding else 'weak'} {way_words(direction)}"


def way_words(direction: np.ndarray) -> str:
    """Along which way (3,) of the job frame, in words."""
    if abs(direction[2]) > 0.8:
        return "in height"
    return f"towards {np.degrees(np.arctan2(direction[0], direction[1])) % 180:.0f}°"
