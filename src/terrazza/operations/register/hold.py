"""Hold scans and blocks where they stand, or free them."""

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.register.holding import holder, members
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class HoldParams(Params):
    scan: int = field("Scan", 0, help="Its number; 0: a block.", ge=0, widget="scan")
    block: str = field("Block", "", help="Its name, as “Day 1” or “Day 1/House”; empty: a scan.")
    held: bool = field("Held", True, help="Off: free to move.")


@operation
class Hold(Operation):
    """Holds a scan, or a block with all scans and blocks in it, where it stands: nothing moves it, neither by
    hand nor in an adjustment, until it is free again.
    """

    name, title, step = "register.hold", "Hold or free", "Register"
    light = True
    reads = frozenset({"scan"})
    writes = frozenset({"held", "held_block"})
    Params = HoldParams

    def run(self, job: Job, params: HoldParams, progress: Progress) -> Figures:
        if bool(params.scan) == bool(params.block):
            raise ParamsError("register.hold: one of a scan and a block is needed.", "Give either.")
        value = True if params.held else None
        if params.scan:
            scans, what = [job.scan(params.scan)], f"Scan {params.scan}"
            job.put("held", params.scan, value, scan=params.scan)
        else:
            scans, what = members(job, params.block), f"Block {params.block}"
            job.put("held_block", params.block, value)
        still = sorted({holder(job, s) for s in scans} - {""}) if not params.held else []
        return {
            "says": f"{what} is {'held where it stands' if params.held else 'free'}",
            "scans": [s.id for s in scans],
            "doubt": [f"Held all the same by {', '.join(still)}."] if still else [],
        }
