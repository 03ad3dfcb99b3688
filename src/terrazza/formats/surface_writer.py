"""Surfaces of triangles as LandXML 1.2 (TIN; northing, easting, height), DXF R2010 (3D faces), OBJ or PLY,
in metres.
"""

import os

import numpy as np

from terrazza.errors import ParamsError
from terrazza.files import whole
from terrazza.formats import landxml_writer
from terrazza.formats.protocol import Mesh

ENDINGS = (".xml", ".dxf", ".obj", ".ply")


def write(path: str, mesh: Mesh) -> None:
    """By the ending of ``path``; ParamsError for other endings."""
    forms = dict(zip(ENDINGS, (_landxml, _dxf, _obj, _ply)))
    ending = os.path.splitext(path)[1].lower()
    if ending not in forms:
        raise ParamsError(f"A surface is not written as “{ending}”.", f"Use {', '.join(ENDINGS)}.")
    with whole(path) as partial:
        forms[ending](partial, mesh)


def _landxml(path: str, mesh: Mesh) -> None:
    landxml_writer.write(path, [mesh], [])


def _dxf(path: str, mesh: Mesh) -> None:
    import ezdxf
    from ezdxf import units

    from terrazza.formats.dxf import layer_name

    document = ezdxf.new("R2010", setup=False)
    document.units = units.M
    layer = layer_name(mesh.name)
    document.layers.add(layer, color=3)
    space = document.layouts.get("Model")
    for corners in mesh.vertices[mesh.triangles].tolist():
        space.add_3dface([*corners, corners[2]], dxfattribs={"layer": layer})
    document.saveas(path)


def _obj(path: str, mesh: Mesh) -> None:
    with open(path, "w", encoding="utf-8") as out:
        out.write(f"o {mesh.name}\n")
        out.writelines(f"v {x:.4f} {y:.4f} {z:.4f}\n" for x, y, z in mesh.vertices.tolist())
        out.writelines(f"f {a} {b} {c}\n" for a, b, c in (mesh.triangles + 1).tolist())


def _ply(path: str, mesh: Mesh) -> None:
    """Binary (Turk 1994), coordinates as doubles."""
    faces = np.zeros(len(mesh.triangles), np.dtype([("many", "u1"), ("corners", "<i4", (3,))]))
    faces["many"], faces["corners"] = 3, mesh.triangles
    heading = [
        "ply",
        "format binary_little_endian 1.0",
        "comment Terrazza, metres",
        f"element vertex {len(mesh.vertices)}",
        *(f"property double {axis}" for axis in "xyz"),
        f"element face {len(faces)}",
        "property list uchar int vertex_indices",
        "end_header",
    ]
    with open(path, "wb") as out:
        out.write(("\n".join(heading) + "\n").encode("ascii"))
        out.write(np.round(mesh.vertices, 4).astype("<f8").tobytes())
        out.write(faces.tobytes())
