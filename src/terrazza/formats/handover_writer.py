"""The handover folder: pages that open from the disk without a server, with points, views and drawings
beside.

A page from a folder may not fetch files, but it may load scripts and pictures; so points travel as scripts
that hand them over.  Coordinates stay the whole numbers that the scans were stored in, so that what is
measured there is what is measured here.
"""

import base64
import io
import os
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import orjson
from PIL import Image

import terrazza
from terrazza.files import whole

PAGES = os.path.join(os.path.dirname(terrazza.__file__), "web", "static", "handover")
FONTS = ("atkinson-next.woff2", "atkinson-mono.woff2", "atkinson-next.LICENSE", "atkinson-mono.LICENSE")
LEVELS = (64, 16, 4, 1)  # of a stretch of points, one in so many and then more, until all are there
SEED = 7
POINT = 20  # bytes of a point: twelve of its place and three of its colour, four characters for three each
HEAD = 250  # bytes around the points of a script, and of what the pages know of it


@dataclass(frozen=True)
class Part:
    """A script with points of one scan: its ``name``, the ``level`` of detail (0 the coarsest), how many,
    their middle (3,) in the grid and the radius (m) about it that holds them.
    """

    name: str
    scan: int
    level: int
    count: int
    middle: list[float]
    radius: float


def parts_of(
    stem: str, scan: int, position: np.ndarray, rgb: np.ndarray, places: np.ndarray
) -> "Iterator[tuple[Part, bytes]]":
    """Scripts of a stretch of points: (Part, bytes) by level of detail.  ``position`` (n, 3) whole numbers as
    stored, ``rgb`` (n, 3) u8, ``places`` (n, 3) m in the grid.
    """
    order = np.random.default_rng(SEED).permutation(len(position))
    ends = [-(-len(order) // k) for k in LEVELS]
    for level, (start, stop) in enumerate(zip([0, *ends], ends)):
        use = order[start:stop]
        if not len(use):
            continue
        middle = places[use].mean(0)
        radius = float(np.linalg.norm(places[use] - middle, axis=1).max())
        part = Part(f"{stem}-{level}", scan, level, len(use), middle.tolist(), radius)
        yield part, _script(part, position[use], rgb[use])


def _script(part: Part, position: np.ndarray, rgb: np.ndarray) -> bytes:
    told = (base64.b64encode(np.ascontiguousarray(v).tobytes()) for v in (position.astype("<i4"), rgb))
    return b'handed("%s","%s","%s")\n' % (part.name.encode(), *told)


def picture(path: str, rgb: np.ndarray, quality: int = 90) -> None:
    """Write a picture (rows, columns, 3) u8, by the ending of ``path``."""
    image = Image.fromarray(rgb)
    image.save(path, quality=quality) if path.endswith(".jpg") else image.save(path)


def bytes_of(rgb: np.ndarray, form: str = "JPEG", quality: int = 90) -> int:
    """Bytes of a picture in a form. ``rgb`` (rows, columns, 3) u8."""
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, form, **({"quality": quality} if form == "JPEG" else {}))
    return out.tell()


def pages(folder: str, about: dict[str, Any]) -> None:
    """Write the pages and what they know of the job into a folder."""
    for name in sorted(os.listdir(PAGES)):
        shutil.copyfile(os.path.join(PAGES, name), os.path.join(folder, name))
    for name in FONTS:
        shutil.copyfile(os.path.join(PAGES, "..", "vendor", name), os.path.join(folder, name))
    with whole(os.path.join(folder, "job.js")) as partial, open(partial, "wb") as out:
        out.write(b"const JOB = " + orjson.dumps(about).replace(b"</", b"<\\/") + b";\n")
