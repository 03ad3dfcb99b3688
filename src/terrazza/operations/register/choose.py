"""Choose one of the placements between which the scans cannot decide."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.operations.register.holding import need_free, put_pose
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation


class ChooseParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    alternative: int = field(
        "Alternative", help="Its place in the list, from 1: the first is where the scan stands now.", ge=1
    )


@operation
class Choose(Operation):
    """Takes one of the placements between which the scans could not decide; later registrations keep it."""

    name, title, step = "register.choose", "Choose a placement", "Register"
    then = "register.adjust"
    reads = frozenset({"scan"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"pose", "standing"})
    bound_to_place = True
    light = True
    Params = ChooseParams

    def run(self, job: Job, params: ChooseParams, progress: Progress) -> Figures:
        scan, standing = job.scan(params.scan), job.get("standing", params.scan)
        need_free(job, [scan])
        offered = standing["alternatives"] if standing else []
        if params.alternative > len(offered):
            raise ParamsError(
                f"Scan {params.scan} has {len(offered) or 'no'} placements to choose from.",
                "Register automatically first; the sheet lists what is doubted."
                if not offered
                else f"Give a number from 1 to {len(offered)}.",
            )
        if standing["island"] not in {1, None}:
            raise StateError(
                f"Scan {params.scan} stands in island {standing['island']}, which is not joined to the "
                "job yet.",
                "Set one of its scans by hand, then register again.",
            )
        pose = np.array(offered[params.alternative - 1])
        moved, says = 0.0, "after it stood aside"
        if scan.pose is not None:
            moved, turned = rigid.difference(scan.pose, pose)
            says = f"moved {Notation.of(job).length(moved)}, turned {np.degrees(turned):.1f}°"
        matrix = put_pose(job, scan, pose, "chosen")
        job.put("standing", scan.id, standing | {"island": 1, "matrix": matrix, "doubt": None}, scan=scan.id)
        return {
            "says": f"Scan {scan.id}, {scan.name}: placement {params.alternative} of {len(offered)} chosen, "
            + says,
            "moved_m": float(moved),
        }
