"""Coordinate systems as files name them."""

from pyproj import CRS
from pyproj.exceptions import CRSError


def metres_per_unit(wkt: str) -> float:
    """Metres in one horizontal unit of a projected system; 1 where the text says nothing of lengths."""
    try:
        crs = CRS.from_wkt(wkt) if wkt else None
    except CRSError:
        return 1.0
    axis = crs.axis_info[0] if crs is not None and crs.axis_info else None
    return (
        float(axis.unit_conversion_factor)
        if axis is not None and axis.unit_name not in {"degree", "radian"}
        else 1.0
    )
