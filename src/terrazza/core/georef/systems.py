"""Coordinate systems and height grids out of the database and the files at hand; nothing is fetched."""

import math
import os
import warnings
from dataclasses import dataclass
from typing import Any

import numpy as np
from pyproj import CRS, Transformer, datadir, network
from pyproj.aoi import AreaOfInterest
from pyproj.crs import CompoundCRS
from pyproj.database import query_crs_info
from pyproj.enums import PJType
from pyproj.exceptions import CRSError, ProjError
from pyproj.transformer import TransformerGroup

from terrazza.errors import InputError, ParamsError

network.set_network_enabled(False)
PLANE = (PJType.PROJECTED_CRS, PJType.COMPOUND_CRS)
SHOWN = 6  # names offered where one is not clear


def found(code: str, kinds: tuple[Any, ...] = PLANE) -> CRS:
    """The system of an authority's code (“EPSG:25832”), of a WKT text or of a name; InputError where there is
    none, or several.
    """
    text = code.strip()
    if not text:
        raise ParamsError("A coordinate system needs a code or a name.", "For example EPSG:25832.")
    if ":" in text or text[-1] == "]" or text.isdigit():
        try:
            return CRS.from_user_input(int(text) if text.isdigit() else text)
        except CRSError as error:
            raise InputError(
                f"“{text[:60]}” is no coordinate system of the database.", "Give a code such as EPSG:25832."
            ) from error
    words = text.lower().split()
    infos = [i for i in query_crs_info(pj_types=list(kinds)) if all(w in i.name.lower() for w in words)]
    infos = [i for i in infos if i.name.lower() == text.lower()] or infos
    infos = list({(i.auth_name, i.code): i for i in infos}.values())
    if len(infos) == 1:
        return CRS.from_authority(infos[0].auth_name, infos[0].code)
    names = "; ".join(f"{i.name} ({i.auth_name}:{i.code})" for i in infos[:SHOWN])
    raise InputError(
        f"{len(infos) or 'No'} coordinate systems are named like “{text[:60]}”.",
        f"For example {names}." if infos else "Give a code such as EPSG:25832.",
    )


def projected(code: str, vertical: str = "") -> CRS:
    """A system whose plan counts in lengths, with heights in ``vertical`` where that is given; ParamsError
    for one that counts in degrees.
    """
    crs = found(code)
    flat = crs.sub_crs_list[0] if crs.is_compound else crs
    if not flat.is_projected:
        raise ParamsError(
            f"{crs.name} counts in {flat.axis_info[0].unit_name if flat.axis_info else 'no unit'}, not in "
            "lengths, so no survey can be drawn in it.",
            "Choose a projected system.",
        )
    if not vertical:
        return crs
    up = found(vertical, (PJType.VERTICAL_CRS,))
    if not up.is_vertical:
        raise ParamsError(f"{up.name} is no system of heights.", "For example EPSG:7837.")
    return CompoundCRS(f"{flat.name} + {up.name}", [flat, up])


def geographic(crs: CRS, easting: float, northing: float) -> tuple[float, float]:
    """Longitude and latitude (°, in the system's own datum) of a place in its own unit."""
    flat = crs.sub_crs_list[0] if crs.is_compound else crs
    lon, lat = Transformer.from_crs(flat, flat.geodetic_crs, always_xy=True).transform(easting, northing)
    return float(lon), float(lat)


def between(code: str, wkt: str, x: np.ndarray, y: np.ndarray, z: np.ndarray) -> tuple[Any, ...]:
    """Places ((n,) each, m or °) of the system ``code`` in that of a WKT text; InputError where a grid it
    takes is missing.  Heights stay where either system says nothing of them.
    """
    try:
        other = CRS.from_user_input(code)
        change = Transformer.from_crs(other, CRS.from_wkt(wkt), always_xy=True, allow_ballpark=False)
        moved = change.transform(x, y, z)
    except (CRSError, ProjError) as error:
        raise InputError(
            f"“{code}” cannot be used ({error}).", "Give an EPSG code, or places in the grid."
        ) from error
    if not np.isfinite(np.asarray(moved)).all():
        raise InputError(
            f"Places of {other.name} cannot be brought into the job's system.", "Give the path in its grid."
        )
    return moved


