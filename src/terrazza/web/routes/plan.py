"""The plan as a picture: what may be chosen, and its tiles."""

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response

from terrazza.web.contexts import plan as context
from terrazza.web.routes.common import FOR_GOOD, job_of

router = APIRouter(prefix="/jobs/{job_id}/plan")


@router.get(".json")
def about(request: Request, job_id: int) -> Response:
    return JSONResponse(context.build(job_of(request, job_id)), headers={"Cache-Control": "no-store"})


@router.get("/{version}/{how}/{level}/{x}_{y}.png")
def tile(
    request: Request,
    job_id: int,
    version: str,
    how: str,
    level: int,
    x: int,
    y: int,
    scans: str = "",
    hidden: str = "",
    low: float | None = None,
    high: float | None = None,
) -> Response:
    """One tile; ``version`` makes the address new whenever what it shows has changed."""
    numbers = [[int(n) for n in text.split(",") if n.isdigit()] for text in (scans, hidden)]
    seen = context.Seen(scans=numbers[0], hidden=numbers[1], low=low, high=high)
    return Response(
        context.tile(job_of(request, job_id), how, level, x, y, seen),
        media_type="image/png",
        headers=FOR_GOOD,
    )
