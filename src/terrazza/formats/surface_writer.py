"""Surfaces of triangles as LandXML 1.2 (TIN; northing, easting, height), DXF R2010 (3D faces) or OBJ, in
metres.
"""

import datetime
import os

import numpy as np
from lxml import etree

from terrazza.errors import ParamsError
from terrazza.files import whole

SPACE = "http://www.landxml.org/schema/LandXML-1.2"
ENDINGS = (".xml", ".dxf", ".obj")


def write(path: str, vertices: np.ndarray, triangles: np.ndarray, name: str) -> None:
    """By the ending of ``path``: vertices (n, 3) and triangles (m, 3); ParamsError for other endings."""
    forms = dict(zip(ENDINGS, (_landxml, _dxf, _obj)))
    ending = os.path.splitext(path)[1].lower()
    if ending not in forms:
        raise ParamsError(f"A surface is not written as “{ending}”.", f"Use {', '.join(ENDINGS)}.")
    with whole(path) as partial:
        forms[ending](partial, vertices, triangles, name)


def _landxml(path: str, vertices, triangles, name: str) -> None:
    now = datetime.datetime.now()
    with etree.xmlfile(path, encoding="utf-8") as out:
        out.write_declaration()
        about = {"version": "1.2", "date": f"{now:%Y-%m-%d}", "time": f"{now:%H:%M:%S}"}
        with out.element("LandXML", about, nsmap={None: SPACE}):
            with out.element("Units"):
                units = {"areaUnit": "squareMeter", "linearUnit": "meter", "volumeUnit": "cubicMeter"}
                out.write(
                    etree.Element("Metric", units | {"temperatureUnit": "celsius", "pressureUnit": "HPA"})
                )
            out.write(etree.Element("Application", {"name": "Terrazza"}))
            with out.element("Surfaces"), out.element("Surface", {"name": name}):
                with out.element("Definition", {"surfType": "TIN"}):
                    with out.element("Pnts"):
                        for k, (x, y, z) in enumerate(vertices.tolist(), 1):
                            point = etree.Element("P", {"id": str(k)})
                            point.text = f"{y:.4f} {x:.4f} {z:.4f}"
                            out.write(point)
                    with out.element("Faces"):
                        for a, b, c in (triangles + 1).tolist():
                            face = etree.Element("F")
                            face.text = f"{a} {b} {c}"
                            out.write(face)


def _dxf(path: str, vertices, triangles, name: str) -> None:
    import ezdxf
    from ezdxf import units

    from terrazza.formats.dxf import layer_name

    document = ezdxf.new("R2010", setup=False)
    document.units = units.M
    layer = layer_name(name)
    document.layers.add(layer, color=3)
    space = document.layouts.get("Model")
    for corners in vertices[triangles].tolist():
        space.add_3dface([*corners, corners[2]], dxfattribs={"layer": layer})
    document.saveas(path)


def _obj(path: str, vertices, triangles, name: str) -> None:
    with open(path, "w", encoding="utf-8") as out:
        out.write(f"o {name}\n")
        out.writelines(f"v {x:.4f} {y:.4f} {z:.4f}\n" for x, y, z in vertices.tolist())
        out.writelines(f"f {a} {b} {c}\n" for a, b, c in (triangles + 1).tolist())
