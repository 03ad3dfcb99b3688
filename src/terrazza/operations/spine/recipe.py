"""Recipes: TOML files with ``[[step]]`` tables; read, checked before they start, and written from a field
book.
"""

import json
import os
import tomllib

from terrazza.db.models import Entry
from terrazza.errors import InputError
from terrazza.operations.spine.base import find

PATHS = {"import.files": ("files", "take"), "georeference.control": ()}


def read(path: str) -> list[dict]:
    """Steps as ``operation`` and ``params``; InputError or ParamsError names the step that is wrong."""
    name = os.path.basename(path)
    try:
        with open(path, "rb") as f:
            data = tomllib.load(f)
    except FileNotFoundError as error:
        raise InputError(f"The recipe “{path}” is not there.", "Check the path.") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise InputError(f"The recipe “{name}” is not valid TOML: {error}.", "Mend that line.") from error
    steps = data.get("step")
    if not isinstance(steps, list) or not steps or set(data) - {"step", "title"}:
        raise InputError(
            f"The recipe “{name}” needs [[step]] tables"
            + (
                f" and knows no “{sorted(set(data) - {'step', 'title'})[0]}”."
                if set(data) - {"step", "title"}
                else "."
            ),
            "Each names an operation, then its parameters.",
        )
    out = []
    for number, step in enumerate(steps, 1):
        if not isinstance(step, dict) or not isinstance(step.get("operation"), str):
            raise InputError(
                f"Step {number} of the recipe “{name}” names no operation.",
                'Write for example operation = "import.files".',
            )
        params = {k: v for k, v in step.items() if k != "operation"}
        try:
            find(step["operation"]).check(params)
        except Exception as error:
            if hasattr(error, "message"):
                error.message = f"Step {number} of the recipe: {error.message}"
            raise
        out.append({"operation": step["operation"], "params": params})
    return out


def write(entries: list[Entry], title: str, bound: bool = False) -> str:
    """A recipe from living entries; steps bound to the place are left out unless ``bound``, and files are
    left to the command line.
    """
    lines = [f"title = {json.dumps(title, ensure_ascii=False)}", ""]
    for entry in entries:
        operation = find(entry.operation)
        if entry.state != "done" or (operation.bound_to_place and not bound):
            continue
        lines.append("[[step]]")
        lines.append(f"operation = {json.dumps(entry.operation)}")
        defaults = operation.check(dict(entry.params)).model_dump()
        fresh = {
            n: f.get_default(call_default_factory=True)
            for n, f in operation.Params.model_fields.items()
            if not f.is_required()
        }
        for key, value in defaults.items():
            if (
                key in PATHS.get(entry.operation, ())
                or value is None
                or (key in fresh and _same(fresh[key], value))
            ):
                continue
            if entry.operation == "georeference.control" and key == "control":
                value = os.path.basename(value)
            lines.append(f"{key} = {_toml(value)}")
        lines.append("")
    return "\n".join(lines)


def _same(default, value) -> bool:
    plain = (
        [d.model_dump() if hasattr(d, "model_dump") else d for d in default]
        if isinstance(default, list)
        else default
    )
    return plain == value


def _toml(value) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{k} = {_toml(v)}" for k, v in value.items() if v is not None) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_toml(v) for v in value) + "]"
    return json.dumps(value, ensure_ascii=False)


def entries_of(job) -> list[Entry]:
    return list(Entry.select().where(Entry.job == job).order_by(Entry.number))
