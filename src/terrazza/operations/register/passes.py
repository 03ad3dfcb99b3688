"""The passes of a flight: which points were taken on which, how the path covers them, and the craft on it."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.clean.shelves import shelve, sorted_onto
from terrazza.operations.pieces import portions
from terrazza.operations.register.flying import FlightParams, Given, flight_of, flown
from terrazza.operations.register.strips import StripsParams, signed, sized, surfaces
from terrazza.operations.spine.base import Figures, Operation, field, operation
from terrazza.operations.spine.job import Job
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.strips import flight as flights

COLUMN = "extra.pass"
CRAFTS, SIZE = 6, 0.04  # that are drawn on a pass, and how long, of its length
# the craft from above, in its own length: x forward, y left, z up; and its fin
HULL = np.array([[0.5, 0, 0], [-0.1, 0.4, 0], [-0.1, 0.1, 0], [-0.5, 0.15, 0], [-0.5, -0.15, 0]])
HULL = np.r_[HULL, [[-0.1, -0.1, 0], [-0.1, -0.4, 0]]]
FIN = np.array([[-0.5, 0, 0], [-0.5, 0, 0.25], [-0.2, 0, 0]])


class PassesParams(FlightParams):
    turns: str = field(
        "Shelf for turns",
        "",
        max_length=100,
        help="Name of a shelf that takes what was not taken on a straight pass; empty: it stays.",
    )
    shelves: bool = field(
        "Each on a shelf of its own",
        False,
        help="So that passes are switched one by one, and delivered or not.",
    )
    draw: bool = field("Draw the path", True, help="With the craft on it, as it was turned.")


@operation
class Passes(Operation):
    """Splits a flight into its straight passes by time: the number of the pass is kept with the points as the
    dimension “pass” (0 in turns); path and craft are drawn; what the path does not cover is told.
    """

    name, title, step = "register.passes", "Passes of a flight", "Register"
    reads, looks = frozenset({"pose", "frame", "crs", "cut"}), frozenset({"scan"})
    writes = frozenset({"column", "drawing", "shelf"})
    Params = PassesParams

    def run(self, job: Job, params: PassesParams, progress: Progress) -> Figures:
        scans = flown(job, params)
        given, read, choices, cover = flight_of(job, scans, params)
        given, words, doubt = _signed(job, scans, given, choices, progress)
        none = {s.id: None for s in scans}
        told = portions.rewrite(job, scans, COLUMN, _numbered, none, progress, "Sorting by pass", given)
        counts = sum(np.array(t) for s in scans for t in told[s.id])
        figures: Figures = {}
        if params.turns:
            figures["turns"] = shelve(
                job, scans, params.turns, _in_turn, none, progress, "Putting turns aside", given
            )["points"]
        if params.shelves:
            names = [f"Pass {k}" for k in range(1, len(given.passes) + 1)]
            sort = "Sorting onto shelves"
            figures["shelves"] = sorted_onto(job, scans, names, _pass_of, none, progress, sort, given)
        if params.draw:
            figures["drawing"] = _drawn(job, given)
        return figures | {
            "says": f"{len(given.passes)} passes with {counts[1:].sum():,} points, {counts[0]:,} in turns",
            "passes": [
                {
                    "number": k,
                    "start": p.start,
                    "end": p.end,
                    "course_deg": float(np.degrees(p.course)) % 360,
                    "length": p.length,
                    "points": int(counts[k]),
                }
                for k, p in enumerate(given.passes, 1)
            ],
            "read": [read, words],
            "cover": cover.figures,
            "doubt": cover.doubts + doubt,
        }


def _signed(job: Job, scans, given: Given, choices: list, progress: Progress):
    """The flight with roll and pitch as the strips agree best, how they were read, and what is doubted."""
    if len(choices) == 1:
        return given, choices[0][0], []
    try:
        given = sized(job, scans, given, Part(progress, 0, 0.3))
        found, pairs = surfaces(job, scans, given, Part(progress, 0.3, 0.5))
    except StateError as error:
        return given, choices[0][0], [f"Signs of roll and pitch are not told: {error}"]
    return signed(given, choices, found, pairs, StripsParams(trajectory=""))


def _pass_of(cloud: Cloud, start: int, stop: int, _, given: Given) -> np.ndarray:
    """(n,) number of the pass, from 1; 0 for none."""
    when = np.asarray(cloud.read("time", start, stop), float) + given.shift
    return flights.numbers(given.passes, when) + 1


def _numbered(cloud: Cloud, start: int, stop: int, _, given: Given):
    number = _pass_of(cloud, start, stop, None, given)
    return number.astype(np.uint16), np.bincount(number, minlength=len(given.passes) + 1).tolist()


def _in_turn(cloud: Cloud, start: int, stop: int, _, given: Given) -> np.ndarray:
    return _pass_of(cloud, start, stop, None, given) == 0


def _drawn(job: Job, given: Given) -> int:
    """The path and the craft on it as a drawing in space; its number."""
    path, back, lines = given.flight, rigid.inverse(job.frame), []

    def add(name: str, layer: str, xyz: np.ndarray, closed: bool = False) -> None:
        at = rigid.apply(back, xyz + given.origin)
        length = float(np.linalg.norm(np.diff(at, axis=0), axis=1).sum())
        about = {"name": name, "layer": layer, "closed": closed, "length": length, "space": True}
        lines.append(about | {"vertices": at.tolist()})

    for number, one in enumerate(given.passes, 1):
        mine = (path.time >= one.start) & (path.time <= one.end)
        way = path.xyz[mine]
        add(f"Pass {number}", f"PASS {number}", way[:: max(len(way) // 200, 1)])
        for time in np.linspace(one.start, one.end, CRAFTS + 2)[1:-1]:
            place, angles = (v[0] for v in path.at(np.array([time])))
            turn = flights.rotation(angles) * SIZE * one.length
            add(f"Craft at {time:.1f} s", "CRAFT", HULL @ turn.T + place, closed=True)
            add(f"Fin at {time:.1f} s", "CRAFT", FIN @ turn.T + place)
    number = job.next_number("drawing")
    job.put("drawing", number, {"name": "Path of the flight", "lines": lines})
    return number
