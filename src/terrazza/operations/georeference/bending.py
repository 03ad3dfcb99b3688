"""The second form of the adjustment, asked for on purpose: the network gives way to control instead of only
being carried to it.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.georeference.sightings import true_centre
from terrazza.operations.georeference.solving import SURVEY_SIGMA, solve_again
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, plain
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.georef import bend as core

FEWEST = 3
BENT = "bent to control"


class BendParams(Params):
    survey_mm: float = field(
        "σ of the control points",
        SURVEY_SIGMA * 1000,
        unit="mm",
        help="Standard deviation of their coordinates: the smaller, the more the scans give way.",
        ge=0.05,
        le=100,
    )


@operation
class Bend(Operation):
    """Adjusts the scans to control: each may move as far as its ties allow; check points stay out."""

    name, title, step = "georeference.bend", "Bend the network to control", "Georeference"
    reads, writes = (
        frozenset({"scan", "pose", "target", "network", "array"}),
        frozenset({"pose", "frame", "control", "array"}),
    )
    Params = BendParams

    def run(self, job: Job, params: BendParams, progress: Progress) -> Figures:
        frame = job.get("frame")
        if not frame or frame["how"] != "control":
            raise StateError(
                "The job is not fitted to control yet.",
                "Fit it to control first; bending starts from that fit.",
            )
        members, joint = job.adjusted(), job.array("joint")
        scans = {s.id: s for s in job.scans(placed=True)}
        if (
            joint is None
            or len(members) < 2
            or len(joint) != 6 * len(members)
            or any(m not in scans for m in members)
        ):
            raise StateError(
                "The scans have no adjustment that could give way.", "Adjust the whole network first."
            )
        if any(scans[m].pose_record.get("how") == BENT for m in members):
            raise StateError(
                "The scans are bent to control already; doing it again would count the control twice.",
                "Undo it, or adjust the whole network first.",
            )
        seen, control, names = self._seen(job, scans, members)
        if len(control) < FEWEST:
            raise StateError(
                f"{len(control)} control points are matched to targets of adjusted scans; bending needs "
                f"{FEWEST} at least.",
                "Match more, or adjust the other scans too.",
            )
        poses = [scans[m].pose for m in members]
        bent = core.bend(
            poses, joint, seen, rigid.apply(rigid.inverse(job.frame), control), params.survey_mm / 1000
        )
        for i, m in enumerate(members):
            block = bent.joint[6 * i : 6 * i + 6, 6 * i : 6 * i + 6]
            job.put(
                "pose",
                m,
                scans[m].pose_record
                | {"matrix": plain(bent.poses[i]), "how": BENT, "covariance": block.tolist()},
                scan=m,
            )
        job.write_array("joint", bent.joint)
        fitted = solve_again(job)
        return fitted | self._told(
            job, scans, members, names, bent, [m for m in scans if m not in members], fitted
        )

    @staticmethod
    def _seen(job: Job, scans, members):
        """Sightings of the control points by adjusted scans, the coordinates (p, 3) of these in the grid, and
        their names.
        """
        seen, control, names = [], [], []
        for name, point in job.facts("control").items():
            if point["check"]:
                continue
            here = [job.get("target", t) for t in point["targets"]]
            here = [t for t in here if t and not t["dropped"] and t["scan"] in members]
            if here:
                seen += [
                    core.Seen(
                        members.index(t["scan"]), true_centre(t, scans[t["scan"]]), t["sigma"], len(control)
                    )
                    for t in here
                ]
                control.append(np.array(point["grid"]) + [0, 0, point["target_height"]])
                names.append(name)
        return seen, np.array(control).reshape(-1, 3), names

    @staticmethod
    def _told(job: Job, scans, members, names, bent, apart, fitted) -> Figures:
        residual = Notation.of(job).residual
        worst = int(np.argmax(bent.moved))
        doubt = list(fitted["doubt"])
        if bent.test and bent.test[0] > bent.test[2]:
            doubt.append(
                "Scans and control contradict each other more than their standard deviations allow "
                f"({bent.test[0]:.2f}, at most {bent.test[2]:.2f} is usual): a point or a target is "
                "wrong, or σ is too small."
            )
        if apart:
            doubt.append(
                f"Scans {', '.join(map(str, apart))} are not in the adjustment and stayed where they were."
            )
        return {
            "says": f"{len(members)} scans bent to {len(names)} control points, scan {members[worst]} the "
            f"most, by {residual(bent.moved[worst] * 1000, 2)} beyond what all moved; "
            f"{fitted['says']}",
            "moved_mm": {members[i]: float(m) * 1000 for i, m in enumerate(bent.moved)},
            "test": None if bent.test is None else dict(zip(("value", "low", "high"), bent.test)),
            "doubt": doubt,
        }
