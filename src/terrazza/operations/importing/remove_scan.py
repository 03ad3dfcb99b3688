"""Take a scan out of the job."""

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class RemoveScanParams(Params):
    scan: int = field("Scan", ge=1, help="Its number.", widget="scan")


@operation
class RemoveScan(Operation):
    """Takes a scan out of the job; undo puts it back."""

    name, title, step = "import.remove_scan", "Remove a scan", "Import"
    writes = frozenset(
        {
            "scan",
            "column",
            "pose",
            "photo",
            "target",
            "tie",
            "walk",
            "array",
            "left_out",
            "standing",
            "tie_choice",
        }
    )
    Params = RemoveScanParams

    def run(self, job: Job, params: RemoveScanParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        for kind in ("column", "photo", "target", "tie", "tie_choice"):
            for key, value in list(job.facts(kind).items()):
                mine = (
                    key.split("/")[0] == str(scan.id)
                    if kind == "column"
                    else scan.id in (value.get("scan"), value.get("a"), value.get("b"))
                )
                if mine:
                    job.put(kind, key, None)
        for kind, key in (
            ("pose", scan.id),
            ("left_out", scan.id),
            ("standing", scan.id),
            ("walk", scan.id),
            ("array", f"path-{scan.id}"),
            ("scan", scan.id),
        ):
            job.put(kind, key, None)
        return {"says": f"Scan {scan.id}, {scan.name}, removed; undo puts it back"}
