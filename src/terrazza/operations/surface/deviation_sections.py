"""Deviations from a surface, drawn out at a scale in sections across a line."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.draw.section import pieces_of
from terrazza.operations.draw.sections import chainages_of, nothing_at
from terrazza.operations.draw.slab import upright_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.surface.deviation import DeviationParams, against

with later():
    from terrazza.core.draw import sections
    from terrazza.core.surfaces import profile

LETTERS = 0.05  # m: height of the texts


class DeviationSectionsParams(DeviationParams):
    line: list[list[float]] = field(
        "Line in plan",
        widget="section line",
        help="Two places or more, X and Y in the grid or job frame (m); sections stand across it.",
    )
    every: float = field("Every", 5.0, unit="m", gt=0, le=10_000, help="From one section to the next.")
    across: float = field("To either side", 10.0, unit="m", gt=0, le=1000, help="How far each goes across.")
    thickness: float = field("Thickness", 0.1, unit="m", ge=0.005, le=5, help="Of the slab of each section.")
    step: float = field("Spacing", 0.1, unit="m", ge=0.005, le=10, help="Of places along the design.")
    scale: float = field(
        "Drawn out", 20.0, unit="times", ge=1, le=1000, help="How many times larger deviations are drawn."
    )
    path: str = field("DXF file", "", role="write", help="Also write them to this file, laid flat.")


@operation
class DeviationSections(Operation):
    """Draws, in sections across a line, the design as it should be and beside it what was scanned, its
    deviation drawn out at a scale: one drawing a section, named by its chainage.
    """

    name, title, step = "surface.deviation_sections", "Deviation in sections", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "surface", "array"})
    writes = frozenset({"drawing", "deliverable"})
    bound_to_place = True
    Params = DeviationSectionsParams

    def run(self, job: Job, params: DeviationSectionsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to compare")
        n, line = Notation.of(job), pieces_of(params.line, self.name)
        if params.path:
            job.output(params.path, ".dxf")
        shell, named = against(job, params)
        chainages = chainages_of(line, params.every, self.name)
        drawings, rows, empty = [], [], []
        for k, chainage in enumerate(chainages):
            part = Part(progress, k / len(chainages), (k + 1) / len(chainages))
            drawing, row = _drawn(job, scans, line, float(chainage), shell, params, n, part)
            if drawing is None:
                empty.append(float(chainage))
                continue
            number = job.next_number("drawing")
            job.put("drawing", number, drawing)
            drawings.append(drawing)
            rows.append({"drawing": number, "chainage_m": float(chainage)} | row)
        if not drawings:
            raise StateError(
                f"No point lies within {params.reach:g} m of {named} in any of the sections.",
                "Choose another line, or a larger reach.",
            )
        worst = max(rows, key=lambda r: max(abs(r["low_mm"]), abs(r["high_mm"])))
        largest = max(worst["low_mm"], worst["high_mm"], key=abs)
        figures = {
            "says": f"{len(rows)} sections against {named}, deviations drawn {params.scale:g} times; largest "
            f"{n.residual(largest)} at {n.length(worst['chainage_m'])}",
            "sections": rows,
            "drawing": rows[0]["drawing"],
            "doubt": nothing_at(empty, n),
        }
        if params.path:
            figures["path"] = write_dxf(job, drawings, params.path, flat=True)
        return figures


def _drawn(job: Job, scans, line, chainage: float, shell, params, n: Notation, progress: Progress):
    """The drawing of the section at a chainage and its figures; None where it shows nothing."""
    course = sections.across(line, chainage, params.across)
    (piece,) = sections.pieces(course)
    xyz = upright_points(job, scans, piece, params.thickness, progress)
    foot, normal, away = profile.feet(shell, xyz)
    near = np.abs(away) <= params.reach  # NaN is not
    turn = piece.to_flat()
    flat = rigid.apply(turn, foot[near])[:, [0, 2]]
    facing = (normal[near] @ turn[:3, :3].T)[:, [0, 2]]
    found = profile.profiles(flat, facing, away[near], params.step)
    if not found:
        return None, None
    back = rigid.inverse(job.frame)
    placed = lambda at: rigid.apply(back, piece.placed(at)).tolist()
    lines, texts = [], []
    for k, one in enumerate(found, 1):
        out = one.drawn_out(params.scale)
        lines += [
            _line(f"Design {k}", "DESIGN", placed(one.at), one.at, one.closed),
            _line(f"Scanned {k}", "SCANNED", placed(out), out, one.closed),
        ]
        ticks = zip(one.at, out)
        lines += [_line("Deviation", "DEVIATION", placed(np.array(t)), np.array(t), False) for t in ticks]
        for place in {int(np.argmax(one.away)), int(np.argmin(one.away))}:
            texts.append(
                {
                    "text": n.residual(1000 * float(one.away[place])),
                    "layer": "DEVIATION",
                    "at": placed(out[place : place + 1])[0],
                    "height": LETTERS,
                }
            )
    drawing = {
        "name": f"Deviation {n.length(chainage)}, {params.scale:g} times",
        "course": rigid.apply(back, np.c_[course, np.zeros(2)]).tolist(),
        "thickness": params.thickness,
        "lines": lines,
        "texts": texts,
    }
    off = np.concatenate([one.away for one in found])
    return drawing, {
        "points": int(near.sum()),
        "places": len(off),
        "mean_mm": 1000 * float(off.mean()),
        "rms_mm": 1000 * float(np.sqrt((off**2).mean())),
        "low_mm": 1000 * float(off.min()),
        "high_mm": 1000 * float(off.max()),
    }


def _line(name: str, layer: str, vertices: list, flat: np.ndarray, closed: bool) -> dict:
    around = np.concatenate([flat, flat[:1]]) if closed else flat
    return {
        "name": name,
        "layer": layer,
        "vertices": vertices,
        "closed": closed,
        "length": float(np.linalg.norm(np.diff(around, axis=0), axis=1).sum()),
    }
