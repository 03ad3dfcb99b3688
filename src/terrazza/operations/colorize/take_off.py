"""Take colours off."""

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.spine.base import Figures, Operation, Params, operation, scans_field
from terrazza.operations.spine.job import Job


class TakeOffParams(Params):
    scans: list[int] = scans_field()


@operation
class TakeOff(Operation):
    """Takes photo colour off the chosen scans; intensity and native colour stay."""

    name, title, step = "colorize.take_off", "Take photo colour off", "Colorize"
    writes = frozenset({"column"})
    Params = TakeOffParams

    def run(self, job: Job, params: TakeOffParams, progress: Progress) -> Figures:
        coloured = [s for s in job.need_scans(params.scans) if job.get("column", f"{s.id}/photo_rgb")]
        if not coloured:
            raise StateError("None of these scans has photo colour.", "Colorize first.")
        for scan in coloured:
            job.put("column", f"{scan.id}/photo_rgb", None)
        return {"says": f"Photo colour taken off {len(coloured)} scans", "scans": [s.id for s in coloured]}
