"""Deliver drawings and surfaces as LandXML."""

import os

from terrazza.core.progress import Progress
from terrazza.files import whole
from terrazza.later import later
from terrazza.operations.deliver import shapes
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import landxml_writer as writer


class LandXmlParams(Params):
    path: str = field("File", "job.xml", role="write", help="Relative paths land in the job's deliverables.")
    drawings: list[int] = field("Drawings", list, help="Their numbers; empty: all.")


@operation
class DeliverLandXml(Operation):
    """Writes surfaces, the lines of drawings and control points to LandXML 1.2, in metres, and reads the file
    back.
    """

    name, title, step = "deliver.landxml", "LandXML", "Deliver"
    reads = frozenset({"drawing", "surface", "array", "frame", "control", "crs"})
    writes = frozenset({"deliverable"})
    Params = LandXmlParams

    def run(self, job: Job, params: LandXmlParams, progress: Progress) -> Figures:
        lines, meshes = shapes.lines_of(job, params.drawings), shapes.meshes_of(job)
        points = shapes.points_of(job)
        shapes.need_any(lines, meshes, points)
        path = job.output(params.path, ".xml")
        system = (job.get("crs") or {}).get("name", "")
        with whole(path) as partial:
            writer.write(partial, meshes, lines, [(name, at) for name, at, _ in points], system)
        told = shapes.read_back(path, [*shapes.edges_of(meshes), *lines], meshes)
        job.deliver(path, format="LandXML", lines=len(lines), read_back=True)
        return {
            "says": f"{len(meshes)} surfaces, {len(lines)} lines, {len(points)} points, read back",
            "path": path,
            "bytes": os.path.getsize(path),
            "verified": told,
        }
