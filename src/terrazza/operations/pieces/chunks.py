"""Points as they are handed to writers: chosen columns of one stretch, with one colour."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.later import later
from terrazza.store.cloud import Cloud

quantised = later("terrazza.core.geometry.quantised")

COLUMNS = ("intensity", "class", "time", "returns", "row", "column")


def _coloured(count: int, columns: tuple[str, ...], read) -> np.ndarray:
    """Colour (n, 3) of each point from the first of some columns that has one for it; black where none has.

    ``read(column)`` gives a column's values.  Photo colours are at least 1 in each part, so black in that
    column says that no photo showed the point.
    """
    rgb = np.zeros((count, 3), np.uint8)
    for n, column in enumerate(columns):
        rgb = np.asarray(read(column)) if n == 0 else np.where(rgb.any(1, keepdims=True), rgb, read(column))
    return rgb


def picked(cloud: Cloud, index: np.ndarray, colour: tuple[str, ...], pose) -> dict:
    """Points with these indices (sorted), as ``chunk_of`` gives them."""
    points = cloud.at(index)
    out = {"xyz": points if pose is None else rigid.apply(pose, points)}
    out |= {column: cloud.pick(column, index) for column in COLUMNS if cloud.has(column)}
    return out | {"rgb": _coloured(len(index), colour, lambda column: cloud.pick(column, index))}


def chunk_of(
    cloud: Cloud, start: int, stop: int, use, colour: tuple[str, ...], pose, scale: float = 0.0, offset=None
) -> dict:
    position = cloud.read("position", start, stop)[use]
    if scale:
        out = {
            "position": quantised.moved(position, cloud.scale, cloud.offset, pose, np.full(3, scale), offset)
        }
    else:
        points = position * cloud.scale + cloud.offset
        out = {"xyz": points if pose is None else rigid.apply(pose, points)}
    for column in COLUMNS:
        if cloud.has(column):
            out[column] = cloud.read(column, start, stop)[use]
    out["rgb"] = _coloured(len(position), colour, lambda column: cloud.read(column, start, stop)[use])
    return out
