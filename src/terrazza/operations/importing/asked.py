"""What the surveyor asked of files and what they hold: which scans, in which unit, and is there room."""

import os
import shutil
from typing import Literal

import numpy as np

from terrazza.core.geometry.axes import Axes
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.formats.contents import Contents, Repair
from terrazza.operations.importing.losses import listed_rows
from terrazza.operations.pieces import reading
from terrazza.operations.pieces.sources import Source
from terrazza.operations.spine.base import Params, field
from terrazza.operations.spine.job import Job
from terrazza.units import FACTORS as UNITS
from terrazza.units import metres_per

AS_FILE = "as the file says"
BYTES_A_POINT = 60
MOST_LOST = 0.01


class ImportParams(Params):
    files: list[str] = field(
        "Files",
        list,
        help="Paths of files with point clouds; empty: the inputs of the command line.",
        widget="files",
        role="read",
    )
    take: list[str] = field(
        "Scans to take",
        list,
        help="Each as file:scan, counted from 1, for example 1:3. Empty: all.",
        widget="take",
    )
    unit: Literal[
        "as the file says", "metre", "millimetre", "international foot", "US survey foot", "inch"
    ] = field(
        "Unit",
        AS_FILE,
        help="What one unit in the files is. E57 counts in metres by its standard; LAS says so only through "
        "its coordinate system; other files do not say.",
    )
    units: list[str] = field(
        "Units of single files",
        list,
        help="Where files differ, each as file:unit, for example 2:millimetre.",
        widget="units",
    )
    axes: str = field(
        "Axes",
        "+x +y +z",
        help="Which axis of the file becomes x, y and z, with its sign: +x -z +y brings a file with y up "
        "upright.",
        widget="axes",
    )
    columns: str = field(
        "Columns of text files",
        "",
        help="A word for each column: x y z intensity red green blue class time, a name of your own, or - to "
        "pass it by. Empty: as found.",
        widget="columns",
    )
    every: int = field(
        "Every n-th point",
        1,
        ge=1,
        le=10_000,
        help="1 takes all. More makes a test import, which can be completed later without starting over.",
    )
    nearest: float = field(
        "Nearest",
        0.0,
        unit="m",
        blank="no limit",
        ge=0,
        le=10_000,
        help="Of scans with a station: leave out points nearer than this.",
    )
    farthest: float = field(
        "Farthest",
        0.0,
        unit="m",
        blank="no limit",
        ge=0,
        le=100_000,
        help="Of scans with a station: leave out points farther than this; 0: no limit.",
    )
    losses: Literal["refuse", "take the rest"] = field(
        "Losses",
        "refuse",
        help="Whether an import that would lose more than 1 % of a scan's returns ends, or goes on and tells "
        "of them.",
    )
    broken: Literal["refuse", "leave out"] = field(
        "Broken files",
        "refuse",
        help="Whether a file or scan that cannot be read ends the import, or is left out and told of.",
    )
    view_width: int = field(
        "Station view",
        0,
        unit="px",
        blank="as scanned",
        ge=0,
        le=32_768,
        help="Most columns of the view from a station; 0: every column of a scan's grid, or 4096 where it "
        "has none.",
    )


def _factor(contents: Contents, unit: str) -> float:
    if unit != AS_FILE:
        return metres_per(unit)
    return contents.metres


def told_shapes(shapes: dict[str, int]) -> str:
    """What a drawing or a model holds, in words."""
    return ", ".join(f"{n:,} {what if n != 1 else what[:-1]}" for what, n in shapes.items() if n) or "nothing"


