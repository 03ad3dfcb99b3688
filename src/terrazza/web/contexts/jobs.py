"""Rows of the list of jobs."""

from terrazza.db.models import Job as Row
from terrazza.operations.spine.job import Job


def rows(workspace: str) -> list[dict]:
    out = []
    for row in Row.select().order_by(Row.created.desc()):
        job = Job(workspace, row)
        scans = job.scans()
        out.append(
            {
                "id": row.id,
                "name": row.name,
                "created": row.created,
                "scans": len(scans),
                "points": sum(s.points for s in scans),
                "placed": sum(s.pose is not None for s in scans),
                "georeferenced": job.georeferenced,
                "deliverables": len(job.facts("deliverable")),
            }
        )
    return out
