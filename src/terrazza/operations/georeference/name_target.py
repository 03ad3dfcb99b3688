"""Name a target."""

from terrazza.core.progress import Progress
from terrazza.operations.georeference.sightings import free_name
from terrazza.operations.georeference.solving import target_of
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class NameTargetParams(Params):
    target: int = field("Target", help="Its number.", ge=1)
    name: str = field("Name", "", help="As the control has it; empty: none.", max_length=60)


@operation
class NameTarget(Operation):
    """Names a target as the control has it; the fit to control heeds names."""

    name, title, step = "georeference.name_target", "Name a target", "Georeference"
    light = True
    reads = frozenset({"scan"})
    writes = frozenset({"target"})
    Params = NameTargetParams

    def run(self, job: Job, params: NameTargetParams, progress: Progress) -> Figures:
        target = target_of(job, params.target)
        name = free_name(job, target["scan"], params.name, params.target)
        job.put("target", params.target, target | {"name": name}, scan=target["scan"])
        return {
            "says": f"Target {params.target} is {name}" if name else f"Target {params.target} has no name"
        }
