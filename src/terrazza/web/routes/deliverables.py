"""Deliverables: what they would hold before they are written, and downloads."""

import itertools
import os

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse, Response

from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.errors import NotFound
from terrazza.operations.deliver import times
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine.base import find
from terrazza.operations.spine.reach import PAGE
from terrazza.web import pages
from terrazza.web.contexts import fieldbook as book_context
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
    try:
        said = operation.promise(job, params, QUIET)
    except NotImplementedError as error:
        raise NotFound(f"{operation.title} promises nothing before.", "Write it.") from error
    said["seconds"] = times.seconds(job, operation.name, said["points"])
    return pages.page(request, "_statement.html", said=said, title=operation.title)


@router.post("/anew")
def anew(request: Request, job_id: int) -> Response:
    """Queue once more, with its choices, whatever made files that are out of date; these stay beside."""
    job = job_of(request, job_id)
    delivered, home = job.facts("deliverable"), job.subfolder("deliverables")
    names = {
        delivered[path]["entry"]: _beside(home, _named(path, delivered[path]))
        for path in sorted(fieldbook.stale_files(job.row, delivered), reverse=True)
        if delivered[path]["operation"].startswith("deliver.")
    }
    for entry in queries.done_entries(job.row):
        if entry.number in names:
            name = names[entry.number]
            if entry.params.get("each"):  # several files, named after the one that was asked for
                name = _beside(home, os.path.basename(entry.params["path"]), parted=True)
            params = entry.params | {"path": name}
            request.app.state.queue.add(job.row, entry.operation, params, PAGE)
    return pages.page(request, "_strip.html", headers={"HX-Trigger": "queued"}, **book_context.strip(job))


def _named(path: str, about: dict) -> str:
    """What a deliverable is called: a folder by its own name, not by that of its first file."""
    return os.path.basename(os.path.dirname(path) if about.get("folder") else path)


def _beside(folder: str, name: str, parted: bool = False) -> str:
    """A name like that of a file, numbered on, that is not taken in a folder, and if ``parted`` with which no
    name there begins.
    """
    stem, _, ending = name.partition(".")
    there = os.listdir(folder)
    for number in itertools.count(2):
        tried = f"{stem}-{number}.{ending}".rstrip(".")
        begun = parted and any(n.startswith(f"{stem}-{number}") for n in there)
        if tried not in there and not begun:
            return tried


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
