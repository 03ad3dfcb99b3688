"""Surfaces of triangles as LandXML 1.2 (TIN; northing, easting, height), DXF R2010 (3D faces) or OBJ, in
metres.
"""

import os

import numpy as np

from terrazza.errors import ParamsError
from terrazza.files import whole
from terrazza.formats import landxml_writer
from terrazza.formats.protocol import Mesh

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
    landxml_writer.write(path, [Mesh(vertices, triangles, name)], [])


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
