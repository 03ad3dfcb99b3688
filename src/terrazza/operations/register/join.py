"""Join an island to another."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.register.like_points import Pair
from terrazza.operations.register.moving import FAR, island_of, move, side, told
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, plain
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import like_points

RIGID = 1e-4  # how far the nine numbers of a turn may be off one


class JoinParams(Params):
    island: int = field("Island to move", help="Its number.", ge=1)
    to: int = field("Island that stays", 1, help="1 is the one that carries the job.", ge=1)
    pose: list[float] = field(
        "Pose",
        list,
        help="16 numbers, row by row: from the frame of the island that moves to that of the one that stays.",
        max_length=16,
    )
    pairs: list[Pair] = field(
        "Like points",
        list,
        unit="m",
        help="Each pair: x, y, z in the island that moves and in the one that stays, each in its own frame.",
        max_length=100,
    )


@operation
class Join(Operation):
    """Joins an island of scans to another as one body, by a pose or by like points, and fits it from
    there.
    """

    name, title, step = "register.join", "Join an island", "Register"
    then = "register.adjust"
    reads = frozenset({"scan", "standing"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"pose", "standing"})
    bound_to_place = True
    Params = JoinParams

    def run(self, job: Job, params: JoinParams, progress: Progress) -> Figures:
        moving, staying = self._islands(job, params)
        pairs, starts = _starts(params)
        inverted = params.island == 1  # the job's own island stays, whatever was asked
        if inverted:
            moving, staying, starts = staying, moving, [rigid.inverse(s) for s in starts]
            pairs = None if pairs is None else pairs[:, ::-1]
        found = like_points.place(
            side(job, list(staying), list(staying.values()), Part(progress, 0, 0.4)),
            side(job, list(moving), list(moving.values()), Part(progress, 0.4, 0.8)),
            starts,
            pairs,
        )
        if pairs is None and found.fit is not None and rigid.difference(found.pose, starts[0])[0] > FAR:
            found = like_points.Found(starts[0], None, found.residuals)
        doubt = told(job, found)
        to = 1 if inverted else params.to
        scans, poses = [job.scan(k) for k in moving], [found.pose @ p for p in moving.values()]
        if to == 1:
            move(job, scans, poses, "joined", doubt, [[r @ p for r in found.rivals] for p in moving.values()])
        else:
            for scan, pose in zip(scans, poses):
                standing = job.get("standing", scan.id)
                changed = {"island": to, "matrix": plain(pose), "doubt": " ".join(doubt) or standing["doubt"]}
                job.put("standing", scan.id, standing | changed, scan=scan.id)
        n = Notation.of(job)
        fitted = f"RMS {n.residual(found.fit.rms * 1000)}" if found.fit is not None else "not fitted"
        return {
            "says": f"{len(scans)} scans joined to island {to}: {fitted}; the adjustment is due",
            "moved": list(moving),
            "residuals_mm": (found.residuals * 1000).tolist(),
            "rms_mm": found.fit.rms * 1000 if found.fit is not None else None,
            "overlap": found.fit.overlap if found.fit is not None else None,
            "doubt": doubt,
        }

    @staticmethod
    def _islands(job: Job, params: JoinParams) -> tuple[dict, dict]:
        """Poses by scan of the island that moves and of the one that stays."""
        if params.island == params.to:
            raise ParamsError(
                "register.join: an island cannot be joined to itself.", "Choose two different ones."
            )
        there = sorted({v["island"] for v in job.facts("standing").values() if v["island"]})
        for number in (params.island, params.to):
            if number not in there:
                raise ParamsError(
                    f"This job has no island {number}.",
                    f"Its islands are {', '.join(map(str, there))}."
                    if there
                    else "Register automatically first.",
                )
        moving, staying = island_of(job, params.island), island_of(job, params.to)
        for k in set(moving) & set(staying):  # set by hand since it was told apart
            del staying[k]
        if not moving or not staying:
            raise ParamsError(
                "All scans of one of the islands stand in the other already.", "Adjust the whole network."
            )
        return moving, staying


def _starts(params: JoinParams) -> tuple[np.ndarray | None, list[np.ndarray]]:
    """Touched pairs (n, 2, 3), if any, and the poses that fits begin at."""
    if bool(params.pose) == bool(params.pairs):
        raise ParamsError("register.join needs either a pose or like points.", "Give one of the two.")
    if params.pairs:
        pairs = np.array(params.pairs, float)
        return pairs, like_points.rough(pairs[:, 0], pairs[:, 1], None)
    if len(params.pose) != 16:
        raise ParamsError(f"A pose has 16 numbers, got {len(params.pose)}.", "Give them row by row.")
    pose = np.array(params.pose).reshape(4, 4)
    turn = pose[:3, :3]
    if (
        np.abs(turn @ turn.T - np.eye(3)).max() > RIGID
        or np.linalg.det(turn) < 0
        or (pose[3] != [0, 0, 0, 1]).any()
    ):
        raise ParamsError(
            "The pose is no turn and shift: its first nine numbers are no rotation.",
            "Give 16 numbers, row by row, the last row 0 0 0 1.",
        )
    return None, [rigid.nearest(pose)]
