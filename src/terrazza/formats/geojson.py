"""GeoJSON (RFC 7946): lines and areas.  Coordinates are taken as they are: in practice files of surveys hold
grid coordinates, which the standard's predecessor allowed; a note says where they look like degrees.
"""

import os
from typing import Any

import numpy as np
import orjson

from terrazza.errors import InputError
from terrazza.formats.contents import Contents
from terrazza.formats.protocol import Format, Line, Shapes

NAMES = ("name", "Name", "NAME", "id")
LAYERS = ("layer", "Layer", "LAYER", "class", "type")


def read_shapes(path: str) -> Shapes:
    """Lines and areas (outer rings and holes as closed lines) of a FeatureCollection, Feature or geometry;
    missing heights are NaN.
    """
    shown = os.path.basename(path)
    try:
        with open(path, "rb") as file:
            data = orjson.loads(file.read().removeprefix(b"\xef\xbb\xbf"))
    except orjson.JSONDecodeError as error:
        raise InputError(f"“{shown}” is not valid JSON ({error}).", "Export it again.") from error
    found = Shapes()
    try:
        _collect(data, {}, found, 0)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise InputError(f"“{shown}” is no GeoJSON ({str(error)[:80]}).", "Export it again.") from error
    every = [line.xyz[:, :2] for line in found.lines]
    if every and (np.abs(np.concatenate(every)) <= [180, 90]).all():
        found.notes.append("Its coordinates look like longitude and latitude in degrees.")
    return found


def _collect(node: dict[str, Any], about: dict[str, Any], found: Shapes, depth: int) -> None:
    if depth > 50:
        raise ValueError("collections within collections")
    kind = node["type"]
    if kind == "FeatureCollection":
        for feature in node["features"]:
            _collect(feature, about, found, depth + 1)
    elif kind == "Feature":
        if node.get("geometry"):
            more = {"id": node.get("id"), **(node.get("properties") or {})}
            _collect(node["geometry"], more, found, depth + 1)
    elif kind == "GeometryCollection":
        for geometry in node["geometries"]:
            _collect(geometry, about, found, depth + 1)
    elif kind in {"LineString", "MultiLineString", "Polygon", "MultiPolygon"}:
        rings = node["coordinates"]
        if kind == "LineString":
            rings = [rings]
        elif kind == "MultiPolygon":
            rings = [ring for polygon in rings for ring in polygon]
        for ring in rings:
            _line(ring, "Polygon" in kind, about, found)
    elif kind not in {"Point", "MultiPoint"}:
        raise ValueError(f"a {kind}")


def _line(ring: list[list[float]], closed: bool, about: dict[str, Any], found: Shapes) -> None:
    xyz = np.array([[*map(float, p[:3]), *[np.nan] * (3 - len(p))] for p in ring]).reshape(-1, 3)
    if len(xyz) > 1 and np.array_equal(xyz[0, :2], xyz[-1, :2]):
        xyz, closed = xyz[:-1], True
    if len(xyz) < 2 + closed or not np.isfinite(xyz[:, :2]).all():
        raise ValueError("a line of too few points, or of none")
    first = lambda names: next((str(about[n]) for n in names if about.get(n) is not None), "")
    found.lines.append(Line(xyz, closed, first(NAMES), first(LAYERS)))


def look(path: str) -> Contents:
    """How many lines and areas there are."""
    shapes = read_shapes(path)
    found = Contents(path=str(path), format="GeoJSON", size=os.path.getsize(path), unit="unknown")
    found.notes = shapes.notes
    found.shapes = {"lines": len(shapes.lines) - len(shapes.areas), "areas": len(shapes.areas)}
    return found


FORMAT = Format(
    names=("GeoJSON",),
    look=look,
    claims=lambda start, name: (
        start.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{")
        and (name.endswith((".geojson", ".json")) or b'"type"' in start)
    ),
    turn=5,
    read_shapes=read_shapes,
)
