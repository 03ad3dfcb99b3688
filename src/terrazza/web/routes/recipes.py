"""Recipes on the page: chosen, asked about, run, gone on with."""

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from terrazza.errors import InputError, TerrazzaError
from terrazza.operations.spine import course
from terrazza.web import pages
from terrazza.web.contexts import recipes as context
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/recipe")
MOST = 1_000_000  # bytes of a recipe


@router.get("")
def show(request: Request, job_id: int) -> Response:
    """How the job's last recipe stands."""
    return pages.page(request, "_recipe.html", **context.build(job_of(request, job_id)))


@router.post("")
async def run(request: Request, job_id: int) -> Response:
    """Take a recipe (a file, or its text with answers): answers with its questions, or how it runs."""
    form = await request.form()
    text = str(form.get("text", ""))
    if hasattr(form.get("file"), "read"):
        data = await form["file"].read(MOST + 1)
        try:
            text = data.decode()
        except UnicodeDecodeError as error:
            raise InputError("That file is no recipe: it is not text.", "Choose a TOML file.") from error
        if len(data) > MOST or not text.strip():
            raise InputError("That file is no recipe.", "Choose a TOML file.")
    answers = {k.removeprefix("answer."): str(v) for k, v in form.items() if k.startswith("answer.")}
    return await run_in_threadpool(_run, request, job_id, text, answers if "text" in form else None)


def _run(request: Request, job_id: int, text: str, answers: dict | None) -> Response:
    job = job_of(request, job_id)
    built = context.build(job, text, answers)
    if not built["wrong"] and (answers is not None or not built["questions"]):
        try:
            context.begin(job, text, answers or {})
            request.app.state.queue.go_on(job.row)
            built = context.build(job)
        except TerrazzaError as error:
            built["wrong"] = str(error)
    return pages.page(request, "_recipe.html", headers={"HX-Trigger": "queued"}, **built)


@router.post("/on")
def go_on(request: Request, job_id: int) -> Response:
    """Go on with a recipe that broke off or was stopped."""
    job = job_of(request, job_id)
    course.resume(job.row, who=context.PAGE)
    request.app.state.queue.go_on(job.row)
    return pages.page(request, "_recipe.html", headers={"HX-Trigger": "queued"}, **context.build(job))
