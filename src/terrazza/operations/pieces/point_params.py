"""What every deliverable of points can be asked for."""

from typing import Literal

from terrazza.operations.spine.base import Params, field, scans_field

Colour = Literal["photo, else native", "photo", "native", "none"]


class PointParams(Params):
    path: str = field("File", "", role="write", help="Relative paths land in the job's deliverables.")
    scans: list[int] = scans_field("Empty: all placed scans.")
    classes: list[int] = field(
        "Classes", list, help="Only points of these classes; empty: all.", widget="classes"
    )
    box: list[float] = field(
        "Box",
        list,
        unit="m",
        help="Lowest E, N, H and highest E, N, H, in the grid (or job frame); empty: everything.",
        max_length=6,
    )
    within: str = field(
        "Working box",
        "",
        blank="all",
        max_length=100,
        help="Name of a box of the table: only what it shows is taken; empty: everything.",
        widget="within",
    )
    spacing: float = field(
        "Thin to a spacing of",
        0.0,
        unit="m",
        blank="every point",
        ge=0,
        le=100,
        help="No two points nearer than this, across scans too; 0: every point.",
    )
    cell: float = field(
        "One point a cell of",
        0.0,
        unit="m",
        blank="every point",
        ge=0,
        le=100,
        help="The first in each cell of this edge, over all scans; 0: every point.",
    )
    most: int = field(
        "Number of points",
        0,
        blank="every point",
        ge=0,
        le=2**40,
        help="Thin evenly to this many; 0: every point.",
    )
    shelves: list[str] = field(
        "Shelves", list, help="Only what lies on these shelves; empty: what the shelves let through."
    )
    each: Literal["", "scan", "block", "class", "floor", "tile", "shelf"] = field(
        "A file for each",
        "",
        blank="all in one",
        help="Empty: all in one. Thinning counts within each file.",
    )
    tile: float = field("Edge of tiles", 0.0, unit="m", blank="none", ge=0, le=1e6)
    names: str = field(
        "Names of the files",
        "{file}-{part}",
        max_length=200,
        help="From {file}, {part}, {number}, {job} and {date}.",
    )
    colour: Colour = field("Colour", "photo, else native")
    depth: Literal["", "8 bit", "16 bit"] = field(
        "Depth of colours",
        "",
        blank="the format's",
        help="Empty: as the format has it, 16 bit in LAS and its kin, else 8.",
    )
    tone: Literal["as measured", "stretched"] = field(
        "Intensity", "as measured", help="Stretched: from the darkest to the brightest 2 % of each scan."
    )
    system: str = field(
        "Coordinates",
        "",
        blank="grid",
        max_length=4000,
        help="Empty: the grid. “job”: the job's own frame. Or another system, as EPSG code or name.",
    )
    verify: bool = field(
        "Read back", True, help="Read the finished file as an import would, and compare it with the points."
    )
    verify_all: bool = field(
        "Every value", False, help="Compare every value of every point, instead of a sample of them."
    )
