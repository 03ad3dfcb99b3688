"""Points as they are handed to writers: chosen columns of one stretch, with one colour."""

import numpy as np

from terrazza.later import later
from terrazza.operations.pieces.leaving import Way
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.geometry import quantised

COLUMNS = ("intensity", "class", "time", "returns", "row", "column")
FINE = "extra.rgb16"  # colours of files that use more than eight bits


def _coloured(count: int, columns: tuple[str, ...], read) -> np.ndarray:
    """Colour (n, 3) of each point from the first of some columns that has one for it; black where none has.

    ``read(column)`` gives a column's values.  Photo colours are at least 1 in each part, so black in that
    column says that no photo showed the point.
    """
    rgb = np.zeros((count, 3), np.uint8)
    for n, column in enumerate(columns):
        rgb = np.asarray(read(column)) if n == 0 else np.where(rgb.any(1, keepdims=True), rgb, read(column))
    return rgb


def _deep(rgb: np.ndarray, way: Way, cloud: Cloud, read) -> np.ndarray:
    """Colours as they leave: u16 over the full scale where that is asked for, those of the file where it had
    such.
    """
    if way.depth != "16 bit":
        return rgb
    out = rgb.astype(np.uint16) * 257
    if "native_rgb" in way.colour and cloud.has(FINE):
        own = np.ones(len(rgb), bool) if way.colour[0] == "native_rgb" else ~read(way.colour[0]).any(1)
        out[own] = read(FINE)[own]
    return out


def _dressed(out: dict, count: int, cloud: Cloud, way: Way, read) -> dict:
    """Points with their other columns as they leave."""
    out |= {column: read(column) for column in COLUMNS if cloud.has(column)}
    if "intensity" in out:
        out["intensity"] = way.toned(out["intensity"])
    return out | {"rgb": _deep(_coloured(count, way.colour, read), way, cloud, read)}


def picked(cloud: Cloud, index: np.ndarray, way: Way, own: bool) -> dict:
    """Points with these indices (sorted), as ``chunk_of`` gives them. ``index`` (n,)."""
    points, read = cloud.at(index), lambda column: cloud.pick(column, index)
    return _dressed({"xyz": points if own else way.places(points)}, len(index), cloud, way, read)


def chunk_of(
    cloud: Cloud, start: int, stop: int, use, way: Way, own: bool = False, scale: float = 0.0, offset=None
) -> dict:
    """Chosen points of a stretch: ``xyz`` (m) as they leave or with ``own`` in the scan's frame, or where a
    ``scale`` is given ``position`` as whole numbers of it from ``offset`` (m); and their other columns.
    """
    read = lambda column: cloud.read(column, start, stop)[use]
    position = read("position")
    if scale and way.change is None:
        step = np.full(3, scale)
        out = {"position": quantised.moved(position, cloud.scale, cloud.offset, way.pose, step, offset)}
    else:
        points = position * cloud.scale + cloud.offset
        out = {"xyz": points if own else way.places(points)}
    if scale and way.change is not None:
        out = {"position": np.rint((out["xyz"] - offset) / scale).astype(np.int32)}
    return _dressed(out, len(position), cloud, way, read)
