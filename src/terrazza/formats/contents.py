"""What a file holds, as found by looking and without importing."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

REPAIRS = {
    "not_finite": "points without finite coordinates, left out",
    "no_echo": "places without an echo, left out",
    "invalid": "points marked invalid, left out",
    "far": "points too far out to be real, left out",
    "unreadable": "lines that could not be read, left out",
    "colour_range": "colours out of range, brought within it",
    "intensity_range": "intensities out of range, brought within it",
    "class_range": "classes out of range, brought within it",
    "count": "points more or fewer than announced",
    "bounds": "wrong bounds, taken from the points",
    "name": "names given twice, numbered",
    "pose": "poses that are no rigid motion, put aside",
    "image": "photos that cannot be used, left out",
    "scan": "scans that cannot be read, left out",
}
LOST = ("far", "unreadable")  # finite returns, or lines that held some, that did not come in
DOUBTED = (*LOST, "count", "scan", "pose", "image")
LEFT_OUT = ("not_finite", "no_echo", "invalid", "far", "unreadable")


@dataclass
class Repair:
    """What had to be mended on the way in: a code of ``REPAIRS``, the scan's index in the file (None: the
    file), how many, and a sentence where the code says too little.
    """

    code: str
    scan: int | None
    count: int
    says: str = ""


@dataclass
class ScanInside:
    """One scan inside a file; ``pose`` (4×4, scan to file frame) is None where the file gives none.

    ``stationed`` says that the instrument is at its origin; ``intensity_as`` (gain, start) where intensities
    are not kept as they are: the file's value is gain · stored + start.
    """

    index: int
    name: str
    points: int
    guid: str = ""
    pose: np.ndarray | None = None
    columns: list[str] = field(default_factory=list)
    grid: tuple[int, int] | None = None
    bounds: tuple[Any, ...] | None = None
    captured: str = ""
    instrument: str = ""
    intensity_as: tuple[float, float] | None = None
    stationed: bool = False


@dataclass
class ImageInside:
    """One photo inside a file; ``pose`` maps the camera frame to the file frame, ``lens`` holds what its
    representation says (names of ASTM E2807).
    """

    index: int
    name: str
    representation: str
    width: int
    height: int
    scan_guid: str = ""
    pose: np.ndarray | None = None
    blob: str = "jpegImage"
    lens: dict[str, Any] = field(default_factory=dict[str, Any])


@dataclass
class Contents:
    """Everything a file says about itself; ``notes`` are sentences for the surveyor, ``ties`` pairs of scans
    (indices) that were tied to each other, ``shapes`` counts lines, areas and surfaces, ``metres`` are
    in one unit of its coordinate system.  ``mapped`` says that
    the columns can be chosen, ``shared`` that coordinates are in a frame that files share.
    """

    path: str
    format: str
    scans: list[ScanInside] = field(default_factory=list)
    images: list[ImageInside] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    ties: list[tuple[int, int]] = field(default_factory=list)
    unit: str = "metre"
    crs_wkt: str = ""
    size: int = 0
    repairs: list[Repair] = field(default_factory=list)
    shapes: dict[str, int] = field(default_factory=dict)
    metres: float = 1.0
    mapped: bool = False
    shared: bool = False
