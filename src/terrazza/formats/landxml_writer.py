"""LandXML 1.2: surfaces of triangles, plan features of straight pieces and points, in metres, as northing,
easting, height.  Element names and their order are from memory of the published schema.
"""

import datetime
from collections.abc import Sequence
from typing import Any

import numpy as np
from lxml import etree

from terrazza import __version__
from terrazza.formats.protocol import Line, Mesh

SPACE = "http://www.landxml.org/schema/LandXML-1.2"


def write(
    path: str, meshes: list[Mesh], lines: list[Line], points: Sequence[Any] = (), system: str = ""
) -> None:
    """Write a file: surfaces, lines (n, 3) m and ``points`` (name, (3,) m); ``system``: the coordinate
    system's name.
    """
    now = datetime.datetime.now()
    with etree.xmlfile(path, encoding="utf-8") as out:
        out.write_declaration()
        about = {"version": "1.2", "date": f"{now:%Y-%m-%d}", "time": f"{now:%H:%M:%S}"}
        with out.element("LandXML", about, nsmap={None: SPACE}):
            with out.element("Units"):
                units = {"areaUnit": "squareMeter", "linearUnit": "meter", "volumeUnit": "cubicMeter"}
                more = {"temperatureUnit": "celsius", "pressureUnit": "HPA"}
                out.write(etree.Element("Metric", units | more))
            if system:
                out.write(etree.Element("CoordinateSystem", {"name": system}))
            out.write(etree.Element("Application", {"name": "Terrazza", "version": __version__}))
            if points:
                with out.element("CgPoints"):
                    for name, at in points:
                        _text(out, "CgPoint", at, {"name": name})
            if meshes:
                with out.element("Surfaces"):
                    for mesh in meshes:
                        _surface(out, mesh)
            if lines:
                with out.element("PlanFeatures"):
                    for line in lines:
                        _feature(out, line)


def _written(at: list[float]) -> str:
    return f"{at[1]:.4f} {at[0]:.4f} {at[2]:.4f}"


def _text(out: Any, name: str, at: list[float], about: dict[str, Any] | None = None) -> None:
    node = etree.Element(name, about or {})
    node.text = _written(at)
    out.write(node)


def _surface(out: Any, mesh: Mesh) -> None:
    with out.element("Surface", {"name": mesh.name}):
        if mesh.breaks or mesh.outline is not None:
            _source(out, mesh)
        _definition(out, mesh)


def _source(out: Any, mesh: Mesh) -> None:
    """What the surface keeps: break lines and its outer boundary."""
    with out.element("SourceData"):
        if mesh.outline is not None:
            with out.element("Boundaries"):
                about = {"bndType": "outer", "edgeTrim": "true", "name": mesh.name}
                _list(out, "Boundary", about, np.concatenate([mesh.outline, mesh.outline[:1]]))
        if mesh.breaks:
            with out.element("Breaklines"):
                for k, line in enumerate(mesh.breaks, 1):
                    _list(out, "Breakline", {"brkType": "standard", "name": f"{mesh.name} {k}"}, line)


def _list(out: Any, name: str, about: dict[str, Any], places: np.ndarray) -> None:
    with out.element(name, about):
        node = etree.Element("PntList3D")
        node.text = " ".join(_written(at) for at in places)
        out.write(node)


def _definition(out: Any, mesh: Mesh) -> None:
    with out.element("Definition", {"surfType": "TIN"}):
        with out.element("Pnts"):
            for k, at in enumerate(mesh.vertices.tolist(), 1):
                _text(out, "P", at, {"id": str(k)})
        with out.element("Faces"):
            for a, b, c in (mesh.triangles + 1).tolist():
                face = etree.Element("F")
                face.text = f"{a} {b} {c}"
                out.write(face)


def _feature(out: Any, line: Line) -> None:
    way = np.concatenate([line.xyz, line.xyz[:1]]) if line.closed else line.xyz
    with out.element("PlanFeature", {"name": line.name, "desc": line.layer}), out.element("CoordGeom"):
        for a, b in zip(way.tolist(), way[1:].tolist()):
            with out.element("Line"):
                _text(out, "Start", a)
                _text(out, "End", b)
