"""What every route needs: the job of an address, open for reading."""

from fastapi import Request

from terrazza.db import queries
from terrazza.operations.spine.job import Job
from terrazza.settings import settings

FOR_GOOD = {
    "Cache-Control": "private, max-age=31536000, immutable"
}  # for addresses that are new whenever what they show has changed


def job_of(request: Request, job_id: int) -> Job:
    """The job with this number, as it is now; NotFound otherwise."""
    job = Job(request.app.state.workspace, queries.job_by(id=job_id))
    job.may_read = list(map(str, settings().allowed_folders()))
    return job
