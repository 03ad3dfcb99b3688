"""Measures, pins, boxes and kept views: for the canvases, and as lists."""

import numpy as np
from pydantic import BaseModel, Field

from terrazza.core.geometry import rigid
from terrazza.errors import TerrazzaError
from terrazza.later import later
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table import measure, touch, words
from terrazza.web.contexts.forms import form

with later():
    from terrazza.core.register import beside as held

HELD_AGAINST, IN_HAND = 600_000, 12_000  # points of the others, and of a scan in hand, that are compared
MOST_ROWS = 200  # of a list that are shown
MEASURED = ("scan", "pose", "frame", "column")  # kinds of facts that the figures of a measure rest on


class Try(BaseModel):
    """A measure that is being taken: nothing is kept."""

    kind: str
    points: list[touch.Touch] = Field(min_length=1, max_length=2000)
    reach: float = Field(0.15, ge=0.005, le=20)


def try_out(job: Job, wanted: Try) -> dict:
    """Figures of a measure before it is set down, with ``says``."""
    params = find("measure.take").check(
        {"kind": wanted.kind, "points": [p.model_dump() for p in wanted.points], "reach": wanted.reach}
    )
    figures = measure.measured(job, params.kind, [p.model_dump() for p in params.points], params.reach)
    return figures | {"says": words.told(Notation.of(job), params.kind, figures)}


class Moving(BaseModel):
    """A scan that is being moved, and where it is now: 4×4 row by row, in the grid (or job frame)."""

    scan: int = Field(ge=1)
    pose: list[float] = Field(min_length=16, max_length=16)


def beside(job: Job, moving: Moving) -> dict:
    """How much of a scan lies beside the other placed ones where it is held, and how far off; nothing is
    kept but what is asked for again and again.
    """
    scan, pose = job.scan(moving.scan), np.array(moving.pose).reshape(4, 4)
    stay, origin = job.once(("beside", scan.id), lambda: _others(job, scan.id), ("pose", "frame", "column"))
    pose[:3, 3] -= origin
    overlap, off = stay.judge(_some(job.cloud(scan.id), IN_HAND), pose)
    says = f"{overlap:.0%} beside the others"
    says += "" if off is None else f", most of it within {Notation.of(job).residual(1000 * off)}"
    return {"overlap": overlap, "within_mm": None if off is None else 1000 * off, "says": says}


def _others(job: Job, scan: int):
    """All other placed scans, about an origin (3,) m."""
    others = [s for s in job.scans(placed=True) if s.id != scan]
    origin = job.grid_pose(others[0])[:3, 3] if others else np.zeros(3)
    parts = [
        rigid.apply(job.grid_pose(s), _some(job.cloud(s.id), HELD_AGAINST // len(others))) - origin
        for s in others
    ]
    return held.Others(np.concatenate([np.zeros((0, 3)), *parts])), origin


def _some(cloud, most: int) -> np.ndarray:
    """An even share (n, 3) of the kept points of a scan, in its frame."""
    return cloud.at(cloud.kept_of(cloud.sample(most)))


def rows(job: Job, most: int | None = None) -> list[dict]:
    """Every measure, or the newest ``most``, as the scans lie now; one that cannot be taken any more
    says why.
    """
    notation, out = Notation.of(job), []
    for number, record in list(job.facts("measure").items())[-most if most else None :]:
        row = {
            "id": int(number),
            "kind": record["kind"],
            "name": record["name"],
            "at": [],
            "says": "",
            "figures": {},
        }
        try:
            figures = dict(_measured(job, record))
            row |= {
                "at": figures.pop("at"),
                "figures": figures,
                "says": words.told(notation, record["kind"], figures),
            }
        except TerrazzaError as error:
            row["says"] = str(error)
        out.append(row)
    return out


def pins(job: Job) -> list[dict]:
    return [
        {
            "id": int(k),
            **{n: p[n] for n in ("name", "text", "link", "measure", "picture")},
            "at": touch.place(job, p["point"]).tolist(),
        }
        for k, p in job.facts("pin").items()
        if job.get("scan", p["point"]["scan"])
    ]


def scene(job: Job, origin: np.ndarray) -> dict:
    """What the canvases draw, relative to ``origin``; measures that need a look at the points are drawn at
    their touched place.
    """
    kept = job.once(("measures shown", *origin), dict, (*MEASURED, "notation"))
    shown, scans = [], job.facts("scan")
    for number, record in job.facts("measure").items():
        if any(str(t["scan"]) not in scans for t in record["points"]):
            continue
        if id(record) not in kept:
            kept[id(record)] = record, _shown(job, number, record, origin)
        shown.append(kept[id(record)][1])
    return {
        "measures": shown,
        "pins": [p | {"at": (np.array(p["at"]) - origin).tolist()} for p in pins(job)],
        "boxes": boxes(job, origin),
        "notation": Notation.of(job).about(),
    }


def _shown(job: Job, number: str, record: dict, origin: np.ndarray) -> dict:
    """A measure as the canvases draw it."""
    if record["kind"] in measure.FROM_POINTS:
        figures = _measured(job, record)
        at = np.array(figures["at"])
        label = words.told(Notation.of(job), record["kind"], figures).split(" · ")[0]
    else:
        at, label = np.array([touch.place(job, t) for t in record["points"]]), record["name"]
    about = {"id": int(number), "kind": record["kind"], "name": record["name"], "label": label}
    return about | {"at": (at - origin).tolist()}


def _measured(job: Job, record: dict) -> dict:
    """The figures of a measure that is set down, taken again when something that it may touch has changed."""
    kept = job.once("measured", dict, MEASURED)
    if id(record) not in kept:  # the record is kept with its figures, so that its number stays its own
        kept[id(record)] = record, measure.measured(job, record["kind"], record["points"], record["reach"])
    return kept[id(record)][1]


def boxes(job: Job, origin: np.ndarray) -> list[dict]:
    """Boxes as drawn: ``centre`` relative to the origin, ``size``, ``heading`` (rad, grid or job frame)."""
    turn = rigid.heading(job.frame)
    return [
        {
            "id": int(k),
            "name": b["name"],
            "centre": (rigid.apply(job.frame, np.array([b["centre"]]))[0] - origin).tolist(),
            "size": b["size"],
            "heading": float(np.radians(b["heading_deg"]) + turn),
            "outside": b["outside"],
        }
        for k, b in job.facts("box").items()
    ]


def build(job: Job) -> dict:
    """Lists of everything set down on the table."""
    notation = Notation.of(job)
    writing = form(job, "table.notation")
    for row in writing["params"]:
        row["value"] = getattr(notation, row["name"])
    return {
        "job": job.row,
        "measures": rows(job, MOST_ROWS),
        "measures_total": len(job.facts("measure")),
        "pins": [p | {"place": notation.coordinate(p["at"])} for p in pins(job)],
        "boxes": [{"id": int(k), **b} for k, b in job.facts("box").items()],
        "views": [{"id": int(k), **v} for k, v in job.facts("view").items()],
        "writing": writing,
        "lists": {k: form(job, f"deliver.{k}") for k in ("measures", "pins")},
    }
