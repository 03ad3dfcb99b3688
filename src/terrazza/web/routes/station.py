"""The view from a station: its description, its tiles and picks in it."""

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response

from terrazza.errors import NotFound
from terrazza.web.contexts import station as context
from terrazza.web.routes.common import FOR_GOOD, job_of

router = APIRouter(prefix="/jobs/{job_id}/station")


def _named(place: str) -> tuple[int, int]:
    """(scan, stop) of an address such as “5” or “9-3”; NotFound otherwise."""
    scan, _, stop = place.partition("-")
    if not scan.isdigit() or (stop and not stop.isdigit()):
        raise NotFound(f"There is no station “{place}”.", "Open one from the plan.")
    return int(scan), int(stop or 0)


@router.get("/{place}.json")
def about(request: Request, job_id: int, place: str) -> Response:
    return JSONResponse(
        context.build(job_of(request, job_id), *_named(place)), headers={"Cache-Control": "no-store"}
    )


@router.get("/{place}/{version}/{mode}/{level}/{x}-{y}.png")
def tile(
    request: Request, job_id: int, place: str, version: str, mode: str, level: int, x: int, y: int
) -> Response:
    """One tile; ``version`` makes the address new whenever what it shows has changed."""
    return Response(
        context.tile(
            job_of(request, job_id), *_named(place), mode, min(max(level, 0), 12), max(x, 0), max(y, 0)
        ),
        media_type="image/png",
        headers=FOR_GOOD,
    )


@router.get("/{place}/pick")
def pick(request: Request, job_id: int, place: str, row: int, column: int, hidden: str = "") -> Response:
    """The stored point behind a pixel; null where there is none."""
    return JSONResponse(
        context.pick(
            job_of(request, job_id),
            *_named(place),
            row,
            column,
            [int(c) for c in hidden.split(",") if c.isdigit()],
        )
    )
