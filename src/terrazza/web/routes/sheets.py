"""Sheets of the eight steps, the terraces, and starting an operation from a form."""

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from terrazza.db import queries
from terrazza.operations.spine.base import find
from terrazza.operations.spine.notation import Notation
from terrazza.operations.spine.reach import PAGE
from terrazza.web import pages
from terrazza.web.contexts import fieldbook as book_context
from terrazza.web.contexts import forms, pairs, sheets, terraces
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}")


@router.get("/sheet/{step}")
def sheet(request: Request, job_id: int, step: str) -> Response:
    context = sheets.build(job_of(request, job_id), step)
    return pages.page(request, context["template"], **context)


@router.get("/part/terraces/{step}")
def terrace_part(request: Request, job_id: int, step: str) -> Response:
    return pages.page(request, "_terraces.html", oob=True, **terraces.build(job_of(request, job_id), step))


@router.get("/part/pair/{a}/{b}")
def pair_part(request: Request, job_id: int, a: int, b: int) -> Response:
    job = job_of(request, job_id)
    context = {"job": job.row, "pair": pairs.told(job, a, b), "notation": Notation.of(job)}
    return pages.page(request, "_pair.html", **context, revision=queries.revision(job.row.id))


@router.post("/do/{operation}")
async def do(request: Request, job_id: int, operation: str) -> Response:
    """Queue an operation with the form's values; answers with the field-book strip."""
    form = await request.form()
    return await run_in_threadpool(_queue, request, job_id, operation, form)


def _queue(request: Request, job_id: int, operation: str, form) -> Response:
    job, kind = job_of(request, job_id), find(operation)
    params = forms.values(kind, form)
    forms.need_reach(job, kind, params)
    request.app.state.queue.add(job.row, operation, params, PAGE)
    return pages.page(request, "_strip.html", headers={"HX-Trigger": "queued"}, **book_context.strip(job))
