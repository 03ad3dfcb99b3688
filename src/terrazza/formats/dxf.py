"""Drawings as DXF R2010: polylines on layers, in metres."""

import re

from terrazza.files import whole

COLOURS = (7, 30, 5, 3, 6, 4)


def layer_name(text: str) -> str:
    """A layer name that DXF allows: its forbidden characters become dashes."""
    return re.sub(r'[<>/\\":;?*|=`,]', "-", text).strip() or "lines"


def write(path: str, lines: list[dict]) -> None:
    """Write ``lines``: each with ``vertices`` (m, 2 or 3), ``layer``, ``name``, ``closed``, ``elevation``;
    those with ``space`` as lines in space.

    The name travels as extended data under the application id TERRAZZA.
    """
    import ezdxf
    from ezdxf import units

    document = ezdxf.new("R2010", setup=False)
    document.units = units.M
    document.header["$MEASUREMENT"] = 1
    document.appids.add("TERRAZZA")
    space = document.layouts.get("Model")
    for number, name in enumerate(sorted({layer_name(line["layer"]) for line in lines})):
        if name not in document.layers:
            document.layers.add(name, color=COLOURS[number % len(COLOURS)])
    for line in lines:
        how = {"layer": layer_name(line["layer"])}
        closed, flat = bool(line.get("closed")), [(v[0], v[1]) for v in line["vertices"]]
        if line.get("space"):
            entity = space.add_polyline3d(line["vertices"], close=closed, dxfattribs=how)
        else:
            how["elevation"] = float(line.get("elevation", 0.0))
            entity = space.add_lwpolyline(flat, format="xy", close=closed, dxfattribs=how)
        entity.set_xdata("TERRAZZA", [(1000, line["name"][:250])])
    with whole(path) as partial:
        document.saveas(partial)
