"""Drawings into DXF files: plans at their heights, sections in their place or laid flat."""

import numpy as np

from terrazza.core.draw import sections
from terrazza.core.geometry import rigid
from terrazza.formats import dxf
from terrazza.operations.spine.job import Job

PARTS = 5  # lines of a dimension
BESIDE = 2.0  # m between sections that are laid flat beside each other


def write_dxf(job: Job, drawings: list[dict], path: str, flat: bool = False) -> str:
    """Write drawings (kept in the job frame) to a DXF in the grid; returns its full path.

    With ``flat`` sections are laid flat from 0, chainage to the right and height up, one beside the other;
    without they stand as lines in space.
    """
    full = job.output(path, ".dxf")
    lines, texts = placed(job, drawings, flat)
    dxf.write(full, lines, texts, job.facts("layer"))
    job.deliver(full, format="DXF", lines=len(lines))
    return full


def placed(job: Job, drawings: list[dict], flat: bool = False) -> tuple[list[dict], list[dict]]:
    """Lines and texts of drawings where they belong in a DXF, as ``formats.dxf.write`` takes them."""
    lines, texts, right = [], [], 0.0
    for drawing in drawings:
        course = drawing.get("course")
        line = None if course is None else rigid.apply(job.frame, np.array(course))[:, :2]
        if flat and drawing.get("plane"):
            mine, wide = _laid_down(drawing, right)
            lines += mine
            right += wide + BESIDE
            continue
        whole = set() if line is not None else _whole_dimensions(drawing)
        for text in drawing.get("texts", []):
            at = rigid.apply(job.frame, np.array([text["at"]]))
            if line is not None and flat:
                at = sections.laid_flat(line, at) + [right, 0]
            measures = text.get("measures") if text.get("dimension") in whole else None
            ends = rigid.apply(job.frame, np.array(measures)).tolist() if measures else None
            texts.append(text | {"at": at[0].tolist(), "measures": ends})
        for drawn in (one for one in drawing["lines"] if one.get("dimension") not in whole):
            grid = rigid.apply(job.frame, np.array(drawn["vertices"]))
            about = {k: drawn.get(k) for k in ("layer", "name", "closed", "arcs", "guessed")}
            if drawn.get("space"):
                lines.append(about | {"vertices": grid.tolist(), "space": True})
            elif line is None:
                lines.append(
                    about | {"vertices": grid[:, :2].tolist(), "elevation": float(grid[:, 2].mean())}
                )
            elif flat:
                lines.append(about | {"vertices": (sections.laid_flat(line, grid) + [right, 0]).tolist()})
            else:
                lines.append(about | {"vertices": grid.tolist(), "space": True})
        if line is not None and flat:
            right += float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum()) + BESIDE
    return lines, texts


def _laid_down(drawing: dict, right: float) -> tuple[list[dict], float]:
    """Lines of a front or free plane laid flat from ``right`` (m) on, and how wide they are (m)."""
    plane = np.array(drawing["plane"])
    flat = [rigid.apply(plane, np.array(line["vertices"]))[:, :2] for line in drawing["lines"]]
    low, high = (np.array([at(v[:, 0]) for v in flat]) for at in (np.min, np.max))
    shift = [right - low.min(), 0.0]
    about = [{k: line.get(k) for k in ("layer", "name", "closed", "guessed")} for line in drawing["lines"]]
    return [a | {"vertices": (v + shift).tolist()} for a, v in zip(about, flat)], float(
        high.max() - low.min()
    )


def _whole_dimensions(drawing: dict) -> set[int]:
    """The dimensions of a drawing whose lines are as they were made, none moved, gone or copied."""
    lines: dict[int, list] = {}
    for one in drawing["lines"]:
        if one.get("dimension"):
            lines.setdefault(one["dimension"], []).append(one["vertices"])
    texts = [t for t in drawing.get("texts", []) if t.get("measures")]
    alone = {t["dimension"] for t in texts if [u["dimension"] for u in texts].count(t["dimension"]) == 1}
    made = {t["dimension"]: t["measures"][2:] for t in texts}
    return {k for k, v in lines.items() if k in alone and len(v) == PARTS and made[k] in v}
