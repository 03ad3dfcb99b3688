"""Names of the job's own classes."""

from terrazza.core.classify import classes
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.pieces.counting import own_names
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class NameClassParams(Params):
    code: int = field("Class", ge=classes.OWN, le=255, help="From 64 on codes are the job's own.")
    name: str = field("Name", "", max_length=15, help="15 letters at most, as LAS keeps them; empty: none.")


@operation
class NameClass(Operation):
    """Names a class of the job's own; LAS and LAZ files carry the name."""

    name, title, step = "classify.name_class", "Name a class", "Classify"
    writes = frozenset({"class_name"})
    light = True
    Params = NameClassParams

    def run(self, job: Job, params: NameClassParams, progress: Progress) -> Figures:
        wanted = params.name.strip()
        taken = {n: c for c, n in own_names(job).items()} | {n: c for c, n in classes.NAMES.items()}
        if taken.get(wanted, params.code) != params.code:
            raise ParamsError(f"Class {taken[wanted]} is called “{wanted}” already.", "Choose another name.")
        job.put("class_name", params.code, {"name": wanted} if wanted else None)
        return {"says": f"Class {params.code} is called {wanted or classes.name(params.code)}"}
