"""The jobs to look around in: field data of simulated instruments, and a recipe that is run on it as on
anybody's.
"""

import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from importlib import resources

from terrazza.core.progress import QUIET, Progress
from terrazza.db import queries
from terrazza.db.models import Job as Row
from terrazza.operations.spine import course, recipe
from terrazza.work.keeping import DEMO
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


@dataclass(frozen=True)
class Demo:
    """One such job: its name, what the list of jobs says of it and the words of its button, the step it opens
    at, what lays its field data into a folder and names the scans among it, and the file of its recipe.
    """

    name: str
    says: str
    button: str
    step: str
    lay: Callable[[str, Progress], list[str]]
    recipe: str


DEMOS = {
    "estate": Demo(DEMO, "", "", "import", _estate, "estate.toml"),
    "flight": Demo(
        "Settegradini, flight",
        "Four drone strips over the terraces, with trajectory, heights, and a scanner that sits a little "
        "turned:",
        "Make the demo's flight",
        "register",
        _flight,
        "flight.toml",
    ),
    "finished": Demo(
        "Settegradini, handed over",
        "The terraces taken through all eight steps, to the report and the client's folder; some minutes:",
        "Finish the demo",
        "deliver",
        _estate,
        "finished.toml",
    ),
}


def field_folder(workspace: str) -> str:
    """Where the field data of the demos lies."""
    return os.path.join(os.path.abspath(workspace), "demo-field")


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
    files = [os.path.join(field, name) for name in demo.lay(field, progress)]
    wanted = recipe.parsed((resources.files("terrazza.demo") / demo.recipe).read_text("utf-8"), demo.recipe)
    course.check(wanted, files, [field], workspace)
    row = queries.create_job(workspace, demo.name)
    course.begin(row, wanted, who, inputs=files, out="", search=[field])
    return row


def offered() -> list[tuple[str, Demo]]:
    """Those that the list of jobs offers: beside the demo job, what is not there yet."""
    there = {row.name for row in Row.select(Row.name)}
    return [(k, d) for k, d in DEMOS.items() if d.button and DEMO in there and d.name not in there]
