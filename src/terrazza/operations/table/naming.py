"""Names and numbers of what lies on the table."""

import itertools

from terrazza.errors import NotFound, ParamsError
from terrazza.operations.spine.job import Job


def name_or(job: Job, kind: str, wanted: str, otherwise: str) -> str:
    name = " ".join(wanted.split()) or otherwise
    if any(v["name"] == name for v in job.facts(kind).values()):
        raise ParamsError(f"There is a {kind} “{name}” already.", "Choose another name.")
    return name


def need_there(job: Job, kind: str, number: int) -> dict:
    found = job.get(kind, number)
    if found is None:
        raise NotFound(f"There is no {kind} {number}.", f"There are {', '.join(job.facts(kind)) or 'none'}.")
    return found


def free_name(job: Job, kind: str, number: int, word: str = "") -> str:
    """The default name of something new: a word (its kind) and its number, or the next one that nothing there
    is called by.
    """
    taken = {v["name"] for v in job.facts(kind).values()}
    return next(name for n in itertools.count(number) if (name := f"{word or kind} {n}") not in taken)
