"""Surfaces in OBJ (Wavefront, with polygons and negative indices) and STL (ascii and binary), read by a
library.
"""

import os

import numpy as np

from terrazza.errors import InputError
from terrazza.formats.contents import Contents
from terrazza.formats.protocol import Format, Mesh, Shapes

AGAIN = "Export it again, as a surface of triangles."


def read(path: str, kind: str) -> list[Mesh]:
    """The surfaces of a file, their vertices as the file has them; InputError where it holds none."""
    import trimesh

    name = os.path.basename(path)
    try:
        with open(path, "rb") as file:
            scene = trimesh.load_scene(file, file_type=kind, process=False, maintain_order=True)
        parts = [g for g in scene.dump() if isinstance(g, trimesh.Trimesh) and len(g.faces)]
    except Exception as error:  # the library raises errors of many kinds on damaged files
        first = (str(error).strip() or type(error).__name__).splitlines()[0]
        raise InputError(f"“{name}” cannot be read as {kind.upper()} ({first[:120]}).", AGAIN) from error
    found = [Mesh(np.asarray(p.vertices, float), np.asarray(p.faces, np.int64)) for p in parts]
    if not found:
        raise InputError(f"“{name}” holds no triangles.", AGAIN)
    for mesh in found:
        if not np.isfinite(mesh.vertices).all():
            raise InputError(f"“{name}” has vertices that are no numbers.", AGAIN)
    return found


def _kind(path: str) -> str:
    return os.path.splitext(path)[1].lower().lstrip(".")


def read_shapes(path: str) -> Shapes:
    """The surfaces of an OBJ or STL file."""
    return Shapes(meshes=read(path, _kind(path)))


def look(path: str) -> Contents:
    """How many surfaces and triangles there are."""
    kind, meshes = _kind(path), read_shapes(path).meshes
    found = Contents(path=str(path), format=kind.upper(), size=os.path.getsize(path), unit="unknown")
    found.shapes = {"surfaces": len(meshes), "triangles": sum(len(m.triangles) for m in meshes)}
    return found


FORMAT = Format(
    names=("OBJ", "STL"),
    look=look,
    claims=lambda start, name: name.endswith((".obj", ".stl")),
    turn=5,
    read_shapes=read_shapes,
)
