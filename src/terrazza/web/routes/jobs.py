"""The list of jobs, a new job, and the job's page."""

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response

from terrazza.db import queries
from terrazza.web import pages
from terrazza.web.contexts import jobs as jobs_context
from terrazza.web.contexts import page as page_context
from terrazza.web.routes.common import job_of

router = APIRouter()


@router.get("/")
def index(request: Request) -> Response:
    return pages.page(request, "jobs.html", jobs=jobs_context.rows(request.app.state.workspace))


@router.post("/jobs")
def create(request: Request, name: Annotated[str, Form()] = "") -> Response:
    job = queries.create_job(request.app.state.workspace, name)
    return RedirectResponse(f"/jobs/{job.id}/import", 303)


@router.get("/jobs/{job_id}")
def open_job(request: Request, job_id: int) -> Response:
    return RedirectResponse(f"/jobs/{job_id}/{page_context.first_step(job_of(request, job_id))}", 303)


@router.get("/jobs/{job_id}/{step}")
def show(request: Request, job_id: int, step: str) -> Response:
    job = job_of(request, job_id)
    return pages.page(
        request, "job.html", headers={"Cache-Control": "no-store"}, **page_context.build(job, step)
    )
