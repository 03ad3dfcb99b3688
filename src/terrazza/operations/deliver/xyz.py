"""Deliver text."""

from typing import Literal

from terrazza.core.progress import Progress
from terrazza.formats import xyz
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered, pieces_of
from terrazza.operations.deliver.e57 import GATHERED
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.promises import lines_of
from terrazza.operations.pieces.selection import Portion
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job


def as_text(portion: Portion, lines: xyz.Lines, progress: Progress) -> bytes:
    """The lines of a piece."""
    return b"".join(lines.text(chunk) for chunk in portion.chunks(progress))


class XyzParams(PointParams):
    path: str = field(
        "File", "cloud.xyz", role="write", help="Relative paths land in the job's deliverables."
    )
    decimals: int = field("Decimals", 4, ge=0, le=9, help="Of the coordinates, in metres.")
    delimiter: Literal["space", "comma", "semicolon", "tab"] = field("Delimiter", "space")


@operation
class DeliverXyz(PointFile):
    """Writes text: X Y Z, intensity, colour and class, one line a point."""

    name, title, step = "deliver.xyz", "XYZ text", "Deliver"
    reads, writes = frozenset("scan pose frame crs cut column".split()), frozenset({"deliverable"})
    looks = frozenset({"box"})
    Params = XyzParams

    def write(self, job: Job, params: XyzParams, progress: Progress) -> Figures:
        path = job.output(
            params.path,
            ".csv"
            if params.path.lower().endswith(".csv")
            else ".txt"
            if params.path.lower().endswith(".txt")
            else ".xyz",
        )
        with chosen_of(job, params, progress) as (chosen, rest):
            with xyz.Writer(path, lines_of(chosen, params)) as out:
                size = min(job.fleet.points_at_once, GATHERED)
                for text in pieces_of(job, chosen, as_text, out.lines, rest, size):
                    out.put(text)
            step = 10.0**-params.decimals
            return delivered(job, chosen, path, "XYZ", "lines", step, out.lines.columns)
