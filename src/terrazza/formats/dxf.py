"""Drawings as DXF R2010: polylines on layers, in metres."""

import re

from terrazza.files import whole

COLOURS = (7, 30, 5, 3, 6, 4)


def layer_name(text: str) -> str:
    """A layer name that DXF allows: its forbidden characters become dashes."""
    return re.sub(r'[<>/\\":;?*|=`,]', "-", text).strip() or "lines"


def write(path: str, lines: list[dict]) -> None:
    """Write ``lines``: each with ``vertices`` (m, 2 or 3), ``layer``, ``name``, ``closed``, ``elevation``.

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
        entity = space.add_lwpolyline(
            [(v[0], v[1]) for v in line["vertices"]],
            format="xy",
            close=bool(line.get("closed")),
            dxfattribs={"layer": layer_name(line["layer"]), "elevation": float(line.get("elevation", 0.0))},
        )
        entity.set_xdata("TERRAZZA", [(1000, line["name"][:250])])
    with whole(path) as partial:
        document.saveas(partial)
