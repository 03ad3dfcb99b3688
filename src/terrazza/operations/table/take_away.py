"""Take something off the table."""

from typing import Literal

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.table.naming import need_there


class TakeAwayParams(Params):
    kind: Literal["measure", "pin", "box", "view", "sketch"] = field("What", "measure")
    number: int = field("Number", ge=1)


@operation
class TakeAway(Operation):
    """Takes a measure, pin, box, kept view or sketch off the table; undo puts it back."""

    name, title, step = "table.take_away", "Take off the table", "Table"
    writes = frozenset({"measure", "pin", "box", "view", "sketch"})
    bound_to_place = True
    light = True
    Params = TakeAwayParams

    def run(self, job: Job, params: TakeAwayParams, progress: Progress) -> Figures:
        name = need_there(job, params.kind, params.number)["name"]
        job.put(params.kind, params.number, None)
        return {"says": f"{name} taken off the table"}
