"""Every kind of fact, declared once: what its value holds, which scans it belongs to, which files it names.

Removal of a scan, the check of a job, backups, sweeping and the words for stale entries are made from this
table; ``Job.put`` refuses what is not in it.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel, ConfigDict, StrictBool, TypeAdapter, ValidationError

from terrazza.errors import TerrazzaError

Matrix = list[list[float]]


class Value(BaseModel):
    """A value of named fields; those that are not listed are free."""

    model_config = ConfigDict(extra="allow", allow_inf_nan=False, strict=True)


class ScanValue(Value):
    """What is known of a scan: its points in blocks, their grid, where they came from (m, scan frame)."""

    name: str
    file: str
    format: str
    points: int
    blocks: list[int]
    scale: list[float]
    offset: list[float]
    low: list[float]
    size: float
    bounds: Any


class PoseValue(Value):
    """4×4 scan → job (m), how it came about, 6×6 covariance of (rotation, shift), range bias (m)."""

    matrix: Matrix | None
    how: str = ""
    covariance: Matrix | None = None
    bias: float = 0.0
    fixed: bool = False


class StandingValue(Value):
    """Where a registration left a scan: island from 1, why it is doubted, what else it could be."""

    island: int | None
    matrix: Matrix | None
    doubt: str | None
    alternatives: list[Matrix]


class TieValue(Value):
    """A tie between two scans, with RMS (mm), overlap (0 to 1) and why it failed."""

    a: int
    b: int
    rms_mm: float
    overlap: float
    used: int
    words: str
    failed: str


class TieChoiceValue(Value):
    """What was decided of a tie by hand, and whether it was asked for where none was found."""

    a: int
    b: int
    on: bool
    weight: float
    asked: bool = False


class NetworkValue(Value):
    """The last adjustment: the scans of its joint covariance, in order, and its figures."""

    scans: list[int]
    rms_mm: float | None


class LookedValue(Value):
    """Who has looked the registration through, when (s since the epoch), after which entry."""

    who: str
    when: float
    entry: int


class TargetValue(Value):
    """A target as one scan saw it: centre (m, scan frame), σ (m), name."""

    scan: int
    centre: list[float]
    sigma: float
    dropped: bool
    name: str = ""


class ControlValue(Value):
    """A control point: grid coordinates (m), target height (m), role and targets."""

    grid: list[float]
    target_height: float
    check: bool
    targets: list[int]
    how: str


class FrameValue(Value):
    """4×4 job → grid (m), how it came about and what is said of it."""

    matrix: Matrix
    how: str
    says: str = ""


class PhotoValue(Value):
    """A picture of a scan: its file and pose (4×4 camera → scan)."""

    scan: int
    name: str
    file: str


class CutValue(Value):
    """Points that an entry took out, by scan and together."""

    points: int
    scans: list
    entry: int | None = None


class ShelfValue(Value):
    """Points kept apart under a name: whether they are out of views and work, and out of deliverables."""

    name: str
    apart: bool
    delivered: bool
    points: int


class ClassNameValue(Value):
    """What a job calls a class of its own, whose code is the key."""

    name: str


class ExampleValue(Value):
    """An outline, in a view of the job frame (4×4), whose points are examples of a class; ``slab`` holds
    heights in the frame (4×4) of that day.
    """

    name: str
    code: int
    view: Matrix
    polygon: Matrix
    slab: list[float]
    frame: Matrix
    outside: bool
    points: int
    around: bool = False
    depth: list[float] = []


class LineValue(Value):
    """A line of a drawing: vertices (n, 3) in the job frame (m), its length (m); where it was fitted, the
    RMS of its points; ``arcs`` are (from, to) vertices on one arc; ``guessed``: nothing shows it.
    """

    name: str
    layer: str
    vertices: Matrix
    closed: bool
    length: float
    rms_mm: float | None = None
    arcs: list[list[int]] = []
    guessed: bool = False
    dimension: int | None = None


class TextValue(Value):
    """A text of a drawing ``at`` (3,) in the job frame (m), its letters ``height`` m high; of a
    ``dimension``, as its lines are, with what it ``measures``: two places and the ends of its line, (4, 3).
    """

    text: str
    layer: str
    at: list[float]
    height: float
    dimension: int | None = None
    measures: Matrix | None = None


class ShapeValue(Value):
    """Corners of a thing in a section across it, [[across, up], …] m, and their names."""

    corners: Matrix
    names: list[str]


class DrawingValue(Value):
    """Lines and texts; where they were drawn on a slab, its height and thickness (m, grid or job frame); of
    a section the ``course`` of its line in plan (n, 3) in the job frame; of break lines their ``shape``; of
    a front or free plane the 4×4 ``plane`` from the job frame to it.
    """

    name: str
    lines: list[LineValue]
    texts: list[TextValue] = []
    height: float | None = None
    thickness: float | None = None
    course: Matrix | None = None
    shape: ShapeValue | None = None
    plane: Matrix | None = None


class SketchValue(Value):
    """A sketch or map under the plan: its picture and size (pixels), ``matrix`` (2×3) from pixels, y down, to
    the plan of the job frame (m), and where the scans of some numbers are marked on it (pixels).
    """

    name: str
    file: str
    width: int
    height: int
    matrix: Matrix
    stations: dict[str, list[float]]


class LayerValue(Value):
    """An office's layer for the lines of the one that is the key."""

    name: str
    colour: str
    line_type: str
    text_height: float


