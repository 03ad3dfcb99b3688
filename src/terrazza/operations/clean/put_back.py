"""Put a cut back."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import NotFound
from terrazza.operations.pieces import portions
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.store.cloud import Cloud


class PutBackParams(Params):
    cut: int = field("Cut", help="Its number, as the list of cuts shows it.", ge=1)


@operation
class PutBack(Operation):
    """Puts the points of one cut back, alone; later cuts stay as they are."""

    name, title, step = "clean.put_back", "Put a cut back", "Clean"
    writes = frozenset({"column", "cut"})
    bound_to_place = True
    Params = PutBackParams

    def run(self, job: Job, params: PutBackParams, progress: Progress) -> Figures:
        cut = job.get("cut", params.cut)
        if cut is None:
            raise NotFound(
                f"There is no cut {params.cut}, or it is back already.",
                f"Cuts are {', '.join(job.facts('cut')) or 'none'}.",
            )
        entry = cut.get("entry", params.cut)  # cuts used to have the number of their entry
        scans = [s for s in job.scans() if job.cloud(s.id).has("cut")]
        found = portions.rewrite(
            job, scans, "cut", _uncut, {s.id: params.cut for s in scans}, progress, "Putting points back"
        )
        points = sum(sum(tally) for tally in found.values())
        job.put("cut", params.cut, None)
        job.mark(entry, "undone")
        return {"says": f"Cut {params.cut} put back: {points:,} points", "points": points, "forgotten": True}


def _uncut(cloud: Cloud, start: int, stop: int, number: int, _):
    cut = np.array(cloud.read("cut", start, stop))
    mine = cut == number
    cut[mine] = 0
    return (cut if mine.any() else None), int(mine.sum())
