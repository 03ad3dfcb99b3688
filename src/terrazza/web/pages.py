"""Rendering templates: the environment, its filters, and the one place for addresses."""

import time
from dataclasses import replace
from hashlib import sha1
from pathlib import Path

from fastapi import Request
from fastapi.responses import HTMLResponse
from jinja2 import Environment, FileSystemLoader, StrictUndefined, pass_context, select_autoescape

from terrazza import __version__
from terrazza.core.classify.classes import name as class_name
from terrazza.db import queries
from terrazza.operations.spine.notation import Notation
from terrazza.store import schema

HERE = Path(__file__).parent


def _stamp() -> str:
    """Changes whenever a shipped script or style does, so that browsers may keep them for good."""
    files = sorted(
        p for p in (HERE / "static").rglob("*") if p.suffix in {".js", ".css"} and "vendor" not in p.parts
    )
    return sha1(b"".join(p.read_bytes() for p in files) + __version__.encode()).hexdigest()[:10]


@pass_context
def number(context, value, decimals: int = 1) -> str:
    """A figure with the job's marks, between thousands at least a thin space; a dash for nothing."""
    return figure(value, decimals, context.get("notation") or Notation())


def figure(value, decimals: int = 1, notation: Notation = Notation()) -> str:
    if notation.thousands == "none":
        notation = replace(notation, thousands="thin space")
    return "–" if value is None else notation.number(value, decimals)


@pass_context
def length(context, metres, decimals: int | None = None) -> str:
    """A length in the job's unit and marks, without the unit's name."""
    notation = context.get("notation") or Notation()
    return "–" if metres is None else notation.number(metres / notation.metres, decimals)


@pass_context
def small(context, millimetres, decimals: int = 1) -> str:
    """A residual or a standard deviation in the job's unit for such (see ``Notation.small_short``), without
    its name.
    """
    return (
        "–" if millimetres is None else (context.get("notation") or Notation()).small(millimetres, decimals)
    )


def count(value) -> str:
    """A count: 4 312, 512 k or 3.9 M."""
    if value is None:
        return "–"
    return (
        f"{value / 1e6:.1f} M"
        if value >= 1e6
        else f"{value / 1e3:.0f} k"
        if value >= 1e4
        else figure(value, 0)
    )


def size(value) -> str:
    """Bytes for people."""
    for unit, step in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if value >= step:
            return f"{value / step:.1f} {unit}"
    return f"{value} bytes"


def duration(seconds) -> str:
    """Seconds for people."""
    if seconds is None:
        return ""
    return f"{seconds:.1f} s" if seconds < 60 else f"{int(seconds // 60)} min {int(seconds % 60)} s"


# Colourings of the points; columns of their own give others.
COLOURINGS = ("intensity", "native", "photo", "scan", "class", "height", "dimension")
SCRIPTS = HERE / "static" / "js"
FIRST = ("frame.js", "trouble.js", "glance.js")  # what draws the first points


def _modules() -> list[str]:
    """Addresses of the table's scripts, what draws the first points first: they begin to load at once, and
    already while a job is being chosen.
    """
    found = sorted(SCRIPTS.rglob("*.js"), key=lambda path: (path.name not in FIRST, path))
    own = [f"/static/js/{path.relative_to(SCRIPTS).as_posix()}" for path in found]
    return [*own, "/static/vendor/three.module.js"]


def _tools() -> list[str]:
    """Addresses of the table's tools: every script in their folder is one."""
    return [f"/static/js/tools/{path.name}" for path in sorted((SCRIPTS / "tools").glob("*.js"))]


environment = Environment(
    loader=FileSystemLoader(HERE / "templates"),
    autoescape=select_autoescape(),
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
environment.filters |= {
    "number": number,
    "length_of": length,
    "small": small,
    "count": count,
    "size": size,
    "duration": duration,
    "class_name": class_name,
    "clock": lambda t: time.strftime("%H:%M", time.localtime(t)),
    "day": lambda t: time.strftime("%d %b %Y", time.localtime(t)),
}
environment.globals |= {"version": __version__, "stamp": _stamp(), "modules": _modules(), "tools": _tools()}
environment.globals["colourings"] = [*COLOURINGS, *schema.layout()["ramps"].values()]


def render(request: Request, template: str, /, **context) -> str:
    if "job" in context:
        context["notation"] = Notation(**queries.fact_values(context["job"].id, "notation").get("", {}))
    return environment.get_template(template).render(request=request, **context)


def page(
    request: Request, template: str, /, status: int = 200, headers: dict | None = None, **context
) -> HTMLResponse:
    """A template as a response."""
    return HTMLResponse(render(request, template, **context), status, headers=headers)
