"""From an operation's ``Params`` to form controls, and from a posted form back to values.

Parameters count in metres or millimetres; a form shows and takes them in the unit that it names in a field
``….unit``, the job's own.  What is posted without such a field counts as the parameter does.
"""

import json

from terrazza.errors import ParamsError
from terrazza.operations.pieces.counting import choosable, class_counts, class_namer
from terrazza.operations.spine.base import Operation, describe, find
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.units import metres_per

METRES = {"m": 1.0, "mm": 0.001}


def controls(operation: type[Operation], notation: Notation = Notation()) -> dict:
    """What ``_form.html`` needs: the operation's description, with ``value``, its default, for each
    parameter; lengths in the job's unit, named in ``written_in``.
    """
    about = describe(operation)
    for row in about["params"]:
        row["value"], row["written_in"] = row["default"], _written_in(row["unit"], notation)
        if row["written_in"]:
            per = _per(row["unit"], row["written_in"])
            row |= {"value": _shown(row["value"], per), "unit": notation.short, "per": per} | {
                k: row[k] / per for k in ("ge", "le") if k in row
            }
    about["params"] = _in_order(about["params"], notation)
    return about


def _in_order(rows: list[dict], notation: Notation) -> list[dict]:
    """Parameters with easting and northing in the job's order."""
    at = {name: k for k, row in enumerate(rows) for name in ("easting", "northing") if name in row["title"]}
    if notation.order == "N E H" and len(at) == 2:
        rows[at["easting"]], rows[at["northing"]] = rows[at["northing"]], rows[at["easting"]]
    return rows


def form(job: Job, name: str) -> dict:
    """The form of a job for one operation, with nothing filled in yet: scans and classes to choose from, and
    what is left blank with the value it would take.
    """
    operation, notation = find(name), Notation.of(job)
    about = controls(operation, notation)
    automatic = operation.automatic(job) if any(row["blank"] for row in about["params"]) else {}
    for row in about["params"]:
        if row["blank"] and row["value"] in (0, None):
            row["value"] = None
            if row["name"] in automatic:
                row["blank"] = f"{row['blank']}: {automatic[row['name']] / row.get('per', 1.0):.3g}"
        if row["widget"] in {"scan", "scans"}:
            row["options"] = [{"value": s.id, "name": s.name, "points": s.points} for s in job.scans()]
        if row["widget"] in {"classes", "bands"}:
            row["options"] = class_options(job)
    return about


def class_options(job: Job) -> list[dict]:
    """Classes with names, and any others the job has, each with the kept points of it."""
    counts = class_counts(job) if job.scans() else {}
    name = class_namer(job)
    codes = sorted({*choosable(job), *counts})
    return [{"value": c, "name": name(c), "points": counts.get(c, 0)} for c in codes]


def told(operation: type[Operation], params: dict, notation: Notation) -> list[dict]:
    """Parameters as an entry of the field book holds them, as ``title``, ``value`` and ``unit``; lengths in
    the job's unit.
    """
    about, out = {row["name"]: row for row in describe(operation)["params"]}, []
    for name, value in params.items():
        row = about.get(name, {"title": name, "unit": ""})
        unit = _written_in(row["unit"], notation)
        out.append(
            {
                "title": row["title"],
                "value": _shown(value, _per(row["unit"], unit), 7) if unit else value,
                "unit": notation.short if unit else row["unit"],
            }
        )
    return out


def _written_in(unit: str, notation: Notation) -> str:
    """The unit that a form uses for a parameter that counts in ``unit``; empty where that is the same."""
    short = {"m": notation.short, "mm": notation.small_short}.get(unit, unit)
    return notation.unit if short != unit else ""


def _per(unit: str, written_in: str) -> float:
    """How much of a parameter's ``unit`` one of the unit is that a form is written in."""
    return metres_per(written_in) / METRES[unit]


def _shown(value, per: float, digits: int = 4):
    """A number, a list of numbers or height bands, as a form in another unit shows them."""
    if isinstance(value, list):
        return [_shown(v, per, digits) for v in value]
    if isinstance(value, dict):
        return value | {k: _shown(value[k], per, digits) for k in ("low", "high") if k in value}
    return float(f"{value / per:.{digits}g}") if isinstance(value, (int, float)) else value


