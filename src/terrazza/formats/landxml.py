"""LandXML 1.2: surfaces of triangles with their break lines and boundaries, plan features, parcels and
alignments of straight pieces.  Element names and the order northing, easting, height are from memory of the
published schema.
"""

import os
from collections.abc import Iterator
from typing import Any

import numpy as np
from lxml import etree

from terrazza.errors import InputError
from terrazza.formats.contents import Contents
from terrazza.formats.protocol import Format, Line, Mesh, Shapes

UNITS = {"meter": "metre", "foot": "international foot", "USSurveyFoot": "US survey foot"}


def _root(path: str):
    shown = os.path.basename(path)
    try:
        safe = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=True)
        root = etree.parse(path, safe).getroot()
    except etree.XMLSyntaxError as error:
        raise InputError(f"“{shown}” is not valid XML ({str(error)[:120]}).", "Export it again.") from error
    if _tag(root) != "LandXML":
        raise InputError(f"“{shown}” is no LandXML: it holds {_tag(root)}.", "Export it again.")
    return root


def _tag(node: Any) -> str:
    return etree.QName(node).localname if isinstance(node.tag, str) else ""


def _all(node: Any, name: str) -> Iterator[Any]:
    return (child for child in node.iter() if _tag(child) == name)


def _points(text: str | None, width: int) -> np.ndarray:
    """(n, 3) easting, northing, height of a list of northing, easting(, height)."""
    values = np.array((text or "").split(), float)
    values = values[: len(values) // width * width].reshape(-1, width)
    height = values[:, 2] if width == 3 else np.full(len(values), np.nan)
    return np.stack([values[:, 1], values[:, 0], height], 1)


def read_shapes(path: str) -> Shapes:
    """Surfaces, and lines with their layer: break lines, boundaries, features, parcels, alignments."""
    shown, found = os.path.basename(path), Shapes()
    try:
        root = _root(path)
        for surface in _all(root, "Surface"):
            mesh = _surface(surface)
            if mesh is not None:
                found.meshes.append(mesh)
        for node in (n for name in ("Breakline", "Boundary") for n in _all(root, name)):
            lists = [(child, 3) for child in _all(node, "PntList3D")]
            lists += [(child, 2) for child in _all(node, "PntList2D")]
            for child, width in lists:
                xyz = _points(child.text, width)
                _add(found, xyz, _tag(node) == "Boundary", node.get("name", ""), _tag(node).upper())
        for name, closed in (("PlanFeature", False), ("Parcel", True), ("Alignment", False)):
            for node in _all(root, name):
                _straight(found, node, closed, name.upper())
    except (ValueError, IndexError, KeyError) as error:
        what = f"“{shown}” cannot be understood ({str(error)[:80]})."
        raise InputError(what, "Export it again.") from error
    return found


def _surface(surface: Any) -> Mesh | None:
    numbers, places = [], []
    for point in _all(surface, "P"):
        numbers.append(int(point.get("id", len(numbers) + 1)))
        places.append(_points(point.text, 3)[0])
    faces = [[int(v) for v in face.text.split()[:3]] for face in _all(surface, "F") if face.get("i") != "1"]
    if not faces:
        return None
    at = {number: k for k, number in enumerate(numbers)}
    triangles = np.array([[at[v] for v in face] for face in faces], np.int64)
    return Mesh(np.array(places), triangles, surface.get("name", ""))


def _straight(found: Shapes, node: Any, closed: bool, layer: str) -> None:
    """A feature's pieces that follow each other, curves by their ends alone."""
    places = []
    for piece in node.iter():
        if _tag(piece) not in {"Line", "Curve", "Spiral"}:
            continue
        for end in ("Start", "End"):
            child = next((c for c in piece if _tag(c) == end), None)
            if child is not None and child.text:
                at = _points(child.text, 3 if len(child.text.split()) > 2 else 2)[0]
                if not places or not np.allclose(places[-1][:2], at[:2], rtol=0, atol=1e-6):
                    places.append(at)
        if _tag(piece) != "Line" and not any("curves" in note for note in found.notes):
            found.notes.append("It holds curves; they are read as the straight lines between their ends.")
    if len(places) > 1:
        _add(found, np.array(places), closed, node.get("name", ""), layer)


def _add(found: Shapes, xyz: np.ndarray, closed: bool, name: str, layer: str) -> None:
    if len(xyz) > 2 and np.allclose(xyz[0, :2], xyz[-1, :2], rtol=0, atol=1e-9):
        xyz, closed = xyz[:-1], True
    if len(xyz) > 1:
        found.lines.append(Line(xyz, closed and len(xyz) > 2, name, layer))


def look(path: str) -> Contents:
    """How many surfaces, lines and areas there are, and the unit."""
    shapes, found = read_shapes(path), Contents(path=str(path), format="LandXML", size=os.path.getsize(path))
    units = (n for name in ("Metric", "Imperial") for n in _all(_root(path), name))
    unit = next((n.get("linearUnit", "") for n in units), "")
    found.unit, found.notes = UNITS.get(unit, "unknown"), shapes.notes
    found.shapes = {
        "surfaces": len(shapes.meshes),
        "lines": len(shapes.lines) - len(shapes.areas),
        "areas": len(shapes.areas),
    }
    return found


FORMAT = Format(
    names=("LandXML",),
    look=look,
    claims=lambda start, name: b"<LandXML" in start,
    turn=4,
    read_shapes=read_shapes,
)
