"""Match a control point by hand."""

from terrazza.core.progress import Progress
from terrazza.operations.georeference.solving import control_point_of, solve_again, target_of
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class MatchParams(Params):
    point: str = field("Control point", help="Its name.")
    target: int = field("Target", 0, help="Number of the target; 0 takes the match away.", ge=0)


@operation
class Match(Operation):
    """Matches a control point to a target by hand, or takes its match away, and fits again."""

    name, title, step = "georeference.match", "Match a control point", "Georeference"
    reads = frozenset({"scan", "pose", "network", "array", "target"})
    writes = frozenset({"control", "frame"})
    Params = MatchParams

    def run(self, job: Job, params: MatchParams, progress: Progress) -> Figures:
        point = control_point_of(job, params.point)
        if params.target:
            target_of(job, params.target)
        job.put(
            "control",
            params.point,
            point | {"targets": [params.target] if params.target else [], "how": "by hand"},
        )
        return solve_again(job)
