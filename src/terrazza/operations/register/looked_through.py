"""Sign that the placed scans were looked through."""

import time

from terrazza.core.progress import Progress
from terrazza.db import queries
from terrazza.errors import StateError
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

ADJUSTING = ("register.automatic", "register.adjust")
CHANGING = {
    "register.tie": "a tie was switched",
    "register.leave_out": "a scan was taken out or in",
    "register.set_pose": "a scan was moved",
    "register.cloud_fit": "a scan was fitted",
    "register.like_points": "a scan was placed",
    "register.join": "an island was joined",
    "register.choose": "a placement was chosen",
}


class LookedParams(Params):
    who: str = field("Looked by", min_length=1, max_length=80, help="Name of who looked it through.")
    note: str = field("Note", "", max_length=400, help="What was seen, for the report.")


@operation
class LookedThrough(Operation):
    """Keeps that somebody has looked through the scans as they stand, with name and time, for the report."""

    name, title, step = "register.looked_through", "✓ Looked through", "Register"
    writes = frozenset({"looked"})
    looks = frozenset({"network", "scan", "pose"})
    light = True
    Params = LookedParams

    def run(self, job: Job, params: LookedParams, progress: Progress) -> Figures:
        placed = job.scans(placed=True)
        if not placed:
            raise StateError("No scan has a place yet.", "Register the scans, then look at them.")
        doubles = (job.get("network") or {}).get("doubles")
        job.put(
            "looked",
            "",
            {
                "who": params.who,
                "when": time.time(),
                "entry": job.entry.number,
                "scans": len(placed),
                "doubles": None if doubles is None else len(doubles),
                "note": params.note,
            },
        )
        doubt = [] if doubles is not None else ["Double walls were not looked for yet."]
        return {"says": f"{len(placed)} scans looked through by {params.who}", "doubt": doubt}


def told(job: Job) -> str:
    """Who has looked it through and when, and whether places changed since; empty where nobody has."""
    looked = job.get("looked")
    if looked is None:
        return ""
    day = time.strftime("%d %b %Y %H:%M", time.localtime(looked["when"]))
    walls = {None: "double walls not looked for", 0: "no double wall"}.get(
        looked["doubles"], f"{looked['doubles']} double walls"
    )
    moved = queries.last_writers(job.row.id).get("pose", 0) > looked["entry"]
    return (
        f"By {looked['who']}, {day}: {looked['scans']} scans, {walls}."
        + (f" {looked['note'].rstrip('.')}." if looked["note"] else "")
        + (" Places have changed since." if moved else "")
    )


def due(job: Job) -> str:
    """What has changed since the network was adjusted last; empty where nothing has, or it never was."""
    last = {name: e.number for name, e in job.last_entries().items()}
    adjusted = max((last.get(name, 0) for name in ADJUSTING), default=0)
    later = [(last.get(name, 0), says) for name, says in CHANGING.items() if last.get(name, 0) > adjusted]
    return max(later)[1] if adjusted and later else ""