def _meant(value, default, per: float):
    """What was typed, back in the parameter's own unit; what still is the default as it was shown means the
    default to the last digit.
    """
    if value == _shown(default, per):
        return default
    if isinstance(value, list):
        return [
            _meant(v, d, per)
            for v, d in zip(
                value,
                default if isinstance(default, list) and len(default) == len(value) else [None] * len(value),
            )
        ]
    if isinstance(value, dict):
        return value | {k: _meant(value[k], (default or {}).get(k), per) for k in ("low", "high")}
    return round(value * per, 9) if isinstance(value, (int, float)) else value


def need_reach(job: Job, operation: type[Operation], params: dict) -> None:
    """ParamsError where the page may not read or write a file that parameters name."""
    for row in describe(operation)["params"]:
        value = params.get(row["name"]) if row["role"] else None
        for path in (value if isinstance(value, list) else [value]) if value else ():
            job.need_reach(row["role"], str(path))


def values(operation: type[Operation], form) -> dict:
    """Typed values from a form; fields left empty keep their defaults; ParamsError names what
    cannot be read.
    """
    out = _typed(operation, form)
    for row in describe(operation)["params"]:
        unit = form.get(f"{row['name']}.unit")
        if unit and row["name"] in out and row["unit"] in METRES:
            out[row["name"]] = _meant(out[row["name"]], row["default"], _per(row["unit"], unit))
    return out


def _typed(operation, form) -> dict:
    out = {}
    for row in describe(operation)["params"]:
        name, kind = row["name"], row["type"]
        if kind == "boolean":
            if row["optional"] and form.get(name) in (None, ""):
                continue
            if f"{name}.there" in form or row["optional"]:
                out[name] = form.get(name) in {"on", "true", "1"}
            continue
        if row["widget"] == "bands" and f"{name}.low" in form:
            parts = {k: form.getlist(f"{name}.{k}") for k in ("low", "high", "code")}
            out[name] = [
                {k: _plain(str(v)) for k, v in zip(parts, triple)}
                for triple in zip(*parts.values())
                if all(str(v).strip() for v in triple)
            ]
            continue
        if kind == "array":
            got = _array(operation, name, form.getlist(name))
            if got and row["widget"] == "scans":
                got = [number for part in got for number in _stretch(part)]
            if got is None and f"{name}.there" in form:
                got = []
            if got is not None:
                out[name] = got
            continue
        text = str(form.get(name, "")).strip()
        if text == "":
            continue
        out[name] = _scalar(operation, row, text)
    return out


def _scalar(operation, row, text):
    if row["type"] in {"number", "integer"}:
        try:
            value = float(text.replace(",", "."))
            return int(value) if row["type"] == "integer" and value == int(value) else value
        except ValueError as error:
            raise ParamsError(
                f"{operation.name}: “{row['title']}” needs a number, got “{text}”.", "Type for example 0.05."
            ) from error
    return text


def _array(operation, name, parts):
    """Values of one list: JSON in a single field, numbers with commas, or repeated fields; None where the
    form has none.
    """
    if not parts:
        return None
    if len(parts) == 1:
        text = parts[0].strip()
        if not text:
            return []
        if text[0] == "[":
            try:
                return json.loads(text)
            except json.JSONDecodeError as error:
                raise ParamsError(
                    f"{operation.name}: “{name}” cannot be read.", "Reload the page and try again."
                ) from error
        parts = [p for p in text.replace(";", ",").split(",") if p.strip()]
    return [_plain(p.strip()) for p in parts]


def _stretch(part) -> list:
    """“8-12” as the numbers from 8 to 12; anything else as it is."""
    first, dash, last = str(part).partition("-")
    if dash and first.strip().isdecimal() and last.strip().isdecimal() and int(last) - int(first) < 100_000:
        return list(range(int(first), int(last) + 1))
    return [part]


def _plain(text):
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text
