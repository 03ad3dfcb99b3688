"""From an operation's ``Params`` to form controls, and from a posted form back to values."""

import json

from terrazza.errors import ParamsError
from terrazza.operations.base import Operation, describe


def controls(operation: type[Operation]) -> dict:
    """What ``_form.html`` needs: the operation's description, with ``value``, its default, for each parameter."""
    about = describe(operation)
    for row in about["params"]:
        row["value"] = row["default"]
    return about


def values(operation: type[Operation], form) -> dict:
    """Typed values from a form; fields left empty keep their defaults; ParamsError names what cannot be read."""
    out = {}
    for row in describe(operation)["params"]:
        name, kind = row["name"], row["type"]
        if kind == "boolean":
            if f"{name}.there" in form:
                out[name] = form.get(name) in {"on", "true", "1"}
            continue
        if row["widget"] == "bands" and f"{name}.low" in form:
            parts = {k: form.getlist(f"{name}.{k}") for k in ("low", "high", "code")}
            out[name] = [{k: _plain(str(v)) for k, v in zip(parts, triple)} for triple in zip(*parts.values()) if all(str(v).strip() for v in triple)]
            continue
        if kind == "array":
            got = _array(operation, name, form.getlist(name))
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
            raise ParamsError(f"{operation.name}: “{row['title']}” needs a number, got “{text}”.", "Type for example 0.05.") from error
    return text


def _array(operation, name, parts):
    """Values of one list: JSON in a single field, numbers with commas, or repeated fields; None where the form has none."""
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
                raise ParamsError(f"{operation.name}: “{name}” cannot be read.", "Reload the page and try again.") from error
        parts = [p for p in text.replace(";", ",").split(",") if p.strip()]
    return [_plain(p.strip()) for p in parts]


def _plain(text):
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text
