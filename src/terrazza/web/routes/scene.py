"""What the canvases need: the scene, binary nodes, the exact point behind a pick, and the statement of a
deliverable.
"""

import orjson
from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response

from terrazza.errors import NotFound
from terrazza.web.contexts import nodes as node_bytes
from terrazza.web.contexts import picking, regions, shades, surfaces
from terrazza.web.contexts import scene as context
from terrazza.web.routes.common import job_of

router = APIRouter(prefix="/jobs/{job_id}/scene")
FOR_GOOD = {"Cache-Control": "public, max-age=31536000, immutable"}


@router.get(".json")
def scene(request: Request, job_id: int) -> Response:
    job = job_of(request, job_id)
    told = job.once("scene", lambda: orjson.dumps(context.build(job), option=orjson.OPT_SERIALIZE_NUMPY))
    return Response(told, media_type="application/json", headers={"Cache-Control": "no-store"})


@router.get("/nodes/{scan}/{version}")
def nodes(request: Request, job_id: int, scan: int, version: str, n: str, shade: str = "") -> Response:
    """Several nodes of one scan in one answer, with a dimension where asked (see ``contexts.nodes.pack``)."""
    job = job_of(request, job_id)
    _need(job, scan, version)
    wanted = [int(k) for k in n.split(",") if k.isdigit()][:64]
    packed = node_bytes.pack(job, scan, wanted, shade=shades.need(job, shade))
    return Response(packed, media_type="application/octet-stream", headers=FOR_GOOD)


@router.get("/roots")
def roots(request: Request, job_id: int) -> Response:
    """The coarsest points of every scan (see ``contexts.nodes.roots``)."""
    return Response(
        node_bytes.roots(job_of(request, job_id)),
        media_type="application/octet-stream",
        headers={"Cache-Control": "no-store"},
    )


@router.get("/tree/{scan}/{version}")
def tree(request: Request, job_id: int, scan: int, version: str) -> Response:
    """All nodes of one scan, without points (see ``contexts.nodes.tree``)."""
    job = job_of(request, job_id)
    _need(job, scan, version)
    return Response(node_bytes.tree(job, scan), media_type="application/octet-stream", headers=FOR_GOOD)


@router.get("/surface/{number}/{version}")
def surface(request: Request, job_id: int, number: int, version: str) -> Response:
    """The triangles of a surface (see ``contexts.surfaces.pack``)."""
    packed = surfaces.pack(job_of(request, job_id), number, version)
    return Response(packed, media_type="application/octet-stream", headers=FOR_GOOD)


@router.post("/region")
def region(request: Request, job_id: int, wanted: regions.Wanted) -> Response:
    """Points of a slab, a box or what a view shows of them (see ``contexts.regions.pack``)."""
    return Response(
        regions.pack(job_of(request, job_id), wanted),
        media_type="application/octet-stream",
        headers={"Cache-Control": "no-store"},
    )


@router.post("/pick")
def pick(request: Request, job_id: int, ray: picking.Ray) -> Response:
    """The stored point behind a pixel, in full precision; null where there is none."""
    return JSONResponse(picking.pick(job_of(request, job_id), ray))


def _need(job, scan: int, version: str) -> None:
    if context.version_of(job, job.scan(scan).id) != version:
        raise NotFound("These points have a newer version.", "Load the scene again.")
