"""Shelves: points split off under a name and kept apart; switched, delivered or not, taken off again."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import NotFound, ParamsError
from terrazza.operations.clean.taking import sum_up, tally, told
from terrazza.operations.pieces import portions
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

MOST = 255  # numbers that the column of shelves can hold


def shelve(
    job: Job, scans: list[Scan], name: str, choose, args: dict, progress: Progress, label: str, common=None
) -> dict:
    """Put what a rule masks (see ``taking.take_out``) on the shelf of a name, which is made where it is not
    there; figures as of a cut, with ``shelf``, its name.
    """
    name = " ".join(name.split())
    if not name:
        raise ParamsError("A shelf needs a name.", "Type one, for example “furniture”.")
    number = _number_of(job, name)
    own = {s.id: (number, choose, args.get(s.id)) for s in scans}
    found = portions.rewrite(job, scans, "shelf", _put, own, progress, label, common)
    figures = told([sum_up(found[s.id]) for s in scans], class_namer(job))
    _stock(job, number, name, figures["points"], apart=True)
    return figures | {"shelf": name, "number": number}


def sorted_onto(
    job: Job, scans: list[Scan], names: list[str], which, args: dict, progress: Progress, label: str, common
) -> dict[str, int]:
    """Put points onto several shelves at once, which stay in views and work: ``which(cloud, start, stop,
    args, common)`` gives (n,) places in ``names`` from 1, 0 for none; points on each.
    """
    numbers = np.array([0] + [_number_of(job, name, k) for k, name in enumerate(names)], np.int64)
    own = {s.id: (numbers, which, args.get(s.id)) for s in scans}
    found = portions.rewrite(job, scans, "shelf", _sort, own, progress, label, common)
    points = sum(np.array(told) for s in scans for told in found[s.id])
    for k, name in enumerate(names, 1):
        _stock(job, int(numbers[k]), name, int(points[k]), apart=False)
    return {name: int(n) for name, n in zip(names, points[1:])}


def _number_of(job: Job, name: str, more: int = 0) -> int:
    """The number of the shelf of a name, or a free one, of which so many are spoken for already."""
    there = next((k for k, v in job.facts("shelf").items() if v["name"] == name), None)
    number = int(there) if there else job.next_number("shelf") + more
    if number > MOST:
        raise ParamsError(f"This job has had {MOST} shelves.", "Use one that is there.")
    return number


def _stock(job: Job, number: int, name: str, points: int, apart: bool) -> None:
    """Note that a shelf took so many points more; a new one is ``apart``, or in views and deliverables."""
    new = {"name": name, "apart": apart, "delivered": not apart, "points": 0}
    before = job.get("shelf", number) or new
    job.put("shelf", number, before | {"points": before["points"] + points})


def _sort(cloud: Cloud, start: int, stop: int, args, common):
    numbers, which, own = args
    shelf = np.array(cloud.values("shelf", 0, start, stop), np.uint8)
    place = which(cloud, start, stop, own, common) * (cloud.kept(start, stop) & (shelf == 0))
    shelf[place > 0] = numbers[place[place > 0]]
    return (shelf if (place > 0).any() else None), np.bincount(place, minlength=len(numbers)).tolist()


def _put(cloud: Cloud, start: int, stop: int, args, common):
    number, choose, own = args
    shelf = np.array(cloud.values("shelf", 0, start, stop), np.uint8)
    free = cloud.kept(start, stop) & (shelf == 0)
    gone = choose(cloud, start, stop, own, common) & free
    shelf[gone] = number
    return (shelf if gone.any() else None), tally(cloud, start, stop, free, gone)


def _shelf(job: Job, name: str) -> tuple[int, dict]:
    """Number and record of the shelf of a name; NotFound says which there are."""
    for key, value in job.facts("shelf").items():
        if value["name"] == name:
            return int(key), value
    names = ", ".join(v["name"] for v in job.facts("shelf").values())
    raise NotFound(f"There is no shelf “{name}”.", f"Shelves are {names or 'none yet'}.")


class ShelfParams(Params):
    shelf: str = field("Shelf", max_length=100)
    apart: bool | None = field("Apart", None, help="On: out of views and of all work; off: in both.")
    delivered: bool | None = field("Delivered", None, help="Whether deliverables hold its points.")
    name: str = field("New name", "", max_length=100, help="Empty: as it is.")


@operation
class SwitchShelf(Operation):
    """Switches a shelf: in or out of views and work, in or out of deliverables; or renames it."""

    name, title, step = "clean.shelf", "Switch a shelf", "Clean"
    writes = frozenset({"shelf"})
    light = True
    Params = ShelfParams

    def run(self, job: Job, params: ShelfParams, progress: Progress) -> Figures:
        number, record = _shelf(job, params.shelf)
        new = {k: getattr(params, k) for k in ("apart", "delivered") if getattr(params, k) is not None}
        if name := " ".join(params.name.split()):
            if any(v["name"] == name and int(k) != number for k, v in job.facts("shelf").items()):
                raise ParamsError(f"Another shelf is named “{name}”.", "Choose a name of its own.")
            new["name"] = name
        if not new:
            raise ParamsError("clean.shelf: nothing to change was given.", "Say apart, delivered or a name.")
        record = record | new
        job.put("shelf", number, record)
        where = "apart" if record["apart"] else "among the others"
        sent = "delivered" if record["delivered"] else "not delivered"
        return {"says": f"{record['name']}: {record['points']:,} points, {where}, {sent}"}


class OffShelfParams(Params):
    shelf: str = field("Shelf", max_length=100)


@operation
class OffShelf(Operation):
    """Takes the points of a shelf off it again, and the shelf away."""

    name, title, step = "clean.off_shelf", "Empty a shelf", "Clean"
    reads = frozenset({"scan"})
    writes = frozenset({"column", "shelf"})
    bound_to_place = True
    Params = OffShelfParams

    def run(self, job: Job, params: OffShelfParams, progress: Progress) -> Figures:
        number, record = _shelf(job, params.shelf)
        scans = [s for s in job.scans() if job.cloud(s.id).has("shelf")]
        args = {s.id: number for s in scans}
        found = portions.rewrite(job, scans, "shelf", _off, args, progress, "Taking points off the shelf")
        points = int(sum(sum(t) for t in found.values()))
        job.put("shelf", number, None)
        return {"says": f"{record['name']}: {points:,} points taken off", "points": points}


def _off(cloud: Cloud, start: int, stop: int, number: int, _):
    shelf = np.array(cloud.read("shelf", start, stop))
    mine = shelf == number
    shelf[mine] = 0
    return (shelf if mine.any() else None), int(mine.sum())
