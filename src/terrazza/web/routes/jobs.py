"""The list of jobs and what is done with whole jobs; a new job, and the job's page."""

import os
import shutil
import subprocess
import sys
import uuid
from typing import Annotated

from fastapi import APIRouter, BackgroundTasks, File, Form, Request, UploadFile
from fastapi.responses import FileResponse, RedirectResponse, Response

from terrazza.db import queries
from terrazza.errors import InputError, NotFound, StateError
from terrazza.web import pages
from terrazza.web.contexts import jobs as jobs_context
from terrazza.web.contexts import page as page_context
from terrazza.web.routes.common import FOR_GOOD, job_of
from terrazza.work import archive, demos, keeping

router = APIRouter()


@router.get("/")
def index(request: Request, find: str = "", just: int = 0) -> Response:
    return pages.page(
        request, "jobs.html", **jobs_context.build(request.app.state.workspace, find[:120], just)
    )


@router.post("/jobs")
def create(request: Request, name: Annotated[str, Form()] = "") -> Response:
    job = queries.create_job(request.app.state.workspace, name)
    return RedirectResponse(f"/jobs/{job.id}/import", 303)


@router.post("/jobs/demo/{key}")
def demo(request: Request, key: str) -> Response:
    """Begin one of the demos, its field data made in a process of its own, and open it."""
    wanted = demos.DEMOS.get(key)
    if wanted is None:
        raise NotFound(f"There is no demo “{key}”.", "Choose one from the list of jobs.")
    words = ["-m", "terrazza.cli.main", "demo", "--which", key, "--for-page"]
    words += ["--workspace", request.app.state.workspace]
    done = subprocess.run([sys.executable, *words], capture_output=True, text=True, timeout=300)
    if done.returncode:
        raise StateError("The demo could not be made.", done.stderr.strip()[-300:])
    row = queries.job_by(name=wanted.name)
    request.app.state.queue.go_on(row)
    return RedirectResponse(f"/jobs/{row.id}/{wanted.step}", 303)


@router.post("/jobs/restored")
def restore(
    request: Request, file: Annotated[UploadFile, File()], name: Annotated[str, Form()] = ""
) -> Response:
    """Bring a backup into the workspace."""
    workspace = request.app.state.workspace
    if not file.filename:
        raise InputError("No backup was chosen.", "Choose a file that a backup was written to.")
    partial = os.path.join(workspace, f"upload-{uuid.uuid4().hex}.part")
    try:
        with open(partial, "wb") as out:
            shutil.copyfileobj(file.file, out, 1 << 20)
        row = archive.restore(workspace, partial, name)
    except InputError as error:
        error.message = error.message.replace(os.path.basename(partial), file.filename)
        raise
    finally:
        if os.path.exists(partial):
            os.unlink(partial)
    return RedirectResponse(f"/jobs/{row.id}", 303)


@router.post("/jobs/{job_id}/name")
def rename(request: Request, job_id: int, name: Annotated[str, Form()] = "") -> Response:
    keeping.rename(queries.job_by(id=job_id), name)
    return RedirectResponse("/", 303)


@router.post("/jobs/{job_id}/kept")
def keep(request: Request, job_id: int, where: Annotated[str, Form()] = "") -> Response:
    """Put a job away, delete it, or bring it back."""
    keeping.put(queries.job_by(id=job_id), where)
    return RedirectResponse(f"/?just={job_id}" if where == keeping.DELETED else "/", 303)


@router.post("/jobs/{job_id}/removed")
def remove(request: Request, job_id: int) -> Response:
    """Remove a deleted job for good."""
    keeping.remove(request.app.state.workspace, queries.job_by(id=job_id))
    return RedirectResponse("/", 303)


@router.get("/jobs/{job_id}/backup.tar")
def backup(request: Request, job_id: int, after: BackgroundTasks) -> Response:
    """The whole job as one file."""
    row, workspace = queries.job_by(id=job_id), request.app.state.workspace
    path = os.path.join(workspace, f"download-{uuid.uuid4().hex}.part")
    archive.backup(workspace, row, path)
    after.add_task(os.unlink, path)
    return FileResponse(path, media_type="application/x-tar", filename=f"{row.name}.tar", background=after)


@router.get("/jobs/{job_id}/plan.png")
def thumbnail(request: Request, job_id: int) -> Response:
    """A small plan; its address says of which state of the job."""
    return FileResponse(
        jobs_context.thumbnail(job_of(request, job_id)), media_type="image/png", headers=FOR_GOOD
    )


@router.get("/jobs/{job_id}")
def open_job(request: Request, job_id: int) -> Response:
    return RedirectResponse(f"/jobs/{job_id}/{page_context.first_step(job_of(request, job_id))}", 303)


@router.get("/jobs/{job_id}/{step}")
def show(request: Request, job_id: int, step: str) -> Response:
    job = job_of(request, job_id)
    return pages.page(
        request, "job.html", headers={"Cache-Control": "no-store"}, **page_context.build(job, step)
    )
