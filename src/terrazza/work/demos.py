"""The jobs to look around in, as the list of jobs offers them."""

import os
from dataclasses import dataclass

from terrazza.db.models import Job as Row
from terrazza.work.keeping import DEMO


@dataclass(frozen=True)
class Demo:
    """One such job: its name, what the list says of it, the words of its button, the step it opens at."""

    name: str
    says: str
    button: str
    step: str


DEMOS = {
    "estate": Demo(DEMO, "", "", "import"),
    "flight": Demo(
        "Settegradini, flight",
        "Four drone strips over the terraces, with trajectory, heights, and a scanner that sits a little "
        "turned:",
        "Make the demo's flight",
        "register",
    ),
    "second": Demo(
        "Settegradini, second day",
        "Five more scans that see boards of the first day again, in a frame of that day; one came with a "
        "wrong pose, one needs a hand:",
        "Make the second day",
        "register",
    ),
    "finished": Demo(
        "Settegradini, handed over",
        "The terraces taken through all eight steps, to the report and the client's folder; some minutes:",
        "Finish the demo",
        "deliver",
    ),
}


def field_folder(workspace: str) -> str:
    """Where the field data of the demos lies."""
    return os.path.join(os.path.abspath(workspace), "demo-field")


def offered() -> list[tuple[str, Demo]]:
    """Those that the list of jobs offers: beside the demo job, what is not there yet."""
    there = {row.name for row in Row.select(Row.name)}
    return [(k, d) for k, d in DEMOS.items() if d.button and DEMO in there and d.name not in there]
