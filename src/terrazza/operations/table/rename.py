"""Rename something on the table."""

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.table.naming import name_or, need_there
from terrazza.operations.table.take_away import TakeAwayParams


class RenameParams(TakeAwayParams):
    name: str = field("Name", min_length=1, max_length=100)


@operation
class Rename(Operation):
    """Gives a measure, pin, box or kept view another name."""

    name, title, step = "table.rename", "Rename on the table", "Table"
    writes = frozenset({"measure", "pin", "box", "view"})
    bound_to_place = True
    light = True
    Params = RenameParams

    def run(self, job: Job, params: RenameParams, progress: Progress) -> Figures:
        record = need_there(job, params.kind, params.number)
        name = name_or(job, params.kind, params.name, record["name"])
        job.put(params.kind, params.number, record | {"name": name})
        return {"says": f"{record['name']} is now {name}"}
