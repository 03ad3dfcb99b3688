"""Make a point control or check."""

from terrazza.core.progress import Progress
from terrazza.operations.georeference.solving import control_point_of, solve_again
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class RoleParams(Params):
    point: str = field("Control point", help="Its name.")
    check: bool = field("Check point", True, help="On: only compared; off: used in the fit.")


@operation
class Role(Operation):
    """Makes a point a check point or a control point, and fits again."""

    name, title, step = "georeference.role", "Control or check", "Georeference"
    reads = frozenset({"scan", "pose", "network", "array", "target"})
    writes = frozenset({"control", "frame"})
    Params = RoleParams

    def run(self, job: Job, params: RoleParams, progress: Progress) -> Figures:
        point = control_point_of(job, params.point)
        job.put("control", params.point, point | {"check": params.check})
        return solve_again(job)
