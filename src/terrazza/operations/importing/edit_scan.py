"""Change what is known of a scan."""

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class EditScanParams(Params):
    scan: int = field("Scan", ge=1, help="Its number.", widget="scan")
    name: str = field("Name", "", help="Empty: unchanged.", max_length=120)
    instrument: str = field("Instrument", "", help="Empty: unchanged.", max_length=120)
    captured: str = field("Captured", "", help="Day and time; empty: unchanged.", max_length=40)
    notes: str = field("Notes", "", help="Empty: unchanged.", max_length=2000)
    view_width: int | None = field(
        "Station view",
        None,
        unit="px",
        blank="unchanged",
        ge=0,
        le=32_768,
        help="Most columns of the view from its station; 0: as scanned; empty: unchanged.",
    )
    block: str = field(
        "Block",
        "",
        help="The block it belongs to, nested with “/”, for example house/upper floor; - takes it out of "
        "any; empty: unchanged.",
        max_length=120,
    )


@operation
class EditScan(Operation):
    """Renames a scan or corrects what is noted about it."""

    name, title, step = "import.edit_scan", "Edit a scan's notes", "Import"
    writes = frozenset({"scan"})
    light = True
    Params = EditScanParams

    def run(self, job: Job, params: EditScanParams, progress: Progress) -> Figures:
        record = dict(job.scan(params.scan).record)
        new = {
            k: getattr(params, k).strip()
            for k in ("name", "instrument", "captured", "notes", "block")
            if getattr(params, k).strip()
        }
        if params.view_width is not None:
            new["view_width"] = params.view_width
        if not new:
            raise ParamsError(
                "import.edit_scan: nothing to change was given.",
                "Give a name, an instrument, a time, a note or a block.",
            )
        if "block" in new:
            new["block"] = "/".join(
                part.strip() for part in new["block"].split("/") if part.strip()
            ).removeprefix("-")
        if any(s.name == new.get("name") and s.id != params.scan for s in job.scans()):
            raise ParamsError(f"Another scan is named “{new['name']}”.", "Choose a name of its own.")
        job.put("scan", params.scan, record | new, scan=params.scan)
        return {"says": f"Scan {params.scan}: " + ", ".join(f"{k} “{v}”" for k, v in new.items())}