@dataclass(frozen=True)
class Way:
    """The best change from one system to another at a place: its steps, name and accuracy (m; below 0 where
    the database says none).
    """

    pipeline: str
    name: str
    accuracy: float


def pipeline(steps: str, grids: str = "") -> Transformer:
    """The change with these steps; grid files are looked for in a folder too."""
    if os.path.isdir(grids) and grids not in datadir.get_data_dir():
        datadir.append_data_dir(grids)
    return Transformer.from_pipeline(steps)


def way(wkt: str, other: CRS, place: np.ndarray, grids: str = "") -> Way:
    """The best change from the system of a WKT text to another at a ``place`` (3,) in the first's unit; grid
    files are looked for in a folder too.  InputError where there is none, or where a better one lacks a grid.
    """
    crs = CRS.from_wkt(wkt)
    if os.path.isdir(grids) and grids not in datadir.get_data_dir():
        datadir.append_data_dir(grids)
    told = factors(crs, *place[:2])
    if not told["within"]:
        raise InputError(
            f"The job does not lie in the area that {crs.name} is meant for.",
            "Georeference it, or name the system that its coordinates are in.",
        )
    here = AreaOfInterest(told["lon"], told["lat"], told["lon"], told["lat"])
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        group = TransformerGroup(crs, other, always_xy=True, area_of_interest=here, allow_ballpark=False)
    if not group.best_available:
        best = group.unavailable_operations[0]
        files = ", ".join(g.short_name for g in best.grids if not g.available)
        raise InputError(
            f"From {crs.name} to {other.name} leads “{best.name}”, whose grid {files} is not here.",
            f"Put it into the folder {grids or 'of grids'}; without it places would be metres off.",
        )
    if not group.transformers:
        raise InputError(f"Nothing leads from {crs.name} to {other.name}.", "Choose another system.")
    chosen = group.transformers[0]
    moved = chosen.transform(*place)
    if not np.isfinite(moved).all():
        raise InputError(f"The job lies outside {other.name}.", "Choose the system of its place.")
    return Way(chosen.definition, chosen.description, float(chosen.accuracy))


def factors(crs: CRS, easting: float, northing: float) -> dict[str, Any]:
    """``scale``, ``convergence_deg``, ``lon`` and ``lat`` at a place, and whether it lies ``within`` the area
    that the system is meant for.  The scale is the mean of those along meridian and parallel.
    """
    from pyproj import Proj

    flat = crs.sub_crs_list[0] if crs.is_compound else crs
    lon, lat = geographic(crs, easting, northing)
    told = Proj(flat).get_factors(lon, lat)
    area = flat.area_of_use
    within = area is None or (area.west <= lon <= area.east and area.south <= lat <= area.north)
    return {
        "scale": (told.meridional_scale + told.parallel_scale) / 2,
        "convergence_deg": float(told.meridian_convergence),
        "lon": lon,
        "lat": lat,
        "within": bool(within),
    }


def undulation(path: str, lon: float, lat: float) -> float:
    """Height (m) of the geoid over the ellipsoid at a place, from a grid file (GTX, GeoTIFF), bilinear;
    InputError outside of it, or where the file is none.
    """
    name = os.path.basename(path)
    outside = f"The job at {lon:.4f}°, {lat:.4f}° lies outside the grid “{name}”."
    if any(c in path for c in ",+'\""):
        raise InputError(f"“{name}” has a sign in its path that cannot be read.", "Rename the file.")
    try:
        shift = Transformer.from_pipeline(f'+proj=vgridshift +grids="{path}" +multiplier=1')
        height = shift.transform(math.radians(lon), math.radians(lat), 0.0, radians=True, errcheck=True)[2]
    except ProjError as error:
        first = str(error).splitlines()[0]
        if "outside" in first.lower():
            raise InputError(outside, "Bring the grid of the area.") from error
        what = f"“{name}” cannot be read as a height grid ({first[:100]})."
        raise InputError(what, "Use GTX or GeoTIFF.") from error
    if not math.isfinite(height):
        raise InputError(outside, "Bring the grid of the area.")
    return float(height)
