"""Pick a target that the search missed."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class PickTargetParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    x: float = field("X", unit="m", help="In the scan's own frame.")
    y: float = field("Y", unit="m")
    z: float = field("Z", unit="m")


@operation
class PickTarget(Operation):
    """Takes a picked point of a scan as a target that the search missed."""

    name, title, step = "georeference.pick_target", "Pick a target", "Georeference"
    writes = frozenset({"target"})
    bound_to_place = True
    Params = PickTargetParams

    def run(self, job: Job, params: PickTargetParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        centre = np.array([params.x, params.y, params.z])
        number = job.next_number("target")
        job.put(
            "target",
            number,
            {
                "scan": scan.id,
                "centre": centre.tolist(),
                "sigma": 0.004,
                "normal": [0, 0, 1],
                "range": float(np.linalg.norm(centre)),
                "incidence_deg": 0.0,
                "fit": 0.0,
                "points": 1,
                "dropped": False,
                "by_hand": True,
            },
            scan=scan.id,
        )
        return {"says": f"Target {number} picked in scan {scan.id}", "target": number}
