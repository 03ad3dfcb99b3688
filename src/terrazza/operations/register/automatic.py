"""Register automatically: all scans into one frame, or into islands."""

from typing import Literal

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.georeference.sightings import find_targets
from terrazza.operations.pieces.surfaces import prepared, shares_frame
from terrazza.operations.register import given
from terrazza.operations.register.holding import held
from terrazza.operations.register.looseness import sightings
from terrazza.operations.register.settling import decided, settle, settle_aside
from terrazza.operations.register.standing import put_standing
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.register import search

POSE_KINDS = frozenset({"pose", "tie", "network", "array", "standing"})
ROUGH = ("file", "sketch")
DECIDED = ("by hand", "chosen", "like points", "joined", "walk fitted")


class AutomaticParams(Params):
    poses: Literal["refine", "trust", "forget"] = field(
        "Poses that came with the files",
        "refine",
        help="refine: start from them; trust: keep them as they are; forget: place everything anew.",
    )
    scans: list[int] = scans_field()
    least_overlap: float = field(
        "Least overlap for a tie",
        0.05,
        help="Share of judged points that two scans must have in common.",
        ge=0.01,
        le=0.9,
    )
    bias_sigma_mm: float = field(
        "Range bias allowed",
        0.4,
        unit="mm",
        help="Standard deviation of a constant range error of each set-up; it is estimated along.",
        ge=0.01,
        le=20,
    )


@operation
class Automatic(Operation):
    """Plan match between scans, verified by free space; targets where that does not decide; cloud fit on all
    pairs that overlap; network adjustment of all together.
    """

    name, title, step = "register.automatic", "Register automatically", "Register"
    reads, writes = frozenset({"scan", "left_out", "tie_choice"}), POSE_KINDS | {"target"}
    looks = frozenset({"held", "held_block"})
    Params = AutomaticParams

    def run(self, job: Job, params: AutomaticParams, progress: Progress) -> Figures:
        scans = [s for s in job.need_scans(params.scans) if not job.get("left_out", s.id)]
        if not scans:
            raise StateError("Every scan is taken out of the adjustment.", "Take one back in.")
        with job.fleet.gather(prepared(job, scans, Part(progress, 0.0, 0.2))) as common:
            return self._placed(job, scans, params, common, Part(progress, 0.2, 1.0))

    @staticmethod
    def _placed(job: Job, scans: list[Scan], params: AutomaticParams, common, progress: Progress) -> Figures:
        faces, shapes, seen = common.value
        start = (
            {} if params.poses == "forget" else {k: s.pose for k, s in enumerate(scans) if s.pose is not None}
        )
        told, stuck = given.given_poses(scans), held(job, scans)
        start |= {k: scans[k].pose for k in stuck}
        fixed = _stay(scans, start, params.poses) | stuck
        off = {pair for pair, choice in decided(job, scans).items() if not choice["on"]}
        found = search.place(
            faces,
            shapes,
            seen,
            start,
            fixed,
            Part(progress, 0.0, 0.7),
            job.fleet,
            common,
            off,
            lambda: _targets(job, scans, Part(progress, 0.69, 0.7)),
        )
        poses = [p if i == 1 else None for p, i in zip(found.poses, found.island)]
        figures = settle(
            job,
            scans,
            faces,
            seen,
            poses,
            fixed if params.poses == "trust" or len(fixed) < len(scans) else set(),
            params.least_overlap,
            params.bias_sigma_mm / 1000,
            Part(progress, 0.7, 1.0),
            "automatic",
            set(start),
        )
        for k in fixed:  # it stays where it was put, tied or not
            figures["unsettled"].pop(scans[k].id, None)
        for island in range(2, max(found.island) + 1):
            apart = [p if i == island else None for p, i in zip(found.poses, found.island)]
            settled, unsettled, loose = settle_aside(
                job,
                scans,
                faces,
                seen,
                apart,
                params.least_overlap,
                params.bias_sigma_mm / 1000,
                Part(progress, 0.99, 1.0),
            )
            found.poses = [s if s is not None else p for s, p in zip(settled, found.poses)]
            figures |= {
                "unsettled": figures["unsettled"] | unsettled,
                "loose": figures["loose"] | loose,
            }
        figures["given_wrong"] = given.wrong(job, told)
        return figures | put_standing(job, scans, found, figures, fixed)


def _targets(job: Job, scans: list[Scan], progress: Progress) -> list:
    """Targets of the scans; where none are known yet they are looked for, except in large jobs, where that
    would take as long as all the rest.
    """
    if not job.facts("target") and len(scans) <= search.MANY:
        find_targets(job, scans, progress)
    return sightings(job, scans)


def _stay(scans: list[Scan], start: dict[int, np.ndarray], poses: str) -> set[int]:
    """Which scans stay where they are: all that are posed, on trust; what was set or chosen by hand; what
    shares a frame by its format; and of a finished job all but new scans.
    """
    if poses == "trust":
        return set(start)
    decided = {k for k in start if scans[k].pose_record.get("how") in DECIDED}
    shared = {k for k in start if shares_frame(scans[k]) and scans[k].pose_record.get("how") == "file"}
    done = {k for k in start if scans[k].pose_record.get("how") not in {*ROUGH, *DECIDED}}
    new = len(done | decided) < len(scans)
    return decided | shared | (done if new else set())
