"""Files on their way in: uploads in slices that can be resumed, and a look inside before importing."""

import contextlib
import fcntl
import os
from typing import Annotated

from fastapi import APIRouter, Form, Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import JSONResponse, Response

from terrazza.errors import InputError, StateError
from terrazza.web import pages
from terrazza.web.contexts import inbox as context
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/inbox")
PART = ".upload"
UNFINISHED = (PART, ".part")
Bytes = Annotated[int, Query(ge=0, le=2**60)]


def _path(request: Request, job_id: int, name: str) -> str:
    """Where an upload of this plain file name lies; InputError for names that reach elsewhere."""
    if (
        not name
        or name != os.path.basename(name)
        or name.startswith(".")
        or "\0" in name
        or len(name.encode(errors="replace")) > 200
        or name.lower().endswith(UNFINISHED)
    ):
        raise InputError(f"“{name}” is no file name that can be taken.", "Rename the file.")
    return os.path.join(job_of(request, job_id).subfolder("inbox"), name)


@router.head("/{name}")
def offset(request: Request, job_id: int, name: str) -> Response:
    """How many bytes of this upload are here."""
    path = _path(request, job_id, name)
    have = os.path.getsize(path + PART) if os.path.exists(path + PART) else 0
    return Response(
        headers={"X-Offset": str(have), "X-Whole": str(os.path.getsize(path)) if os.path.exists(path) else ""}
    )


@router.put("/{name}")
async def take(request: Request, job_id: int, name: str, offset: Bytes, total: Bytes) -> Response:
    """Append one slice at ``offset``; with the last one the file gets its name."""
    path = _path(request, job_id, name)
    have = os.path.getsize(path + PART) if os.path.exists(path + PART) else 0
    if offset > have:
        raise StateError(
            f"The upload of “{name}” is at {have:,} bytes, not at {offset:,}.", "It goes on from there."
        )
    with _alone(path + PART, name) as out:
        out.seek(offset)
        async for chunk in request.stream():
            if out.tell() + len(chunk) > total:
                raise InputError(
                    f"More bytes arrive for “{name}” than were announced.", "Choose the file again."
                )
            await run_in_threadpool(out.write, chunk)
        out.truncate()
        have = out.tell()
    if have == total:
        os.replace(path + PART, path)
        if name.lower().endswith(".zip"):
            await run_in_threadpool(context.unpack, path)
    return JSONResponse({"offset": have, "whole": have == total})


@contextlib.contextmanager
def _alone(path: str, name: str):
    """An unfinished upload open for writing, never through a link; StateError while another one of that name
    is being taken.
    """
    with os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644), "r+b") as out:
        try:
            fcntl.flock(out, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise StateError(
                f"“{name}” is being brought already, in another window.", "Wait until that is done."
            ) from error
        yield out


@router.post("/link")
def link(request: Request, job_id: int, path: Annotated[str, Form()]) -> Response:
    """Take a file or a folder of this computer into the inbox without copying it."""
    job = job_of(request, job_id)
    context.link(job, path)
    return pages.page(
        request, "_inbox.html", headers={"HX-Trigger-After-Swap": "brought"}, **context.build(job)
    )


@router.get("/inside/{index}")
def inside(request: Request, job_id: int, index: int, file: str) -> Response:
    """What a look inside one scan has found by now."""
    return pages.page(
        request,
        "_inside.html",
        **context.inside(job_of(request, job_id), request.app.state.looker, file, index),
    )


@router.delete("/{name}")
def remove(request: Request, job_id: int, name: str) -> Response:
    path = _path(request, job_id, name)
    for p in (path, path + PART):
        if os.path.lexists(p):
            os.unlink(p)
    return pages.page(request, "_inbox.html", **context.build(job_of(request, job_id)))


@router.get("")
def show(request: Request, job_id: int) -> Response:
    return pages.page(request, "_inbox.html", **context.build(job_of(request, job_id)))
