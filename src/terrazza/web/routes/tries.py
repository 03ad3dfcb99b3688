"""Try-outs: what a rule would do to what is in view, before it is done."""

import orjson
from fastapi import APIRouter, Request
from fastapi.responses import Response
from pydantic import BaseModel
from starlette.datastructures import FormData

from terrazza.operations.spine.base import find
from terrazza.web.contexts import forms
from terrazza.web.contexts.regions import Wanted
from terrazza.web.contexts.scene import origin_of
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/try")


class Ask(BaseModel):
    """The fields of an operation's form, in order, and what is in view."""

    values: list[tuple[str, str]]
    region: Wanted


@router.post("/{operation}")
def ask(request: Request, job_id: int, operation: str, wanted: Ask) -> Response:
    """u32 length, JSON (``figures``, ``says``, ``whole``, ``seconds``), then f32×3 places of what would go,
    less the scene's origin.  204 where a later try-out has taken its place.
    """
    job, kind = job_of(request, job_id), find(operation)
    params = kind.check(forms.values(kind, FormData(wanted.values))).model_dump()
    forms.need_reach(job, kind, params)
    region = wanted.region.model_dump() | {"origin": origin_of(job).tolist()}
    found = request.app.state.trying.ask(job_id, operation, params, region)
    if found is None:
        return Response(status_code=204)
    points = found.pop("points")
    told = orjson.dumps(found | {"says": says(found["figures"])})
    told += b" " * (-len(told) % 4)
    return Response(
        len(told).to_bytes(4, "little") + told + points.tobytes(), media_type="application/octet-stream"
    )


def says(figures: dict) -> str:
    """What would go, in a sentence."""
    would = figures.get("would", "go")
    return f"{figures['points']:,} of {figures['of']:,} points would {would} ({figures['share']:.2%})"
