"""The job's page: sheet, terraces and strip in one."""

from terrazza.errors import NotFound
from terrazza.operations.spine.base import STEPS
from terrazza.operations.spine.job import Job
from terrazza.web.contexts import fieldbook, sheets, terraces

SLUGS = tuple(s.lower() for s in STEPS)


def first_step(job: Job) -> str:
    """Where a surveyor left off: the first step without a result."""
    return next((t["slug"] for t in terraces.build(job, "")["steps"] if t["state"] == "todo"), "deliver")


def build(job: Job, step: str) -> dict:
    if step not in SLUGS:
        raise NotFound(f"There is no step “{step}”.", f"Steps are {', '.join(SLUGS)}.")
    return {**fieldbook.strip(job), **terraces.build(job, step), **sheets.build(job, step)}
