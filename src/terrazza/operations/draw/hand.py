"""What lines drawn by hand have in common: where they are kept, and a line changed in its drawing."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import NotFound, ParamsError
from terrazza.later import later
from terrazza.operations.spine.job import Job

with later():
    from terrazza.core.draw import by_hand

BY_HAND, LAYER = "By hand", "LINES"
LEVEL = 0.001  # m: lines whose heights differ by more are lines in space


def row(job: Job, at: np.ndarray, closed: bool, name: str, layer: str, **more) -> dict:
    """A line of a drawing through places (n, 3) in the grid (or job frame)."""
    own = rigid.apply(rigid.inverse(job.frame), at)
    return {
        "name": name,
        "layer": layer,
        "vertices": own.tolist(),
        "closed": closed,
        "length": by_hand.length(own, closed),
        "space": bool(np.ptp(at[:, 2]) > LEVEL),
        **more,
    }


def changed(job: Job, line: dict, at: np.ndarray) -> dict:
    """A line through other places than before: nothing was fitted to it."""
    fresh = row(job, at, line["closed"], line["name"], line["layer"])
    kept = {k: v for k, v in line.items() if k not in {"rms_mm", "arcs", "points", "space"}}
    return kept | fresh


def places(job: Job, line: dict) -> np.ndarray:
    """Vertices (n, 3) of a line in the grid (or job frame)."""
    return rigid.apply(job.frame, np.array(line["vertices"], float))


def need_drawing(job: Job, number: int) -> dict:
    """A drawing by its number; NotFound says which there are."""
    drawing = job.get("drawing", number)
    if drawing is None:
        there = ", ".join(job.facts("drawing")) or "none yet"
        raise NotFound(f"There is no drawing {number}.", f"Drawings are {there}.")
    return drawing


def found(job: Job, number: int, line: int) -> tuple[dict, dict]:
    """A drawing and one of its lines, by its place in the list from 1; NotFound where there is none."""
    drawing = need_drawing(job, number)
    if not 1 <= line <= len(drawing["lines"]):
        raise NotFound(
            f"Drawing {number} has {len(drawing['lines'])} lines, there is no line {line}.",
            "Choose one of the list.",
        )
    return drawing, drawing["lines"][line - 1]


def put_lines(job: Job, number: int, drawing: dict, line: int, instead: list[dict]) -> None:
    """Put lines in the place of one; a drawing without lines and texts goes."""
    put_all(job, number, drawing, [*drawing["lines"][: line - 1], *instead, *drawing["lines"][line:]])


def put_all(job: Job, number: int, drawing: dict, lines: list[dict]) -> None:
    """Give a drawing other lines; one without lines and texts goes."""
    job.put("drawing", number, drawing | {"lines": lines} if lines or drawing.get("texts") else None)


def need_places(at: list, closed: bool, operation: str) -> np.ndarray:
    """Places (n, 3) of a line; ParamsError where they are too few, or two in a row are one."""
    xyz, least = np.array(at, float).reshape(-1, 3), 3 if closed else 2
    if len(xyz) < least:
        raise ParamsError(f"{operation}: {least} places are needed at least, got {len(xyz)}.", "Give more.")
    ring = np.r_[xyz, xyz[:1]] if closed else xyz
    if (np.linalg.norm(np.diff(ring, axis=0), axis=1) < 1e-6).any():
        raise ParamsError(f"{operation}: two places in a row are the same.", "Give each once.")
    return xyz
