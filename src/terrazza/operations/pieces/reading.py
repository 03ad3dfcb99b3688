"""Files of others, read where they may die or hang (see ``fleet.guard``): looks, photos, pictures,
trajectories.
"""

import io
import os
import stat
from functools import lru_cache

import numpy as np
from PIL import Image, UnidentifiedImageError

from terrazza import formats
from terrazza.errors import InputError, TerrazzaError
from terrazza.fleet.guard import allowed, guard
from terrazza.formats import control as control_file
from terrazza.formats import text, trajectory
from terrazza.formats.contents import Contents, ImageInside
from terrazza.formats.control import ControlFile
from terrazza.formats.protocol import Shapes, places

LARGEST = 500_000_000  # pixels of a picture
Image.MAX_IMAGE_PIXELS = LARGEST


def need_file(path: str) -> os.stat_result:
    """What the system knows of a plain file; InputError for what is not there or is something else, a pipe
    for example.
    """
    name = os.path.basename(path)
    try:
        about = os.stat(path)
    except FileNotFoundError as error:
        raise InputError(f"“{path}” is not there.", "Check the path.") from error
    except (OSError, ValueError) as error:
        raise InputError(
            f"“{name}” cannot be opened ({getattr(error, 'strerror', None) or error}).",
            "Check who may read it.",
        ) from error
    if stat.S_ISDIR(about.st_mode):
        raise InputError(f"“{name}” is a folder.", "Name the files in it.")
    if not stat.S_ISREG(about.st_mode):
        raise InputError(f"“{name}” is no file but a pipe or a device.", "Name a file.")
    return about


def look(path: str, columns: tuple[str, ...] = ()) -> Contents:
    """What ``formats.look`` finds; what was found in a file, or is wrong with it, is remembered as long as
    the file stays the same.
    """
    about = need_file(path)
    found = _looked(os.path.abspath(path), columns, about.st_size, about.st_mtime_ns)
    if isinstance(found, TerrazzaError):
        raise type(found)(found.message, found.hint)
    return found


@lru_cache(maxsize=500)
def _looked(path: str, columns: tuple[str, ...], size: int, changed: int) -> Contents | TerrazzaError:
    try:
        return guard().call(formats.look, path, columns, about=os.path.basename(path), seconds=allowed(path))
    except TerrazzaError as error:
        return error


def layout(path: str) -> dict:
    """How a text file is understood: ``columns``, the first ``rows``, and whether it is ``headed``."""
    about = need_file(path)
    return _layout(path, about.st_size, about.st_mtime_ns)


@lru_cache(maxsize=200)
def _layout(path: str, size: int, changed: int) -> dict:
    return guard().call(_laid_out, path, about=os.path.basename(path))


def _laid_out(path: str) -> dict:
    read = text.sniff(path)
    return {"columns": read.columns, "rows": text.preview(path, read), "headed": read.headed}


def photo(path: str, image: ImageInside) -> tuple[bytes, str]:
    """The bytes of a photo in a file and its ending (jpg or png); InputError where it is no picture."""
    data = guard().call(_image, path, image, about=os.path.basename(path), seconds=allowed(path))
    return data, opened(io.BytesIO(data), image.name)[0]


def _image(path: str, image: ImageInside) -> bytes:
    return formats.named(formats.look(path).format).read_image(path, image)


def shapes(path: str) -> Shapes:
    """Lines, areas and surfaces of a drawing or a model; InputError where the file holds none."""
    need_file(path)
    return guard().call(_shapes, path, about=os.path.basename(path), seconds=allowed(path))


def _shapes(path: str) -> Shapes:
    format = formats.named(formats.look(path).format)
    if format.read_shapes is None:
        raise InputError(
            f"“{os.path.basename(path)}” holds no lines, areas or surfaces.", "Choose a drawing or a model."
        )
    return format.read_shapes(path)


def classified(path: str, most: int = 2_000_000) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) of a file's frame, m, and classes (n,) u8 of a cloud in which each point has one, an even
    share of the points of large ones; InputError where there are no classes.
    """
    need_file(path)
    return guard().call(_classified, path, most, about=os.path.basename(path), seconds=allowed(path))


def _classified(path: str, most: int) -> tuple[np.ndarray, np.ndarray]:
    inside = formats.look(path)
    format, xyz, codes = formats.named(inside.format), [np.zeros((0, 3))], [np.zeros(0, np.uint8)]
    for scan in inside.scans if format.read_points else []:
        every = max(-(-sum(s.points for s in inside.scans) // most), 1)
        whole = format.coordinates(path, scan.index)
        for chunk in format.points(path, scan.index):
            if "class" not in chunk:
                break
            xyz.append(places(chunk, whole, every) * inside.metres)
            codes.append(np.asarray(chunk["class"][::every], np.uint8))
    if len(codes) == 1:
        raise InputError(
            f"The points of “{os.path.basename(path)}” have no classes.", "Choose a cloud that is classified."
        )
    return np.concatenate(xyz), np.concatenate(codes)


def opened(source, name: str) -> tuple[str, int, int]:
    """(ending, width, height) of a JPEG or PNG; InputError where it is none, or larger than any
    camera makes.
    """
    try:
        with Image.open(source) as image:
            ending, (width, height) = {"JPEG": "jpg", "PNG": "png"}[image.format], image.size
    except (
        OSError,
        KeyError,
        ValueError,
        SyntaxError,
        UnidentifiedImageError,
        Image.DecompressionBombError,
    ) as error:
        raise InputError(f"“{name}” is no JPEG or PNG.", "Export the picture again.") from error
    if width * height > LARGEST:
        raise InputError(
            f"“{name}” has {width:,} × {height:,} pixels; {LARGEST / 1e6:.0f} million are the most.",
            "Make it smaller.",
        )
    return ending, width, height


def control(path: str) -> ControlFile:
    """A control file as ``formats.control`` reads it."""
    need_file(path)
    return guard().call(control_file.read, path, about=os.path.basename(path))


def flight(path: str, columns: tuple[str, ...] = ()) -> tuple[dict[str, np.ndarray], np.ndarray, bool]:
    """The trajectory of a craft as ``formats.trajectory.flight`` reads it. Columns (n,)."""
    need_file(path)
    seconds = allowed(path)
    return guard().call(trajectory.flight, path, columns, about=os.path.basename(path), seconds=seconds)


def way(path: str, columns: tuple[str, ...] = ()) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
    """A trajectory as ``formats.trajectory`` reads it. Times (n,) s, places (n, 3) m, headings (n,) rad."""
    need_file(path)
    return guard().call(trajectory.read, path, columns, about=os.path.basename(path), seconds=allowed(path))
