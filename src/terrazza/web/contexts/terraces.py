"""The eight terraces: each step's state and its single most telling figure."""

from terrazza.operations.register.looked_through import due
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine.base import STEPS, known
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation


def build(job: Job, current: str) -> dict:
    """``steps``: slug, name, figure, state (done, stale or todo), ``needs`` (a sentence), ``doubt`` (why its
    last result is not certain) and ``current``.
    """
    doubts = _doubts(job)
    stale = job.once("stale", lambda: fieldbook.stale(job.row))
    steps_of_stale = {
        operation.step: stale[e.number]
        for name, e in job.last_entries().items()
        if e.number in stale and (operation := known(name))
    }
    figures = {
        "Import": _import,
        "Register": _register,
        "Georeference": _georeference,
        "Clean": _clean,
        "Colorize": _colorize,
        "Classify": _classify,
        "Draw": _draw,
        "Deliver": _deliver,
    }
    steps = []
    for name in STEPS:
        figure, needs = figures[name](job)
        state = "todo" if figure is None or needs else "stale" if name in steps_of_stale else "done"
        steps.append(
            {
                "slug": name.lower(),
                "name": name,
                "figure": figure or "–",
                "state": state,
                "current": name.lower() == current,
                "doubt": doubts.get(name, ""),
                "needs": needs or (f"{steps_of_stale[name]} since" if state == "stale" else ""),
            }
        )
    scans, notation = job.scans(), Notation.of(job)
    return {
        "job": job.row,
        "steps": steps,
        "scans_total": len(scans),
        "points_total": sum(s.points for s in scans),
        "unit_note": f"{'grid' if job.georeferenced else 'no grid yet'}, {notation.plural}",
        "notation": notation,
    }


def _doubts(job: Job) -> dict[str, str]:
    """By step what the last living entry of each of its operations doubts, but for placements that somebody
    has settled since.
    """
    found: dict[str, list[str]] = {}
    settled = tuple(f"Scan {k}, " for k, v in job.facts("standing").items() if not v["doubt"])
    for entry in job.last_entries().values():
        operation = known(entry.operation)
        if operation is not None:
            said = (entry.figures or {}).get("doubt") or []
            left = [d for d in said if operation.step != "Register" or not d.startswith(settled)]
            found.setdefault(operation.step, []).extend(left)
    return {
        step: f"{len(said)} doubt{'s' * (len(said) != 1)}: {said[0]}" for step, said in found.items() if said
    }


def _import(job):
    scans = job.scans()
    return (f"{len(scans)} scan{'s' * (len(scans) != 1)}", "") if scans else (None, "bring scans")


def _register(job):
    scans = job.scans()
    placed, wanted = (
        sum(s.pose is not None for s in scans),
        [s for s in scans if not job.get("left_out", s.id)],
    )
    loose = sum(s.pose is None for s in wanted)
    rms = (job.get("network") or {}).get("rms_mm")
    if not placed:
        return None, "needs scans" if not scans else ""
    notation, late = Notation.of(job), due(job)
    return (
        notation.residual(rms)
        if rms is not None and placed == len(scans)
        else f"{placed} of {len(scans)} placed"
    ), f"{loose} scan{'s' * (loose != 1)} not placed yet" if loose else late and f"adjustment due: {late}"


def _georeference(job):
    frame = job.get("frame")
    if frame is None:
        return None, "" if any(s.pose is not None for s in job.scans()) else "needs placed scans"
    if frame["how"] == "control":
        rows = [r for r in frame["rows"] if r["role"] == "control"]
        return f"{sum(r['matched'] for r in rows)} of {len(rows)} control", ""
    return "levelled", ""


def _clean(job):
    cuts = job.facts("cut")
    total = sum(s.points for s in job.scans())
    return (
        (f"{100 * sum(c['points'] for c in cuts.values()) / max(total, 1):.2f} % cut", "")
        if cuts
        else (None, "")
    )


def _colorize(job):
    coloured = sum(1 for k in job.facts("column") if k.endswith("/photo_rgb"))
    return (
        (f"{coloured} of {len(job.scans())} scans", "")
        if coloured
        else (None, "" if job.facts("photo") or not job.scans() else "no photos came along")
    )


def _classify(job):
    last = job.last_entries().get("classify.ground")
    return (f"ground {100 * last.figures['share']:.0f} %", "") if last else (None, "")


def _draw(job):
    lines = sum(len(d["lines"]) for d in job.facts("drawing").values())
    return (f"{lines} lines", "") if job.facts("drawing") else (None, "")


def _deliver(job):
    files = len(job.facts("deliverable"))
    return (f"{files} file{'s' * (files != 1)}", "") if files else (None, "")
