"""Recipes run from the page: what one asks, how the last one stands."""

import os

from terrazza.errors import TerrazzaError
from terrazza.operations.spine import course, recipe
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.reach import PAGE
from terrazza.web.contexts.forms import need_reach


def files(job: Job) -> list[str]:
    """Names of the whole files in the inbox."""
    names = sorted(os.listdir(job.subfolder("inbox")))
    return [n for n in names if not n.startswith(".") and not n.endswith((".part", ".upload"))]


def build(job: Job, text: str = "", answers: dict[str, str] | None = None) -> dict:
    """How the job's last recipe stands (``course``), and of a recipe's ``text`` its ``questions`` with the
    answers so far and the sentence (``wrong``) that keeps it from starting.
    """
    out = {"job": job.row, "course": course.told(job.row), "text": text, "questions": [], "wrong": ""}
    if not text:
        return out
    try:
        asked = recipe.parsed(text)
        out["title"] = asked.title
        out["questions"] = [
            q.model_dump() | {"value": (answers or {}).get(q.name, q.default)} for q in asked.questions
        ]
        out["files"] = files(job)
        if answers is None and asked.questions:
            return out
        recipe.filled(asked, answers or {})
    except TerrazzaError as error:
        out["wrong"] = str(error)
    return out


def begin(job: Job, text: str, answers: dict[str, str]) -> None:
    """Set a recipe running on what lies in the inbox; errors say what is wrong, and then nothing runs."""
    wanted = recipe.filled(recipe.parsed(text), {k: v for k, v in answers.items() if v != ""})
    for step in wanted.steps:
        need_reach(job, find(step.operation), step.params)
    inbox = job.subfolder("inbox")
    taken = {s.record["file"] for s in job.scans()}
    inputs = [os.path.join(inbox, n) for n in files(job) if n not in taken and not n.endswith(".toml")]
    course.check(wanted, inputs, [inbox], job.folder)
    course.begin(job.row, wanted, PAGE, inputs=inputs, out="", search=[inbox])
