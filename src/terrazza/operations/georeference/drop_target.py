"""Drop a target."""

from terrazza.core.progress import Progress
from terrazza.operations.georeference.solving import solve_again, target_of
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class DropParams(Params):
    target: int = field("Target", help="Its number.", ge=1)
    dropped: bool = field("Dropped", True, help="Off: taken back.")


@operation
class DropTarget(Operation):
    """Drops a false or poor target sighting, or takes it back; a fit to control is solved again."""

    name, title, step = "georeference.drop_target", "Drop a target", "Georeference"
    reads = frozenset({"scan", "pose", "network", "array"})
    writes = frozenset({"target", "control", "frame"})
    Params = DropParams

    def run(self, job: Job, params: DropParams, progress: Progress) -> Figures:
        target = target_of(job, params.target)
        job.put("target", params.target, target | {"dropped": params.dropped}, scan=target["scan"])
        says = f"Target {params.target} {'dropped' if params.dropped else 'taken back'}"
        if job.get("frame", "", {}).get("how") == "control":
            return solve_again(job) | {"says": says + "; " + job.get("frame")["says"]}
        return {"says": says}
