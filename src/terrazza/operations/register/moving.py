"""Scans that move as one: what hangs together, its surfaces, its new places, and what is doubted of them."""

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.later import later
from terrazza.operations.pieces.surfaces import pictures, surfaces
from terrazza.operations.register.holding import need_free, put_pose
from terrazza.operations.register.recording import tie_record
from terrazza.operations.spine.job import Job, Scan, plain
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import like_points

FAR = 0.4  # m: touched points farther apart than this after the fit are not like ones


def island_of(job: Job, island: int) -> dict[int, np.ndarray]:
    """Numbers and poses (4×4, in the island's frame) of the scans of an island."""
    if island == 1:  # that of the job: where its scans stand now
        return {s.id: s.pose for s in job.scans(placed=True)}
    return {
        int(k): np.array(v["matrix"])
        for k, v in job.facts("standing").items()
        if v["island"] == island and v["matrix"] and str(k) in job.facts("scan")
    }


def companions(job: Job, scan: Scan) -> tuple[list[int], list[np.ndarray]]:
    """The scans that move with one, itself among them, and their poses in its frame: those of an island of
    its own that is not joined to the job.
    """
    standing = job.get("standing", scan.id)
    island = standing["island"] if standing else None
    if scan.pose is not None or island in {None, 1}:
        return [scan.id], [np.eye(4)]
    poses = island_of(job, island)
    home = np.linalg.inv(poses[scan.id])
    return list(poses), [np.eye(4) if k == scan.id else home @ p for k, p in poses.items()]


def side(job: Job, numbers: list[int], poses: list[np.ndarray], progress: Progress) -> "like_points.Side":
    """Scans with their surfaces and pictures, by their poses in a frame that they share."""
    scans = [job.scan(k) for k in numbers]
    faces = surfaces(job, scans, Part(progress, 0.0, 0.7))
    return like_points.Side.of(poses, faces, pictures(job, scans, Part(progress, 0.7, 1.0)))


def move(
    job: Job,
    scans: list[Scan],
    poses: list[np.ndarray],
    how: str,
    doubt: list[str] | tuple = (),
    rivals: list[list[np.ndarray]] | None = None,
) -> None:
    """Put the scans at ``poses`` (4×4, to the job) in island 1, with what is doubted and what else they could
    be; StateError where one is held.
    """
    need_free(job, scans)
    for k, (scan, pose) in enumerate(zip(scans, poses)):
        matrix = put_pose(job, scan, pose, how)
        others = [plain(r) for r in rivals[k]] if rivals else []
        job.put(
            "standing",
            scan.id,
            {
                "island": 1,
                "matrix": matrix,
                "doubt": " ".join(doubt) or None,
                "alternatives": [matrix, *others] if doubt else [],
            },
            scan=scan.id,
        )


def told(job: Job, found: "like_points.Found") -> list[str]:
    """What is not certain of a placement, in sentences."""
    n, out = Notation.of(job), []
    if found.fit is None:
        return ["The surfaces have too little in common there for a fit; it stands as the points alone say."]
    if found.failed:
        out.append(f"The fit {found.failed}.")
    if found.residuals.max(initial=0.0) > FAR:
        worst = int(np.argmax(found.residuals))
        out.append(
            f"Pair {worst + 1} lies {n.length(found.residuals[worst])} apart after the fit: it may not be "
            "the same point."
        )
    if found.rivals:
        out.append(f"{len(found.rivals) + 1} places explain the surfaces about as well.")
    if found.fit.free:
        out.append("Nothing that both scans see holds it along one direction; there it stands as touched.")
    for scattered in found.fit.scattered[:1]:
        out.append(
            "What holds it along one direction, such as round corners, lies scattered over "
            f"{n.length(float(np.linalg.norm(scattered)))}: it may be as far off there."
        )
    return out


def put_tie(job: Job, a: Scan, b: Scan, tie) -> None:
    """Keep the fit of scan ``b`` to ``a`` (``linking.Tie``) as a fact."""
    low, high = sorted((a, b), key=lambda s: s.id)
    record = tie_record(a, b, tie, a.pose) | {"patches": 0, "patch_rms_mm": None}
    job.put("tie", f"{low.id}-{high.id}", record)
