"""Say in which coordinate system the job's grid is."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

with later():
    from terrazza.core.georef import systems
    from terrazza.formats import systems as wkts


class CrsParams(Params):
    code: str = field("System", max_length=4000, help="A code such as EPSG:25832, or the system's name.")
    vertical: str = field("Heights", "", max_length=200, help="A code or a name too; empty: not said.")


@operation
class Crs(Operation):
    """Says in which coordinate system the grid is; deliverables that can say it carry it.  Nothing moves:
    scale factor and convergence at the job are shown, not applied.
    """

    name, title, step = "georeference.crs", "Coordinate system", "Georeference"
    reads, writes = frozenset({"scan", "pose", "frame"}), frozenset({"crs"})
    Params = CrsParams

    def run(self, job: Job, params: CrsParams, progress: Progress) -> Figures:
        crs = systems.projected(params.code, params.vertical)
        wkt, metres = crs.to_wkt(), wkts.metres_per_unit(crs.to_wkt())
        record = {"wkt": wkt, "metres_per_unit": metres, "name": crs.name}
        figures, doubts = {"says": f"The grid is {crs.name}", "name": crs.name}, []
        placed = job.scans(placed=True)
        if job.georeferenced and placed:
            middle = np.mean([job.grid_pose(s)[:2, 3] for s in placed], axis=0) / metres
            told = systems.factors(crs, *middle)
            figures |= told
            figures["says"] += (
                f": at the job scale {told['scale']:.6f}, convergence {told['convergence_deg']:.4f}°, "
                f"{told['lat']:.4f}° {told['lon']:.4f}°"
            )
            if not told["within"]:
                doubts.append(f"The job lies outside the area that {crs.name} is meant for.")
        job.put("crs", "", record)
        return figures | {"doubt": doubts}