def looked(paths: list[str], columns: tuple[str, ...], lenient: bool) -> tuple[list[Contents], list[dict]]:
    """What the files hold; with ``lenient`` those that cannot be read are listed among the
    repairs instead.
    """
    found, repairs = [], []
    for path in paths:
        try:
            found.append(reading.look(path, columns))
        except InputError as error:
            if not lenient:
                raise
            found.append(Contents(path=path, format=""))
            repairs += listed_rows([Repair("scan", None, 1, str(error))], os.path.basename(path), None)
    for contents in found:
        if contents.shapes and not contents.scans:
            raise InputError(
                f"“{os.path.basename(contents.path)}” holds no points but {told_shapes(contents.shapes)}.",
                "Leave it out; steps that use lines and surfaces ask for it.",
            )
    if not any(c.scans for c in found):
        raise InputError("None of the files can be read.", repairs[0]["says"])
    return found, repairs


def source(
    job: Job,
    contents: Contents,
    index: int,
    folder: str,
    unit: str,
    axes: Axes,
    columns: tuple[str, ...],
    every: int,
    within,
    lenient: bool,
) -> Source:
    return Source(
        contents.path,
        contents.format,
        index,
        _factor(contents, unit),
        folder,
        job.version,
        contents.scans[index].points,
        job.fleet.points_at_once,
        axes=axes,
        every=every,
        within=within,
        columns=columns,
        lenient=lenient,
    )


def within_of(contents: Contents, index: int, params: ImportParams) -> tuple[float, float] | None:
    """Range limits, for scans that have their station at the origin."""
    if not (params.nearest or params.farthest) or not contents.scans[index].stationed:
        return None
    return params.nearest, params.farthest or np.inf


def taken_of(piece: Source) -> dict:
    """How a scan was read, for completing it later."""
    return {
        "factor": piece.factor,
        "axes": [list(piece.axes.order), list(piece.axes.sign)],
        "every": piece.every,
        "columns": list(piece.columns),
        "within": [piece.within[0], None if np.isinf(piece.within[1]) else piece.within[1]]
        if piece.within
        else None,
    }


def need_whole(params: ImportParams, found: list[tuple[str, dict]]) -> None:
    """InputError where more of a scan's returns would be lost than may be without being asked for."""
    for name, record in found:
        lost, returns = record["lost"], record["points"] * params.every + record["lost"]
        if params.losses == "refuse" and lost > MOST_LOST * returns:
            raise InputError(
                f"“{name}” would lose {lost:,} of {returns:,} returns: {record['losses']}.",
                "Look whether unit, columns and file are right; “take the rest” under Losses imports what "
                "is left.",
            )


def chosen_of(found: list[Contents], take: list[str]) -> list[tuple[int, int]]:
    """(file, scan) index pairs, in file order."""
    everything = [(f, s.index) for f, c in enumerate(found) for s in c.scans]
    if not take:
        return everything
    chosen = set()
    for word in take:
        try:
            f, s = (int(p) - 1 for p in word.split(":"))
        except ValueError as error:
            raise ParamsError(
                f"import.files: “take” holds {word!r}, which is not file:scan.", "Write for example 1:3."
            ) from error
        if (f, s) not in everything:
            raise ParamsError(
                f"import.files: there is no scan {word} in the files.",
                f"They hold {', '.join(f'{a + 1}:{b + 1}' for a, b in everything[:20])}.",
            )
        chosen.add((f, s))
    return [pick for pick in everything if pick in chosen]


def units_of(params: ImportParams, count: int) -> list[str]:
    """The unit of each file."""
    out = [params.unit] * count
    for word in filter(None, params.units):
        number, _, unit = word.partition(":")
        if not number.isdigit() or not 1 <= int(number) <= count or (unit != AS_FILE and unit not in UNITS):
            raise ParamsError(
                f"import.files: “units” holds {word!r}, which is not file:unit.",
                f"Write for example 1:millimetre; units are {', '.join(UNITS)}.",
            )
        out[int(number) - 1] = unit
    return out


def need_room(job: Job, points: list[int]) -> None:
    needed, free = sum(points) * BYTES_A_POINT, shutil.disk_usage(job.folder).free
    if needed > free:
        raise StateError(
            f"The disk has {free / 1e9:.1f} GB free; this import needs about {needed / 1e9:.1f} GB.",
            "Make room, or choose fewer scans.",
        )
