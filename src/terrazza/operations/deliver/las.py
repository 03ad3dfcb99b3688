"""Deliver LAS."""

from terrazza.core.progress import Progress
from terrazza.operations.deliver.laz import DeliverLaz, LazParams
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job


class LasParams(LazParams):
    path: str = field(
        "File", "cloud.las", role="write", help="Relative paths land in the job's deliverables."
    )


@operation
class DeliverLas(DeliverLaz):
    """Writes LAS 1.4 in the common frame, without compression."""

    name, title = "deliver.las", "LAS"
    Params = LasParams

    def write(self, job: Job, params: LasParams, progress: Progress) -> Figures:
        stem = params.path.removesuffix(".las")
        return super().write(job, params.model_copy(update={"path": f"{stem}.las"}), progress)
