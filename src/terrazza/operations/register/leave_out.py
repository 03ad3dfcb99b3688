"""Take a scan out of the adjustment."""

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class LeaveOutParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    out: bool = field("Taken out", True, help="Off: back in.")


@operation
class LeaveOut(Operation):
    """Takes a scan out of the adjustment, or back in; its pose stays."""

    name, title, step = "register.leave_out", "Take a scan out of the adjustment", "Register"
    then = "register.adjust"
    writes = frozenset({"left_out"})
    light = True
    Params = LeaveOutParams

    def run(self, job: Job, params: LeaveOutParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        job.put("left_out", scan.id, True if params.out else None, scan=scan.id)
        return {
            "says": f"Scan {scan.id}, {scan.name}, {'taken out of' if params.out else 'back in'} the "
            "adjustment"
        }
