"""Demo jobs made: field data of simulated instruments, and a recipe that is run on it as on anybody's."""

import os
import shutil
import sys
from importlib import resources

from terrazza.core.progress import QUIET, Progress
from terrazza.db import queries
from terrazza.db.models import Job as Row
from terrazza.operations.spine import course, recipe
from terrazza.operations.spine.job import Job
from terrazza.work.demos import DEMOS, field_folder
from terrazza.work.open import open_workspace


def _estate(field: str, progress: Progress) -> list[str]:
    from terrazza.demo import build

    if not os.path.isfile(os.path.join(field, build.CONTROL_FILE)):
        print("Building the demo's field data: eight scans with photos, and a walk …", file=sys.stderr)
        build.build(field, progress=progress)
    if not os.path.isfile(os.path.join(field, build.DESIGN_FILE)):
        build.design(os.path.join(field, build.DESIGN_FILE))
    return [*(name for name, _ in build.FILES), build.WALK_FILE]


def _flight(field: str, progress: Progress) -> list[str]:
    from terrazza.demo import flight

    if not os.path.isfile(os.path.join(field, flight.CONTROL)):
        flight.build(field)
    return [flight.CLOUD]


def _second(field: str, progress: Progress) -> list[str]:
    from terrazza.demo import drawn, second

    if not all(os.path.isfile(os.path.join(field, name)) for name in (second.CLOUD, drawn.SKETCH)):
        second.build(field, progress=progress)
    return [second.CLOUD]


def _drawn(field: str) -> list[str]:
    from terrazza.demo import drawn

    return [os.path.join(field, drawn.SKETCH)]


# which also names the scans among what is laid out
LAID = {
    "estate": _estate,
    "flight": _flight,
    "second": _second,
    "finished": _estate,
}
ALONG = {"second": _drawn}  # what lies in the job's inbox, to be used by hand


def begin(workspace: str, key: str, who: str, progress: Progress = QUIET) -> Row | None:
    """Make the job and set its recipe running, where there is none of its name yet; its steps are taken by
    ``who``.
    """
    open_workspace(workspace)
    demo = DEMOS[key]
    if Row.get_or_none(name=demo.name):
        return None
    field = field_folder(workspace)
    os.makedirs(field, exist_ok=True)
    files = [os.path.join(field, name) for name in LAID[key](field, progress)]
    wanted = recipe.parsed((resources.files("terrazza.demo") / f"{key}.toml").read_text("utf-8"), key)
    course.check(wanted, files, [field], workspace)
    row = queries.create_job(workspace, demo.name)
    for path in ALONG.get(key, lambda field: [])(field):
        shutil.copy(path, Job(workspace, row).subfolder("inbox"))
    course.begin(row, wanted, who, inputs=files, out="", search=[field])
    return row
