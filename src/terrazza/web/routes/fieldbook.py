"""The field book: its strip, its pages, undo, cancel, and the recipe."""

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse, Response

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations.spine import fieldbook, recipe
from terrazza.web import pages
from terrazza.web.contexts import fieldbook as context
from terrazza.web.routes.common import job_of
from terrazza.work import launchers
from terrazza.work.lease import lease

router = APIRouter(prefix="/jobs/{job_id}")


@router.get("/part/strip")
def strip(request: Request, job_id: int) -> Response:
    """The strip; the page fetches what it shows anew when the state on it has moved on."""
    return pages.page(request, "_strip.html", **context.strip(job_of(request, job_id)))


@router.get("/part/fieldbook")
def book(request: Request, job_id: int, before: int = 0) -> Response:
    """The newest entries, or with ``before`` the rows of those below that number."""
    built = context.book(job_of(request, job_id), before)
    return pages.page(request, "_entries.html" if before else "_fieldbook.html", **built)


@router.post("/undo/{number}")
def undo(request: Request, job_id: int, number: int) -> Response:
    job = job_of(request, job_id)
    entry = queries.entry_of(job.row, number)
    if fieldbook.is_cut(entry):
        request.app.state.queue.add(job.row, "clean.put_back", {"cut": entry.figures["cut"]}, "page")
    else:
        with lease(job.workspace, job.row.folder, "an undo"):
            fieldbook.undo(entry)
    return pages.page(request, "_strip.html", **context.strip(job_of(request, job_id)))


@router.post("/cancel/{number}")
def cancel(request: Request, job_id: int, number: int) -> Response:
    job = job_of(request, job_id)
    entry = queries.entry_of(job.row, number)
    Entry.update(cancel=True).where(Entry.id == entry.id).execute()
    Entry.update(state="cancelled", message="Cancelled before it began.").where(
        (Entry.id == entry.id) & (Entry.state == "queued")
    ).execute()
    return pages.page(request, "_strip.html", **context.strip(job))


@router.get("/part/recipe.toml")
def save_recipe(request: Request, job_id: int, bound: bool = False) -> Response:
    job = job_of(request, job_id)
    text = recipe.write(recipe.entries_of(job.row), job.row.name, bound)
    return PlainTextResponse(text, headers={"Content-Disposition": 'attachment; filename="recipe.toml"'})


@router.get("/part/recipe.zip")
def hand_on_recipe(request: Request, job_id: int, bound: bool = False) -> Response:
    """The recipe with launchers."""
    job = job_of(request, job_id)
    text = recipe.write(recipe.entries_of(job.row), job.row.name, bound)
    headers = {"Content-Disposition": 'attachment; filename="recipe.zip"'}
    return Response(launchers.zipped(text, job.row.name), media_type="application/zip", headers=headers)
