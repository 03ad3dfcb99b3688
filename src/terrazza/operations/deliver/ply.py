"""Deliver PLY."""

from terrazza.core.progress import Progress
from terrazza.formats import ply_writer
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered, pieces_of
from terrazza.operations.deliver.e57 import GATHERED
from terrazza.operations.deliver.laz import LazParams
from terrazza.operations.pieces.promises import record_of
from terrazza.operations.pieces.selection import Portion
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job


def _as_ply(portion: Portion, record: ply_writer.Record, progress: Progress) -> bytes:
    return b"".join(record.data(chunk) for chunk in portion.chunks(progress))


class PlyParams(LazParams):
    path: str = field(
        "File", "cloud.ply", role="write", help="Relative paths land in the job's deliverables."
    )


@operation
class DeliverPly(PointFile):
    """Writes binary PLY in the common frame: coordinates as doubles, intensity, colour, class and scan."""

    name, title, step = "deliver.ply", "PLY", "Deliver"
    reads, writes = frozenset("scan pose frame crs cut column".split()), frozenset({"deliverable"})
    looks = frozenset({"box"})
    Params = PlyParams

    def write(self, job: Job, params: PlyParams, progress: Progress) -> Figures:
        path = job.output(params.path, ".ply")
        with chosen_of(job, params, progress) as (chosen, rest):
            record = record_of(chosen, params)
            with ply_writer.Writer(path, record.heading(chosen.points)) as out:
                for data in pieces_of(
                    job, chosen, _as_ply, record, rest, min(job.fleet.points_at_once, GATHERED)
                ):
                    out.put(data)
            return delivered(job, chosen, path, "PLY", "points", params.scale)
