"""GeoJSON (RFC 7946): lines as LineString, closed ones as Polygon, points, each with its properties.

The standard wants longitude and latitude; what surveys exchange holds grid coordinates. The caller decides,
and says which system it is in a foreign member that readers may pass by.
"""

from typing import Any

import numpy as np
import orjson

from terrazza.formats.protocol import Line

UPRIGHT = 1e-3  # m: outlines narrower than this in plan stand upright


def write(path: str, lines: list[Line], points: list[Any] = (), system: str = "", decimals: int = 4) -> None:
    """Write ``lines`` (n, 3) and ``points`` (name, (3,), properties), coordinates rounded to ``decimals``."""
    features = [_feature(line, decimals) for line in lines]
    features += [
        {
            "type": "Feature",
            "properties": {"name": name} | more,
            "geometry": {"type": "Point", "coordinates": _rounded(at, decimals)},
        }
        for name, at, more in points
    ]
    whole = {"type": "FeatureCollection", "features": features}
    if system:
        whole["coordinateSystem"] = system
    with open(path, "wb") as out:
        out.write(orjson.dumps(whole, option=orjson.OPT_INDENT_2))


def _rounded(at: np.ndarray, decimals: int) -> list[float]:
    return [round(float(v), decimals if k < 2 else 4) for k, v in enumerate(at)]


def _feature(line: Line, decimals: int) -> dict[str, Any]:
    xyz = np.concatenate([line.xyz, line.xyz[:1]]) if line.closed else line.xyz
    x, y = xyz[:, 0] - xyz[0, 0], xyz[:, 1] - xyz[0, 1]
    area = float(np.sum(x[:-1] * y[1:] - y[:-1] * x[1:])) / 2
    if line.closed and abs(area) > UPRIGHT * float(np.hypot(np.ptp(x), np.ptp(y))):
        ring = xyz if area > 0 else xyz[::-1]  # outer rings go counter-clockwise
        geometry = {"type": "Polygon", "coordinates": [[_rounded(p, decimals) for p in ring]]}
    else:  # an outline that stands upright is no area in plan
        geometry = {"type": "LineString", "coordinates": [_rounded(p, decimals) for p in xyz]}
    return {
        "type": "Feature",
        "properties": {"name": line.name, "layer": line.layer},
        "geometry": geometry,
    }
