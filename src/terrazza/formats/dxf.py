"""Drawings as DXF R2010: polylines on layers, in metres."""

import re
from collections.abc import Sequence
from typing import Any

import numpy as np

from terrazza.files import whole

COLOURS = (7, 30, 5, 3, 6, 4)
DASHED = "GUESSED"
# Line types of layer tables: lengths (m) of a pattern as a whole, and of its dashes, dots and gaps.
PATTERNS = {
    "DASHED": [0.3, 0.2, -0.1],
    "DOTTED": [0.1, 0.0, -0.1],
    "DASH-DOT": [0.5, 0.3, -0.1, 0.0, -0.1],
}


def layer_name(text: str) -> str:
    """A layer name that DXF allows: its forbidden characters become dashes."""
    return re.sub(r'[<>/\\":;?*|=`,]', "-", text).strip() or "lines"


def write(
    path: str,
    lines: list[dict[str, Any]],
    texts: list[dict[str, Any]] | tuple[Any, ...] = (),
    layers: dict[str, dict[str, Any]] | None = None,
) -> None:
    """Write ``lines``: each with ``vertices`` (m, 2 or 3), ``layer``, ``name``, ``closed``, ``elevation``,
    ``arcs`` ((from, to) vertices on one arc); those with ``space`` as lines in space; the ``guessed`` dashed.
    ``texts``: each with ``text``, ``layer``, ``at`` (2 or 3, m) and ``height`` (m); those with ``measures``,
    two places and the ends of a line (4, 2 or 3), as dimensions.

    ``layers`` are an office's, by the layer whose lines go onto them: each with ``name``, ``colour``
    (#rrggbb, a number from 1 to 255, or nothing), ``line_type`` and ``text_height`` (m, 0: as drawn).

    The name travels as extended data under the application id TERRAZZA.
    """
    with whole(path) as partial:
        drawn(lines, texts, layers).saveas(partial)


def drawn(
    lines: list[dict[str, Any]],
    texts: list[dict[str, Any]] | tuple[Any, ...] = (),
    layers: dict[str, dict[str, Any]] | None = None,
):
    """The document that ``write`` writes."""
    import ezdxf
    from ezdxf import units
    from ezdxf.enums import MTextEntityAlignment

    document = ezdxf.new("R2010", setup=False)
    document.units = units.M
    document.header["$MEASUREMENT"] = 1
    document.appids.add("TERRAZZA")
    document.linetypes.add(DASHED, pattern=[0.15, 0.1, -0.05], description="guessed")
    space = document.layouts.get("Model")
    layers = layers or {}
    for name, pattern in PATTERNS.items():
        document.linetypes.add(name, pattern=pattern, description=name.lower())
    for number, own in enumerate(sorted({one["layer"] for one in (*lines, *texts)})):
        _add_layer(document, own, layers.get(own, {}), COLOURS[number % len(COLOURS)])
    on = lambda one: layer_name(layers[one["layer"]]["name"] if one["layer"] in layers else one["layer"])
    for line in lines:
        how = {"layer": on(line)}
        if line.get("guessed"):
            how["linetype"] = DASHED
        closed = bool(line.get("closed"))
        if line.get("space"):
            entity = space.add_polyline3d(line["vertices"], close=closed, dxfattribs=how)
        else:
            how["elevation"] = float(line.get("elevation", 0.0))
            flat = bulged(line["vertices"], line.get("arcs") or (), closed)
            entity = space.add_lwpolyline(flat, format="xyb", close=closed, dxfattribs=how)
        entity.set_xdata("TERRAZZA", [(1000, line["name"][:250])])
    for text in texts:
        tall = layers.get(text["layer"], {}).get("text_height") or text["height"]
        if text.get("measures"):
            _add_dimension(space, text, tall, {"layer": on(text)})
            continue
        how = {"layer": on(text), "char_height": tall}
        entity = space.add_mtext(text["text"].replace("\n", "\\P"), dxfattribs=how)
        entity.set_location(text["at"], attachment_point=MTextEntityAlignment.MIDDLE_CENTER)
    return document


def _add_dimension(space: Any, text: dict[str, Any], tall: float, how: dict[str, Any]) -> None:
    """A dimension that programs take for one, with strokes at its ends."""
    a, b, start, end = (np.array(p[:2], float) for p in text["measures"])
    angle = float(np.degrees(np.arctan2(*(end - start)[::-1])))
    look = {"dimtxt": tall, "dimtsz": 0.4 * tall, "dimexo": 0.0, "dimexe": 0.5 * tall, "dimgap": 0.3 * tall}
    made = space.add_linear_dim(
        base=start, p1=a, p2=b, angle=angle, text=text["text"], override=look, dxfattribs=how
    )
    made.render()


def _add_layer(document: Any, own: str, office: dict[str, Any], colour: int) -> None:
    """The layer that the lines of one go onto, with what an office says of it."""
    name, wanted = layer_name(office.get("name") or own), office.get("colour", "")
    if name in document.layers:
        return
    layer = document.layers.add(name, color=int(wanted) if wanted.isdecimal() else colour)
    if wanted.startswith("#"):
        layer.rgb = tuple(bytes.fromhex(wanted[1:]))
    if office.get("line_type"):
        layer.dxf.linetype = office["line_type"].upper()


def bulged(
    vertices: list[list[float]] | np.ndarray, arcs: Sequence[Sequence[int]], closed: bool
) -> list[tuple[float, float, float]]:
    """Vertices (x, y, bulge): those within an arc left out, the bulge (tangent of a quarter of its angle,
    positive counter-clockwise) with the vertex where it begins.
    """
    n, skip, bulge = len(vertices), set(), {}
    at = lambda k: np.array(vertices[k % n if closed else k][:2], float)
    for first, last in arcs:
        a, m, b = at(first), at((first + last) // 2), at(last)
        bulge[first] = -2 * _sagitta(a, m, b) / float(np.linalg.norm(b - a))
        skip |= set(range(first + 1, last))
    return [(*at(k), bulge.get(k, 0.0)) for k in range(n) if k not in skip]


def _sagitta(a: np.ndarray, m: np.ndarray, b: np.ndarray) -> float:
    """Height (m, to the left of a to b) of the arc through three points (2,) over the middle of its chord."""
    chord = np.linalg.norm(b - a)
    along = (b - a) / chord
    x, y = (m - a) @ along - chord / 2, (m - a) @ np.array([-along[1], along[0]])
    # circle through (±c/2, 0) and (x, y): its middle lies at (0, k)
    k = (x**2 + y**2 - chord**2 / 4) / (2 * y)
    return float(k + np.sign(y) * np.hypot(k, chord / 2))
