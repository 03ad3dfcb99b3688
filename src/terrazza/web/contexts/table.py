"""Measures, pins, boxes and kept views: for the canvases, and as lists."""

import numpy as np
from pydantic import BaseModel, Field

from terrazza.core.geometry import rigid
from terrazza.errors import TerrazzaError
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table import measure, touch, words
from terrazza.web.contexts.forms import form


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


def rows(job: Job) -> list[dict]:
    """Every measure as the scans lie now; one that cannot be taken any more says why."""
    notation, out = Notation.of(job), []
    for number, record in job.facts("measure").items():
        row = {
            "id": int(number),
            "kind": record["kind"],
            "name": record["name"],
            "at": [],
            "says": "",
            "figures": {},
        }
        try:
            figures = measure.measured(job, record["kind"], record["points"], record["reach"])
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
    shown = []
    for number, record in job.facts("measure").items():
        if any(job.get("scan", t["scan"]) is None for t in record["points"]):
            continue
        at = np.array([touch.place(job, t) for t in record["points"]])
        label = record["name"]
        if record["kind"] in measure.FROM_POINTS:
            label = words.told(
                Notation.of(job),
                record["kind"],
                measure.measured(job, record["kind"], record["points"], record["reach"]),
            ).split(" · ")[0]
        shown.append(
            {
                "id": int(number),
                "kind": record["kind"],
                "name": record["name"],
                "label": label,
                "at": (at - origin).tolist(),
            }
        )
    return {
        "measures": shown,
        "pins": [p | {"at": (np.array(p["at"]) - origin).tolist()} for p in pins(job)],
        "boxes": boxes(job, origin),
        "notation": Notation.of(job).about(),
    }


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
        "measures": rows(job),
        "pins": [p | {"place": notation.coordinate(p["at"])} for p in pins(job)],
        "boxes": [{"id": int(k), **b} for k, b in job.facts("box").items()],
        "views": [{"id": int(k), **v} for k, v in job.facts("view").items()],
        "writing": writing,
        "lists": {k: form(job, f"deliver.{k}") for k in ("measures", "pins")},
    }
