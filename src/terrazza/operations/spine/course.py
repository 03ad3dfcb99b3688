"""The run of a recipe on a job, kept with the job: which step comes next, why it stopped, where it goes on.

A step's entry is made in the same transaction that notes its number, so that no step runs twice and none is
left out, whenever the process ends.
"""

import os
import shutil

from terrazza.db.models import Entry, database
from terrazza.db.models import Job as Row
from terrazza.errors import InputError, NotFound, StateError
from terrazza.operations.spine.base import title
from terrazza.operations.spine.fieldbook import enter
from terrazza.operations.spine.recipe import Recipe, Stop, files_read

KEY = "course"
PER_BYTE = 3.0  # bytes of columns, pictures and indices that a byte of a compressed scan file may become


def check(recipe: Recipe, inputs: list[str], folders: list[str], disk: str) -> None:
    """InputError before anything is done: an input or a file that a step reads is not there, or the disk of
    ``disk`` has no room for what the inputs become.
    """
    for path in inputs:
        if not os.path.exists(path):
            raise InputError(f"The input “{path}” is not there.", "Check its path.")
    beside = [*folders, *(os.path.dirname(i) for i in inputs)]
    for number, name in files_read(recipe):
        if not any(os.path.exists(os.path.join(folder, name)) for folder in beside):
            raise NotFound(
                f"Step {number} of the recipe reads “{name}”, which is not there.",
                "Give its full path, or lay it beside the recipe or the inputs.",
            )
    while not os.path.isdir(disk):
        disk = os.path.dirname(os.path.abspath(disk))
    need, free = PER_BYTE * sum(map(os.path.getsize, inputs)), shutil.disk_usage(disk).free
    if need > free:
        raise InputError(
            f"The inputs need about {need / 1e9:.1f} GB in the workspace; {free / 1e9:.1f} GB are free.",
            "Make room, or name a workspace on a larger disk.",
        )


def begin(row: Row, recipe: Recipe, who: str, **given) -> None:
    """Set a filled recipe running on a job; ``given`` are the inputs, search folders and out of its runs."""
    steps = [s.model_dump() | {"entry": None} for s in recipe.steps]
    with database.atomic("IMMEDIATE"):
        now = _of(row)
        if now and not now["over"] and _standing(row, now)[1] in {"queued", "running"}:
            raise StateError("A recipe is running on this job already.", "Wait for it, or cancel its step.")
        _keep(row, {"title": recipe.title, "steps": steps, "who": who, "over": "", "given": given})


def advance(row: Row) -> Entry | None:
    """The entry of the next step, queued; None where the last has not ended well, a verdict stops the run, or
    all is done.
    """
    with database.atomic("IMMEDIATE"):
        course = _of(row)
        if course is None or course["over"]:
            return None
        number, state = _standing(row, course)
        if number and state != "done":
            return None
        if number:
            figures = Entry.get(job=row, number=course["steps"][number - 1]["entry"]).figures or {}
            verdicts = [Stop(**s).tripped(figures) for s in course["steps"][number - 1]["stop"]]
            if any(verdicts):
                course["over"] = next(filter(None, verdicts))
                _keep(row, course)
                return None
        if number == len(course["steps"]):
            course["over"] = "done"
            _keep(row, course)
            return None
        step = course["steps"][number]
        entry = enter(row, step["operation"], step["params"], course["who"])
        step["entry"] = entry.number
        _keep(row, course)
        return entry


def under_way(row: Row) -> bool:
    """Whether a recipe runs on a job, or goes on by itself."""
    course = _of(row)
    if course is None or course["over"]:
        return False
    number, state = _standing(row, course)
    return not number or state in {"queued", "running", "done"}


def resume(row: Row, recipe: Recipe | None = None, who: str = "") -> None:
    """Let a run that broke off, or that a verdict stopped, go on with the first step that is not done, as
    ``who`` if that is another now.

    StateError where there is none, or where ``recipe`` is another one.
    """
    with database.atomic("IMMEDIATE"):
        course = _of(row)
        if course is None:
            raise StateError("No recipe has been begun on this job.", "Run one.")
        told = [(s["operation"], s["params"]) for s in course["steps"]]
        if recipe is not None and told != [(s.operation, s.params) for s in recipe.steps]:
            raise StateError(
                "This job was begun with another recipe.",
                "Go on with that one, or use --append for this one.",
            )
        number, state = _standing(row, course)
        if course["over"] == "done":
            raise StateError("This recipe is done.", "Run it on another job, or again with --append.")
        if state in {"queued", "running"}:
            raise StateError("This recipe is running.", "Wait for it, or cancel its step.")
        if state == "done":
            course["steps"][number - 1]["stop"] = []  # whoever goes on has seen the verdict
        elif number:
            course["steps"][number - 1]["entry"] = None
        course |= {"over": ""} | ({"who": who} if who else {})
        _keep(row, course)


def told(row: Row) -> dict | None:
    """How the last recipe of a job stands: ``title``, ``step`` (the last begun), ``of``, ``what`` (its
    title), ``state`` (of its entry, or stopped, or done) and ``says``.
    """
    course = _of(row)
    if course is None:
        return None
    number, state = _standing(row, course)
    entry = Entry.get_or_none(job=row, number=course["steps"][number - 1]["entry"]) if number else None
    over = course["over"]
    return {
        "title": course["title"],
        "step": number,
        "of": len(course["steps"]),
        "what": title(course["steps"][number - 1]["operation"]) if number else "",
        "state": _told_state(over, state),
        "says": "" if over == "done" else over or (entry.message if entry else ""),
    }


def _told_state(over: str, state: str) -> str:
    """``state`` is that of the last step's entry; between two steps the recipe is running."""
    if over:
        return "done" if over == "done" else "stopped"
    return {"": "queued", "done": "running"}.get(state, state)


def given(row: Row, number: int) -> dict:
    """What a recipe gave along to the run of one of its entries; empty for others."""
    course = _of(row)
    mine = course and any(s["entry"] == number for s in course["steps"])
    return course["given"] if mine else {}


def waiting(who: str) -> list[Row]:
    """Jobs whose recipes were begun by ``who`` and may have a next step."""
    found = [r for r in Row.select() if KEY in r.settings]
    return [r for r in found if r.settings[KEY]["who"] == who and not r.settings[KEY]["over"]]


def _of(row: Row) -> dict | None:
    return Row.get_by_id(row.id).settings.get(KEY)


def _keep(row: Row, course: dict) -> None:
    fresh = Row.get_by_id(row.id)
    Row.update(settings=fresh.settings | {KEY: course}).where(Row.id == row.id).execute()


def _standing(row: Row, course: dict) -> tuple[int, str]:
    """The number of the last step that has an entry, 0 before the first, and that entry's state."""
    begun = [n for n, s in enumerate(course["steps"], 1) if s["entry"] is not None]
    if not begun:
        return 0, ""
    entry = Entry.get_or_none(job=row, number=course["steps"][begun[-1] - 1]["entry"])
    return begun[-1], entry.state if entry else "interrupted"
