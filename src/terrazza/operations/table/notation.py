"""Choose how numbers are written."""

from typing import Literal

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation


class NotationParams(Params):
    unit: Literal["metre", "millimetre", "international foot", "US survey foot", "inch"] = field(
        "Unit of lengths", "metre"
    )
    decimals: int = field("Decimals", 3, ge=0, le=6)
    decimal_mark: Literal["point", "comma"] = field("Decimal mark", "point")
    thousands: Literal["none", "thin space", "comma", "point", "apostrophe"] = field("Thousands", "none")
    order: Literal["E N H", "N E H"] = field("Order of coordinates", "E N H")


@operation
class SetNotation(Operation):
    """Sets how lengths and coordinates of the job are written: unit, decimals, marks and order."""

    name, title, step = "table.notation", "How figures are written", "Table"
    writes = frozenset({"notation"})
    light = True
    Params = NotationParams

    def run(self, job: Job, params: NotationParams, progress: Progress) -> Figures:
        if {params.decimal_mark, params.thousands} in ({"comma"}, {"point"}):
            raise ParamsError(
                "The decimal mark and the thousands mark are the same.", "Choose another for one of them."
            )
        job.put("notation", "", params.model_dump())
        return {
            "says": f"Lengths in {Notation(params.unit).plural}, {params.decimals} decimals, {params.order}"
        }
