"""Deliver PTS."""

from terrazza.core.progress import Progress
from terrazza.formats import xyz
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered, pieces_of
from terrazza.operations.deliver.e57 import GATHERED
from terrazza.operations.deliver.laz import LazParams
from terrazza.operations.deliver.xyz import as_text
from terrazza.operations.pieces.promises import counted_lines_of, step_of
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job


class PtsParams(LazParams):
    path: str = field(
        "File", "cloud.pts", role="write", help="Relative paths land in the job's deliverables."
    )


@operation
class DeliverPts(PointFile):
    """Writes PTS in the common frame: the number of points, then X Y Z, intensity (0 to 65535) and colour."""

    name, title, step = "deliver.pts", "PTS", "Deliver"
    reads, writes = frozenset("scan pose frame crs cut column".split()), frozenset({"deliverable"})
    looks = frozenset({"box"})
    Params = PtsParams

    def write(self, job: Job, params: PtsParams, progress: Progress) -> Figures:
        path = job.output(params.path, ".pts")
        with chosen_of(job, params, progress) as (chosen, rest):
            with xyz.Writer(path, counted_lines_of(chosen, params)) as out:
                size = min(job.fleet.points_at_once, GATHERED)
                for text in pieces_of(job, chosen, as_text, out.lines, rest, size):
                    out.put(text)
            step = step_of(params.scale)
            return delivered(job, chosen, path, "PTS", "lines", step, out.lines.columns)
