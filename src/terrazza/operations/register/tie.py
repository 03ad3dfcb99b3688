"""Ask for a tie between two scans, or switch theirs off or on."""

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class TieParams(Params):
    a: int = field("Scan", help="Its number.", ge=1, widget="scan")
    b: int = field("Other scan", help="Its number.", ge=1, widget="scan")
    on: bool = field(
        "On", True, help="Off: the two do not hold each other, now and when registration runs again."
    )
    weight: float = field("Weight", 1.0, help="How much the tie counts against others.", ge=0.01, le=100)


@operation
class TieChoice(Operation):
    """Switches a tie between two scans off or on, or lets it count more or less; where there is none it is
    asked for, and tried however little they overlap. Every adjustment from now on keeps to it.
    """

    name, title, step = "register.tie", "Switch a tie", "Register"
    then = "register.adjust"
    looks = frozenset({"tie"})
    writes = frozenset({"tie_choice"})
    light = True
    Params = TieParams

    def run(self, job: Job, params: TieParams, progress: Progress) -> Figures:
        if params.a == params.b:
            raise ParamsError("register.tie: a tie joins two different scans.", "Choose another scan.")
        a, b = sorted((job.scan(params.a), job.scan(params.b)), key=lambda s: s.id)
        key = f"{a.id}-{b.id}"
        before, there = job.get("tie_choice", key) or {}, job.get("tie", key) is not None
        asked = bool(before.get("asked")) or (params.on and not there)
        usual = params.on and params.weight == 1.0 and not asked
        choice = {"a": a.id, "b": b.id, "on": params.on, "weight": params.weight, "asked": asked}
        job.put("tie_choice", key, None if usual else choice, scan=a.id)
        weight = f", weight {params.weight:g}" if params.weight != 1.0 else ""
        state = "switched off" if not params.on else f"switched on{weight}" if there else f"asked for{weight}"
        return {"says": f"Tie {a.id} – {b.id} {state}; the adjustment is due", "doubt": []}