class SurfaceValue(Value):
    """A surface of triangles (arrays ``surface-N-vertices`` and ``-triangles``): points it lies on, the
    height error it keeps and the noise of heights (m).
    """

    name: str
    points: int
    error: float
    sigma: float
    cell: float


class DeliverableValue(Value):
    """A finished file outside the columns."""

    path: str
    bytes: int
    made: float


def _no_files(scan: int | None, value: Any) -> list[tuple[str, str]]:
    return []


def _no_scans(key: str, value: Any) -> set[int]:
    return set()


@dataclass(frozen=True)
class Kind:
    """One kind of fact: its name, the form of its value, what its change means to later steps in words, the
    scans (by key and value) with which a fact of it goes, and the (folder, file) pairs that it names.
    """

    name: str
    value: Any
    words: str = ""
    scans: Callable[[str, Any], set[int]] = _no_scans
    files: Callable[[int | None, Any], list[tuple[str, str]]] = _no_files
    adapter: TypeAdapter = field(init=False)

    def __post_init__(self):
        object.__setattr__(self, "adapter", TypeAdapter(self.value))

    def check(self, key: str, value: Any) -> None:
        """TerrazzaError where a value has not the form of its kind."""
        try:
            self.adapter.validate_python(value)
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(str(p) for p in first["loc"])
            raise TerrazzaError(f"A {self.name} “{key}” is malformed: {place} {first['msg']}.") from error


def _by_key(key: str, value: Any) -> set[int]:
    return {int(key)}


def _by_key_start(key: str, value: Any) -> set[int]:
    return {int(key.partition("/")[0])}


def _by_scan(key: str, value: Any) -> set[int]:
    return {value["scan"]}


def _by_pair(key: str, value: Any) -> set[int]:
    return {value["a"], value["b"]}


def _by_path(key: str, value: Any) -> set[int]:
    return {int(key.removeprefix("path-"))} if key.startswith("path-") else set()


def _columns(scan: int | None, value: Any) -> list[tuple[str, str]]:
    return [(f"scans/{scan}", name) for name in value]


def _picture(field_name: str) -> Callable[[int | None, Any], list[tuple[str, str]]]:
    return lambda scan, value: [("photos", value[field_name])] if value.get(field_name) else []


def _array(scan: int | None, value: Any) -> list[tuple[str, str]]:
    return [("arrays", value)]


KINDS: dict[str, Kind] = {
    k.name: k
    for k in (
        Kind("scan", ScanValue, "scans were added or noted otherwise", _by_key),
        Kind("column", list[str], "points changed", _by_key_start, _columns),
        Kind("pose", PoseValue, "poses changed", _by_key),
        Kind("left_out", StrictBool, "scans were taken out of the adjustment", _by_key),
        Kind("held", StrictBool, "scans were held or freed", _by_key),
        Kind("held_block", StrictBool, "blocks were held or freed"),
        Kind("standing", StandingValue, "doubts changed", _by_key),
        Kind("tie", TieValue, "ties changed", _by_pair),
        Kind("tie_choice", TieChoiceValue, "ties were switched", _by_pair),
        Kind("network", NetworkValue, "the adjustment changed"),
        Kind("looked", LookedValue, "it was looked through"),
        Kind("array", str, "", _by_path, _array),
        Kind("walk", Value, "walks changed", _by_key),
        Kind("photo", PhotoValue, "photos changed", _by_scan, _picture("file")),
        Kind("sketch", SketchValue, "sketches changed", files=_picture("file")),
        Kind("target", TargetValue, "targets changed", _by_scan),
        Kind("control", ControlValue, "control changed"),
        Kind("frame", FrameValue, "the frame changed"),
        Kind("crs", Value, "the coordinate system changed"),
        Kind("cut", CutValue, "points were taken out"),
        Kind("shelf", ShelfValue, "shelves were switched"),
        Kind("example", ExampleValue, "examples changed"),
        Kind("class_name", ClassNameValue, "classes were named"),
        Kind("surface", SurfaceValue, "surfaces changed"),
        Kind("drawing", DrawingValue, "drawings changed"),
        Kind("layer", LayerValue, "layers changed"),
        Kind("measure", Value, "measures changed"),
        Kind("pin", Value, "pins changed", files=_picture("picture")),
        Kind("box", Value, "boxes changed"),
        Kind("view", Value, "kept views changed"),
        Kind("notation", Value, "the way numbers are written changed"),
        Kind("deliverable", DeliverableValue, "deliverables changed"),
    )
}

OF_A_SCAN = frozenset(k.name for k in KINDS.values() if k.scans is not _no_scans)


def kind_of(name: str) -> Kind:
    """The kind of that name; TerrazzaError where none is declared."""
    if name not in KINDS:
        raise TerrazzaError(f"No kind of fact is named {name}.")
    return KINDS[name]


def words_of(kind: str) -> str:
    """What a change of a kind means to later steps; empty where other facts beside it tell."""
    return "dimensions of the points changed" if kind == "dimension" else kind_of(kind).words


def names_files(kind: str) -> bool:
    """Whether facts of a kind can name files of the job."""
    return kind in KINDS and KINDS[kind].files is not _no_files


def files_of(kind: str, scan: int | None, value: Any) -> list[tuple[str, str]]:
    """(folder, file) pairs that a fact names; none for a value that is gone, or of a kind that is no more."""
    return KINDS[kind].files(scan, value) if kind in KINDS and value is not None else []
