"""Recipes: TOML files with ``[[step]]`` tables and ``[[question]]`` tables; read, filled in, checked before
they start, and written from a field book.

A step names its ``operation`` and parameters, and may have verdicts that stop the run::

    [[step]]
    operation = "register.automatic"
    stop = [{ figure = "rms_mm", over = 6.0, says = "RMS over 6 mm" }]

A question fills parameters (``step.parameter``, the step by operation or number) with what is answered::

    [[question]]
    name = "control"
    title = "Control file"
    kind = "file"
    fills = ["georeference.control.control"]
"""

import json
import os
import tomllib
from typing import Any, Literal

import tomli_w
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from terrazza.db.models import Entry
from terrazza.errors import InputError, ParamsError
from terrazza.operations.spine.base import checked, find, known

PATHS = {"import.files": ("files", "take"), "georeference.control": ()}
RESERVED = ("operation", "stop")


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Stop(_Table):
    """A verdict: the run stops where a figure of the step (by its name, dots lead into tables; of a list its
    length) is ``over`` or ``under`` a number.
    """

    figure: str
    over: float | None = None
    under: float | None = None
    says: str = ""

    def tripped(self, figures: dict) -> str:
        """The sentence that stops the run; empty where the figure is there and within its bounds."""
        value: Any = figures
        for part in self.figure.split("."):
            value = value.get(part) if isinstance(value, dict) else None
        if isinstance(value, (list, dict)):
            value = len(value)
        if value is None:
            return f"{self.says or self.figure}: there is no such figure"
        if self.over is not None and value > self.over:
            return f"{self.says or f'{self.figure} over {self.over:g}'} ({value:.6g})"
        if self.under is not None and value < self.under:
            return f"{self.says or f'{self.figure} under {self.under:g}'} ({value:.6g})"
        return ""


class Question(_Table):
    """What a recipe asks before it starts."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[^.=\s]+$")
    title: str
    kind: Literal["file", "number", "choice", "text"] = "text"
    choices: list[str] = []
    default: str | float | None = None
    help: str = ""
    fills: list[str] = Field(min_length=1)


class Step(_Table):
    """One operation with its parameters and verdicts."""

    operation: str
    params: dict[str, Any] = {}
    stop: list[Stop] = []


class Recipe(_Table):
    """A recipe as it was read; parameters are checked when it is filled in."""

    title: str = ""
    questions: list[Question] = []
    steps: list[Step]


def read(path: str) -> Recipe:
    """A recipe from a file; InputError or ParamsError names the step that is wrong."""
    try:
        with open(path, encoding="utf-8") as f:
            text = f.read()
    except FileNotFoundError as error:
        raise InputError(f"The recipe “{path}” is not there.", "Check the path.") from error
    except (UnicodeDecodeError, OSError) as error:
        raise InputError(f"The recipe “{os.path.basename(path)}” cannot be read ({error}).") from error
    return parsed(text, os.path.basename(path))


def parsed(text: str, name: str = "recipe") -> Recipe:
    """A recipe from its text; the name is for what is said of it.  Questions must fill steps of it."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"The recipe “{name}” is not valid TOML: {error}.", "Mend that line.") from error
    steps, unknown = data.get("step"), sorted(set(data) - {"step", "title", "question"})
    if not isinstance(steps, list) or not steps or unknown:
        raise InputError(
            f"The recipe “{name}” needs [[step]] tables"
            + (f" and knows no “{unknown[0]}”." if unknown else "."),
            "Each names an operation, then its parameters.",
        )
    made = []
    for number, step in enumerate(steps, 1):
        if not isinstance(step, dict) or not isinstance(step.get("operation"), str):
            raise InputError(
                f"Step {number} of the recipe “{name}” names no operation.",
                'Write for example operation = "import.files".',
            )
        find(step["operation"])
        params = {k: v for k, v in step.items() if k not in RESERVED}
        made.append({"operation": step["operation"], "params": params, "stop": step.get("stop", [])})
    try:
        recipe = Recipe(title=data.get("title", ""), questions=data.get("question", []), steps=made)
    except ValidationError as error:
        first = error.errors()[0]
        raise InputError(
            f"The recipe “{name}” cannot be understood ({'.'.join(map(str, first['loc']))}: {first['msg']}).",
            "See the guide on recipes.",
        ) from error
    for question in recipe.questions:
        for target in question.fills:
            _targets(recipe, target)
    return recipe


def _targets(recipe: Recipe, target: str) -> list[tuple[Step, str]]:
    """The step and parameter that ``step.parameter`` means; ParamsError where there is none, or several."""
    which, _, parameter = target.rpartition(".")
    if which.isdecimal():
        found = recipe.steps[int(which) - 1 : int(which)] if int(which) else []
    else:
        found = [s for s in recipe.steps if s.operation == which]
    if len(found) != 1:
        raise ParamsError(
            f"“{target}”: the recipe has {'no' if not found else len(found)} such step"
            f"{'s' if len(found) > 1 else ''}.",
            "Name it by its operation, or by its number where several are the same: 3.height=1.2.",
        )
    if parameter not in find(found[0].operation).Params.model_fields:
        find(found[0].operation).check({parameter: None})
    return [(found[0], parameter)]


