"""The web application: settings, templates, one place for errors, and the route table."""

from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from peewee import PeeweeException
from starlette.exceptions import HTTPException
from starlette.middleware.trustedhost import TrustedHostMiddleware

from terrazza.errors import NotFound, TerrazzaError, understood
from terrazza.settings import settings
from terrazza.web import pages
from terrazza.web.doors import HOSTS, Doors
from terrazza.web.routes import ROUTERS
from terrazza.work.looking import Looker
from terrazza.work.open import open_workspace
from terrazza.work.queue import Queue
from terrazza.work.trying import Lane

STATIC = Path(__file__).parent / "static"


def create() -> FastAPI:
    """The application on the workspace of the settings."""
    workspace = str(settings().workspace.resolve())
    open_workspace(workspace)
    app = FastAPI(title="Terrazza", docs_url=None, redoc_url=None, openapi_url=None)
    app.state.workspace, app.state.queue = workspace, Queue(workspace)
    app.state.looker, app.state.trying = Looker(), Lane(workspace)
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=HOSTS)
    app.add_middleware(Doors)
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    for router in ROUTERS:
        app.include_router(router)

    _wire_errors(app)
    return app


def _wire_errors(app: FastAPI) -> None:
    """Every error becomes an answer in words."""

    @app.exception_handler(TerrazzaError)
    async def known(request: Request, error: TerrazzaError) -> Response:
        return _answer(request, error.status, error.message, error.hint)

    async def failed(request: Request, error: Exception) -> Response:
        said = understood(error)
        if said is not None:
            return _answer(request, 503, said.message, said.hint)
        if isinstance(error, (OverflowError, RecursionError, UnicodeError)) or "null" in str(error):
            return _answer(
                request,
                422,
                "This request holds a number or a text that cannot be.",
                "Reload the page and try again.",
            )
        raise error

    for kind in (
        OSError,
        MemoryError,
        PeeweeException,
        OverflowError,
        RecursionError,
        UnicodeError,
        ValueError,
    ):
        app.add_exception_handler(kind, failed)

    @app.exception_handler(Exception)
    async def unforeseen(request: Request, error: Exception) -> Response:
        return _answer(
            request,
            500,
            f"Terrazza stopped on an error of its own: {type(error).__name__}.",
            "Nothing was changed. Please report this.",
        )

    @app.exception_handler(HTTPException)
    async def plain(request: Request, error: HTTPException) -> Response:
        missing = NotFound("There is nothing at this address.", "Start again from the list of jobs.")
        return _answer(
            request,
            error.status_code,
            missing.message if error.status_code == 404 else str(error.detail),
            missing.hint if error.status_code == 404 else "",
        )

    @app.exception_handler(RequestValidationError)
    async def malformed(request: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        return _answer(request, 422, f"“{first['loc'][-1]}”: {first['msg']}.", "")


def _answer(request: Request, status: int, message: str, hint: str) -> Response:
    """One error as a partial (for htmx), as JSON (for scripts) or as a page."""
    if request.headers.get("hx-request"):
        return HTMLResponse(
            pages.render(request, "_notice.html", message=message, hint=hint),
            status,
            headers={"HX-Retarget": "#notices", "HX-Reswap": "beforeend"},
        )
    if "text/html" in request.headers.get("accept", ""):
        return HTMLResponse(
            pages.render(request, "error.html", status=status, message=message, hint=hint), status
        )
    return JSONResponse({"message": message, "hint": hint}, status)
