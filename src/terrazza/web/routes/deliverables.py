"""Deliverables: what they would hold before they are written, and downloads."""

import os

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse, Response

from terrazza.core.progress import QUIET
from terrazza.errors import NotFound
from terrazza.operations.pieces.promises import statement
from terrazza.operations.spine.base import find
from terrazza.web import pages
from terrazza.web.contexts import forms
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/deliverables")


@router.post("/statement/{form}")
async def state(request: Request, job_id: int, form: str) -> Response:
    """Points by class and bytes of a deliverable with the form's choices."""
    return await run_in_threadpool(_state, request, job_id, form, await request.form())


def _state(request: Request, job_id: int, form: str, values) -> Response:
    job = job_of(request, job_id)
    operation = find(f"deliver.{form}")
    params = operation.check(forms.values(operation, values))
    return pages.page(
        request, "_statement.html", said=statement(job, form, params, QUIET), title=operation.title
    )


@router.get("/file/{number}")
def download(request: Request, job_id: int, number: int) -> Response:
    job = job_of(request, job_id)
    paths = list(job.facts("deliverable"))
    if not 1 <= number <= len(paths) or not os.path.isfile(paths[number - 1]):
        raise NotFound("This deliverable is not there any more.", "Write it again.")
    if not job.reaches(paths[number - 1]):
        raise NotFound(
            f"“{paths[number - 1]}” lies outside the folders that the page may read.",
            "Open it there, or write it anew from this page.",
        )
    return FileResponse(paths[number - 1], filename=os.path.basename(paths[number - 1]))
