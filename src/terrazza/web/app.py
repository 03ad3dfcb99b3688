"""The web application: settings, templates, one place for errors, and the route table."""

from pathlib import Path
from urllib.parse import urlsplit

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.middleware.trustedhost import TrustedHostMiddleware

from terrazza.errors import NotFound, TerrazzaError
from terrazza.settings import settings
from terrazza.web import pages
from terrazza.web.routes import ROUTERS
from terrazza.work.looking import Looker
from terrazza.work.open import open_workspace
from terrazza.work.queue import Queue

STATIC = Path(__file__).parent / "static"


def create() -> FastAPI:
    """The application on the workspace of the settings."""
    workspace = str(settings().workspace.resolve())
    open_workspace(workspace)
    app = FastAPI(title="Terrazza", docs_url=None, redoc_url=None, openapi_url=None)
    app.state.workspace, app.state.queue = workspace, Queue(workspace)
    app.state.looker = Looker()
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=["127.0.0.1", "localhost", "[::1]", "testserver"])
    app.add_middleware(SameOrigin)
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    for router in ROUTERS:
        app.include_router(router)

    @app.exception_handler(TerrazzaError)
    async def known(request: Request, error: TerrazzaError) -> Response:
        return _answer(request, error.status, error.message, error.hint)

    @app.exception_handler(HTTPException)
    async def plain(request: Request, error: HTTPException) -> Response:
        missing = NotFound("There is nothing at this address.", "Start again from the list of jobs.")
        return _answer(request, error.status_code, missing.message if error.status_code == 404 else str(error.detail), missing.hint if error.status_code == 404 else "")

    @app.exception_handler(RequestValidationError)
    async def malformed(request: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        return _answer(request, 422, f"“{first['loc'][-1]}”: {first['msg']}.", "")

    return app


class SameOrigin:
    """Refuses what another site's page asks to be changed."""

    def __init__(self, app):
        self.app = app

    async def __call__(self, scope, receive, send) -> None:
        if scope["type"] == "http" and scope["method"] not in {"GET", "HEAD"}:
            headers = Headers(scope=scope)
            if headers.get("origin") and urlsplit(headers["origin"]).netloc != headers.get("host"):
                return await JSONResponse({"message": "This request came from another site."}, 403)(scope, receive, send)
        await self.app(scope, receive, send)


def _answer(request: Request, status: int, message: str, hint: str) -> Response:
    """One error as a partial (for htmx), as JSON (for scripts) or as a page."""
    if request.headers.get("hx-request"):
        return HTMLResponse(pages.render(request, "_notice.html", message=message, hint=hint), status, headers={"HX-Retarget": "#notices", "HX-Reswap": "beforeend"})
    if "text/html" in request.headers.get("accept", ""):
        return HTMLResponse(pages.render(request, "error.html", status=status, message=message, hint=hint), status)
    return JSONResponse({"message": message, "hint": hint}, status)
