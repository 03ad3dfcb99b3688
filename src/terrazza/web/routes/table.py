"""What is set down on the table: lists, and figures of a measure before it is kept."""

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, JSONResponse, Response

from terrazza.errors import NotFound
from terrazza.web import pages
from terrazza.web.contexts import table as context
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/table")


@router.get("/notes")
def notes(request: Request, job_id: int) -> Response:
    return pages.page(request, "_notes.html", **context.build(job_of(request, job_id)))


@router.post("/try")
def try_out(request: Request, job_id: int, wanted: context.Try) -> Response:
    """Figures of a measure that is being taken; nothing is kept."""
    return JSONResponse(context.try_out(job_of(request, job_id), wanted))


@router.post("/beside")
def beside(request: Request, job_id: int, moving: context.Moving) -> Response:
    """How a scan in hand lies beside the others; nothing is kept."""
    return JSONResponse(context.beside(job_of(request, job_id), moving))


@router.get("/pin/{number}/picture")
def picture(request: Request, job_id: int, number: int) -> Response:
    job = job_of(request, job_id)
    pin = job.get("pin", number)
    if not pin or not pin["picture"]:
        raise NotFound(f"Pin {number} has no picture.", "Put a new pin with one.")
    return FileResponse(job.own_file("photos", pin["picture"]))