def filled(recipe: Recipe, answers: dict[str, Any]) -> Recipe:
    """The recipe with answers to its questions (by name) and with parameters set (by ``step.parameter``), all
    its parameters checked.

    ParamsError names what is wrong; InputError the questions that are open.
    """
    recipe = recipe.model_copy(deep=True)
    given = {q.name: answers.get(q.name, q.default) for q in recipe.questions}
    missing = [q.title for q in recipe.questions if given[q.name] in (None, "")]
    if missing:
        raise InputError(
            f"The recipe asks for {', '.join(f'“{m}”' for m in missing)}.",
            "Answer on the command line with --set NAME=VALUE ("
            + ", ".join(q.name for q in recipe.questions)
            + ").",
        )
    for question in recipe.questions:
        value = _answer(question, given[question.name])
        for target in question.fills:
            for step, parameter in _targets(recipe, target):
                step.params[parameter] = _as_wanted(step, parameter, value)
    for name, value in answers.items():
        if name in given:
            continue
        if "." not in name:
            raise ParamsError(
                f"The recipe asks nothing named “{name}”.",
                f"It asks for {', '.join(given) or 'nothing'}; a parameter is set as step.parameter=value.",
            )
        for step, parameter in _targets(recipe, name):
            step.params[parameter] = value
    for number, step in enumerate(recipe.steps, 1):
        try:
            find(step.operation).check(step.params)
        except ParamsError as error:
            error.message = f"Step {number} of the recipe: {error.message}"
            raise
    return recipe


def _answer(question: Question, value):
    if question.kind == "choice" and str(value) not in question.choices:
        raise ParamsError(
            f"“{question.title}” is one of {', '.join(question.choices)}, got “{value}”.", "Choose one."
        )
    if question.kind == "number":
        try:
            return float(str(value).replace(",", "."))
        except ValueError as error:
            raise ParamsError(f"“{question.title}” needs a number, got “{value}”.", "Type one.") from error
    return str(value)


def _as_wanted(step: Step, parameter: str, value):
    """A single answer as the list that a parameter of several wants."""
    kind = find(step.operation).Params.model_fields[parameter].annotation
    return [value] if getattr(kind, "__origin__", None) is list else value


def files_read(recipe: Recipe) -> list[tuple[int, str]]:
    """Every file that a step of a filled recipe reads: (number of the step, name)."""
    found = []
    for number, step in enumerate(recipe.steps, 1):
        params = find(step.operation).check(step.params)
        for name, field in type(params).model_fields.items():
            if (field.json_schema_extra or {}).get("role") != "read":
                continue
            value = getattr(params, name)
            found += [(number, str(v)) for v in (value if isinstance(value, list) else [value]) if v]
    return found


def write(entries: list[Entry], title: str, bound: bool = False) -> str:
    """A recipe from living entries; steps bound to the place are left out unless ``bound``, and files are
    left to the command line.
    """
    steps = []
    for entry in entries:
        operation = known(entry.operation)
        if operation is None or entry.state != "done" or (operation.bound_to_place and not bound):
            continue
        step = {"operation": operation.name}
        values = checked(entry.operation, entry.params, entry.version).model_dump()
        fresh = {
            n: f.get_default(call_default_factory=True)
            for n, f in operation.Params.model_fields.items()
            if not f.is_required()
        }
        for key, value in values.items():
            if (
                key in PATHS.get(entry.operation, ())
                or value is None
                or (key in fresh and _same(fresh[key], value))
            ):
                continue
            if entry.operation == "georeference.control" and key == "control":
                value = os.path.basename(value)
            step[key] = _told(value)
        steps.append(step)
    text = f"title = {json.dumps(title, ensure_ascii=False)}\n"
    return text + "".join(f"\n[[step]]\n{_lines(step)}" for step in steps)


def _lines(step: dict) -> str:
    """A step as lines, lists and tables each on one line."""
    return "".join(f"{key} = {_inline(value)}\n" for key, value in step.items())


def _inline(value) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{k} = {_inline(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_inline(v) for v in value) + "]"
    return tomli_w.dumps({"v": value}).removeprefix("v = ").strip()


def _same(default, value) -> bool:
    plain = (
        [d.model_dump() if hasattr(d, "model_dump") else d for d in default]
        if isinstance(default, list)
        else default
    )
    return plain == value


def _told(value):
    """A value without what TOML has no word for."""
    if isinstance(value, dict):
        return {k: _told(v) for k, v in value.items() if v is not None}
    return [_told(v) for v in value] if isinstance(value, (list, tuple)) else value


def entries_of(job) -> list[Entry]:
    return list(Entry.select().where(Entry.job == job).order_by(Entry.number))
