"""Take a scan out of the job."""

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.facts import KINDS, OF_A_SCAN
from terrazza.operations.spine.job import Job


class RemoveScanParams(Params):
    scan: int = field("Scan", ge=1, help="Its number.", widget="scan")


@operation
class RemoveScan(Operation):
    """Takes a scan out of the job; undo puts it back."""

    name, title, step = "import.remove_scan", "Remove a scan", "Import"
    writes = OF_A_SCAN
    Params = RemoveScanParams

    def run(self, job: Job, params: RemoveScanParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        for kind in OF_A_SCAN:
            for key, value in list(job.facts(kind).items()):
                if scan.id in KINDS[kind].scans(key, value):
                    job.put(kind, key, None)
        return {"says": f"Scan {scan.id}, {scan.name}, removed; undo puts it back"}
