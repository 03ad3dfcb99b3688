"""Pictures: panoramas of scans as thumbnails, targets, photos."""

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, Response

from terrazza.errors import NotFound
from terrazza.operations.table.naming import need_there
from terrazza.web.contexts import pairs, placements
from terrazza.web.contexts import pictures as context
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/pictures")
KEEP = {"Cache-Control": "private, max-age=3600"}


@router.get("/scan/{scan}.png")
def scan(request: Request, job_id: int, scan: int) -> Response:
    return FileResponse(context.panorama(job_of(request, job_id), scan), media_type="image/png", headers=KEEP)


@router.get("/inside/{index}.png")
def inside(request: Request, job_id: int, index: int, file: str, axes: str = "+x +y +z") -> Response:
    """Thumbnail of a scan in a file that is not imported yet, in the axes chosen."""
    return Response(
        context.inside(job_of(request, job_id), request.app.state.looker, file, index, axes),
        media_type="image/png",
        headers=KEEP,
    )


@router.get("/placement/{scan}/{alternative}/{how}.png")
def placement(request: Request, job_id: int, scan: int, alternative: int, how: str) -> Response:
    """A doubted scan at one of the placements that it has to choose from, in “plan” or in a “slab”."""
    packed = placements.png(job_of(request, job_id), scan, alternative, how)
    return Response(packed, media_type="image/png", headers=KEEP)


@router.get("/pair/{a}-{b}/{kind}.png")
def pair(request: Request, job_id: int, a: int, b: int, kind: str) -> Response:
    """How far the “walls” or “floors” of one scan lie from what another saw."""
    return Response(pairs.png(job_of(request, job_id), a, b, kind), media_type="image/png", headers=KEEP)


@router.get("/sketch/{number}")
def sketch(request: Request, job_id: int, number: int) -> Response:
    job = job_of(request, job_id)
    record = need_there(job, "sketch", number)
    return FileResponse(job.own_file("photos", record["file"]), headers=KEEP)


@router.get("/target/{number}.png")
def target(request: Request, job_id: int, number: int) -> Response:
    job = job_of(request, job_id)
    record = job.get("target", number)
    if record is None:
        raise NotFound(f"There is no target {number}.", "Look for targets again.")
    return Response(context.target(job, record), media_type="image/png", headers=KEEP)
