"""Pictures that know where they lie: GeoTIFF (OGC 19-008r4, version 1.1) and PNG with a world file.

Tags of a GeoTIFF: ModelPixelScale 33550, ModelTiepoint 33922, GeoKeyDirectory 34735 with GTModelType 1024,
GTRasterType 1025 (pixels are areas), ProjectedCRS 3072, GTCitation 1026.
"""

import os

import numpy as np
from PIL import Image, TiffImagePlugin

from terrazza.errors import ParamsError
from terrazza.files import whole

ENDINGS = (".tif", ".tiff", ".png")
SCALE, TIEPOINT, KEYS, WORDS = 33550, 33922, 34735, 34737
PROJECTED, AREA, OTHER = 1, 1, 32767
NOTHING = 42113  # GDAL's tag of the value that means no height, which most readers know


def write(
    path: str,
    picture: np.ndarray,
    corner: np.ndarray,
    pixel: float,
    epsg: int | None = None,
    system: str = "",
) -> list[str]:
    """Write a picture, (rows, columns, 3 or 4) u8 or (rows, columns) f32 heights (m, NaN for none), whose
    upper left corner lies at ``corner`` (x, y) m with pixels of ``pixel`` m; the paths of the files.
    """
    ending = os.path.splitext(path)[1].lower()
    if ending not in ENDINGS:
        raise ParamsError(f"A picture is not written as “{ending}”.", f"Use {', '.join(ENDINGS)}.")
    if ending == ".png":
        if picture.dtype != np.uint8:
            raise ParamsError("A PNG holds no heights.", "Give the file the ending .tif.")
        with whole(path) as partial:
            Image.fromarray(picture).save(partial, "PNG")
        world = os.path.splitext(path)[0] + ".pgw"
        middle = corner[0] + pixel / 2, corner[1] - pixel / 2
        with whole(world) as partial, open(partial, "w", encoding="ascii") as out:
            out.write("".join(f"{v:.9f}\n" for v in (pixel, 0, 0, -pixel, *middle)))
        return [path, world]
    tags = TiffImagePlugin.ImageFileDirectory_v2()
    tags[SCALE], tags.tagtype[SCALE] = (pixel, pixel, 0.0), 12
    tags[TIEPOINT], tags.tagtype[TIEPOINT] = (0.0, 0.0, 0.0, float(corner[0]), float(corner[1]), 0.0), 12
    said = (system or "local coordinates").encode("ascii", "replace").decode() + "|"
    keys = [(1024, 0, 1, PROJECTED if epsg else OTHER), (1025, 0, 1, AREA), (1026, WORDS, len(said), 0)]
    keys += [(3072, 0, 1, epsg)] if epsg else []
    tags[KEYS] = tuple(v for key in ((1, 1, 1, len(keys)), *keys) for v in key)
    tags.tagtype[KEYS] = 3
    tags[WORDS], tags.tagtype[WORDS] = said, 2
    if picture.dtype != np.uint8:
        tags[NOTHING], tags.tagtype[NOTHING] = "nan", 2
    with whole(path) as partial:
        Image.fromarray(picture).save(partial, "TIFF", tiffinfo=tags, compression="tiff_adobe_deflate")
    return [path]
