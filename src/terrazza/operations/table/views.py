"""Keep a view."""

from terrazza.core.progress import Progress
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.table.naming import name_or


class ViewParams(Params):
    name: str = field("Name", min_length=1, max_length=100)
    address: str = field(
        "View", min_length=1, max_length=4000, help="What the table's address says after the #."
    )


@operation
class KeepView(Operation):
    """Keeps a view of the table under a name: where one looks, slab, box, colouring."""

    name, title, step = "table.keep_view", "Keep a view", "Table"
    writes = frozenset({"view"})
    bound_to_place = True
    light = True
    Params = ViewParams

    def run(self, job: Job, params: ViewParams, progress: Progress) -> Figures:
        number = job.next_number("view")
        job.put("view", number, {"name": name_or(job, "view", params.name, ""), "address": params.address})
        return {"says": f"View “{params.name}” kept", "view": number}
