"""Drawings and surfaces as shapes in the grid, and files of them read back."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import StateError, TerrazzaError
from terrazza.formats.protocol import Line, Mesh
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job
from terrazza.operations.surface.ground import mesh_of

STEP = 0.00006  # m: coordinates are written in tenths of a millimetre


def lines_of(job: Job, drawings: list[int]) -> list[Line]:
    """Lines of the drawings with these numbers, or of all, in the grid (or job frame)."""
    there = {int(k): v for k, v in job.facts("drawing").items()}
    wrong = set(drawings) - set(there)
    if wrong:
        raise StateError(f"There is no drawing {min(wrong)}.", "The Draw sheet lists them.")
    return [
        Line(
            rigid.apply(job.frame, np.array(line["vertices"], float)),
            line["closed"],
            f"{there[k]['name']}: {line['name']}",
            line["layer"],
        )
        for k in sorted(drawings or there)
        for line in there[k]["lines"]
    ]


def meshes_of(job: Job) -> list[Mesh]:
    """All surfaces of the job, in the grid (or job frame)."""
    return [mesh_of(job, k) for k in job.facts("surface")]


def edges_of(meshes: list[Mesh]) -> list[Line]:
    """The break lines and outlines that surfaces keep, in the order in which LandXML is read."""
    breaks = [Line(line) for mesh in meshes for line in mesh.breaks]
    return breaks + [Line(m.outline, True) for m in meshes if m.outline is not None]


def points_of(job: Job) -> list[tuple[str, list[float], dict]]:
    """Control points: name, coordinates, role."""
    return [
        (name, c["grid"], {"role": "check" if c["check"] else "control"})
        for name, c in job.facts("control").items()
        if c["grid"]
    ]


def need_any(*what) -> None:
    """StateError where there is nothing to write."""
    if not any(len(w) for w in what):
        raise StateError("There is nothing drawn yet to write.", "Draw a plan, a section or a surface first.")


def read_back(path: str, lines: list[Line], meshes: list[Mesh], step: float = STEP) -> Figures:
    """Read a file again by the reader of its format and compare all vertices; TerrazzaError where it does not
    hold what was written.
    """
    found = reading.shapes(path)
    worst = 0.0
    if (len(found.lines), len(found.meshes)) != (len(lines), len(meshes)):
        raise TerrazzaError(
            f"Read back, the file holds {len(found.lines)} lines and {len(found.meshes)} surfaces of "
            f"{len(lines)} "
            f"and {len(meshes)}."
        )
    pairs = [(a.xyz, b.xyz, a.closed) for a, b in zip(lines, found.lines)]
    pairs += [(a.vertices, b.vertices, False) for a, b in zip(meshes, found.meshes)]
    for mine, theirs, closed in pairs:
        if closed:  # a ring may go the other way around
            first = np.linalg.norm(theirs[:, :2] - mine[0, :2], axis=1).argmin()
            theirs = np.roll(theirs, -first, 0)
            if len(mine) > 2 and np.linalg.norm(theirs[1, :2] - mine[1, :2]) > 2 * step:
                theirs = np.roll(theirs[::-1], 1, 0)
        if mine.shape != theirs.shape:
            raise TerrazzaError("Read back, a line of the file has other vertices.")
        worst = max(worst, float(np.nanmax(np.abs(mine - theirs), initial=0.0)))
    if worst > step:
        raise TerrazzaError(f"Read back, vertices of the file lie up to {worst:.4f} m off.")
    return {"lines": len(lines), "surfaces": len(meshes), "worst_mm": worst * 1000}
