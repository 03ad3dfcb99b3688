"""DXF read: lines, polylines, arcs, circles, splines and 3D faces, blocks opened, as lines and surfaces."""

import os
from collections.abc import Iterator
from typing import Any

import numpy as np

from terrazza.errors import InputError
from terrazza.formats.contents import Contents
from terrazza.formats.protocol import Format, Line, Mesh, Shapes

FLAT = 0.001  # largest distance between a curve and the straight pieces that stand for it, in the file's unit
UNITS = {1: "inch", 2: "international foot", 4: "millimetre", 6: "metre", 21: "US survey foot"}
DEEP = 8
JOINED = (
    1e-6  # pieces of a line that end nearer to each other than this are one line, in the unit of the file
)


def _document(path: str):
    import ezdxf
    from ezdxf import recover

    shown = os.path.basename(path)
    try:
        return recover.readfile(path)[0]
    except (OSError, ezdxf.DXFError, ValueError, KeyError, IndexError) as error:
        first = (str(error).strip() or type(error).__name__).splitlines()[0]
        raise InputError(f"“{shown}” cannot be read as DXF ({first[:120]}).", "Export it again.") from error


def read_shapes(path: str) -> Shapes:
    """Lines with their layers, curves within 1 mm (of a metre file), and faces as one surface a layer."""
    found, faces = Shapes(), {}
    for entity in _flat(_document(path).layouts.get("Model"), 0):
        kind, layer = entity.dxftype(), entity.dxf.layer
        if kind == "3DFACE":
            corners = [tuple(entity.dxf.get(f"vtx{k}")) for k in range(4)]
            faces.setdefault(layer, []).append(corners)
            continue
        xyz, closed = _vertices(entity)
        if len(xyz) > 1 and np.isfinite(xyz).all():
            if len(xyz) > 2 and np.allclose(xyz[0], xyz[-1], rtol=0, atol=1e-9):
                xyz, closed = xyz[:-1], True
            found.lines.append(Line(xyz, closed, _name(entity), layer))
    for layer, quads in faces.items():
        found.meshes.append(_mesh(np.array(quads, float), layer))
    return found


def _flat(entities: Any, depth: int) -> Iterator[Any]:
    """Entities with the contents of blocks in their place."""
    for entity in entities:
        if entity.dxftype() == "INSERT" and depth < DEEP:
            yield from _flat(entity.virtual_entities(), depth + 1)
        else:
            yield entity


def _vertices(entity: Any) -> tuple[np.ndarray, bool]:
    """(n, 3) vertices of an entity that is a line of some kind, in the world's axes; whether it closes."""
    kind = entity.dxftype()
    if kind == "LINE":
        return np.array([tuple(entity.dxf.start), tuple(entity.dxf.end)]), False
    if kind in {"ARC", "CIRCLE", "ELLIPSE", "SPLINE"}:
        closed = kind == "CIRCLE" or (kind == "SPLINE" and bool(entity.closed))
        return _array(entity.flattening(FLAT)), closed
    if kind == "POLYLINE" and not (entity.is_2d_polyline or entity.is_3d_polyline):
        return np.zeros((0, 3)), False
    if kind not in {"LWPOLYLINE", "POLYLINE"}:
        return np.zeros((0, 3)), False
    closed = bool(entity.closed if kind == "LWPOLYLINE" else entity.is_closed)
    parts = [_vertices(piece)[0] for piece in entity.virtual_entities()]
    if not parts:
        return np.zeros((0, 3)), closed
    joined = [parts[0]] if len(parts) == 1 or _ends_at(parts[0], parts[1]) else [parts[0][::-1]]
    for part in parts[1:]:  # pieces are given counter-clockwise, whichever way the line runs
        forward = np.allclose(joined[-1][-1], part[0], rtol=0, atol=JOINED)
        joined.append((part if forward else part[::-1])[1:])
    return np.concatenate(joined), closed


def _ends_at(part: np.ndarray, following: np.ndarray) -> bool:
    """Whether a piece ends where the one after it has an end."""
    return bool(np.isclose(following[[0, -1]], part[-1], rtol=0, atol=JOINED).all(1).any())


def _array(points: Iterator[Any]) -> np.ndarray:
    return np.array([tuple(v) for v in points], float).reshape(-1, 3)


def _name(entity: Any) -> str:
    if entity.has_xdata("TERRAZZA"):
        return next((str(v) for code, v in entity.get_xdata("TERRAZZA") if code == 1000), "")
    return ""


def _mesh(quads: np.ndarray, layer: str) -> Mesh:
    """Faces of four corners, the last two the same where three are meant, as triangles."""
    vertices, index = np.unique(quads.reshape(-1, 3), axis=0, return_inverse=True)
    index = index.reshape(-1, 4)
    triangles = np.concatenate([index[:, [0, 1, 2]], index[:, [0, 2, 3]]])
    distinct = (triangles != np.roll(triangles, 1, axis=1)).all(1)
    return Mesh(vertices, triangles[distinct], layer)


def look(path: str) -> Contents:
    """How many lines, areas and surfaces there are, and the unit that its header names."""
    document, shapes = _document(path), read_shapes(path)
    found = Contents(path=str(path), format="DXF", size=os.path.getsize(path))
    found.unit = UNITS.get(document.units, "unknown")
    found.shapes = {
        "lines": len(shapes.lines) - len(shapes.areas),
        "areas": len(shapes.areas),
        "surfaces": len(shapes.meshes),
    }
    return found


def _claims(start: bytes, name: str) -> bool:
    words = start.split()
    binary = b" Binary DXF\r\n\x1a\x00" in start[:22]
    return binary or words[:2] == [b"0", b"SECTION"] or words[:1] == [b"999"]


FORMAT = Format(names=("DXF",), look=look, claims=_claims, turn=4, read_shapes=read_shapes)
