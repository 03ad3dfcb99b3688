"""What runs by itself after what was asked for on the page: the adjustment, as long as it is short."""

import subprocess
import sys

import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations.spine import course, fieldbook, following
from terrazza.operations.spine.base import all_operations, find
from terrazza.operations.spine.reach import PAGE
from terrazza.operations.spine.recipe import Recipe
from terrazza.work.queue import Queue
from terrazza.work.runner import run_entry
from tests import scenes
from tests.run import ended, must, opened


@pytest.fixture(scope="module")
def adjusted(tmp_path_factory):
    """A room's three scans, registered and adjusted."""
    from terrazza.work.open import open_workspace

    folder = tmp_path_factory.mktemp("following")
    open_workspace(str(folder / "ws"))
    scenes.write_room(folder / "w.e57", posed=True, rows=120, columns=300)
    row = queries.create_job(str(folder / "ws"), "Work")
    must(str(folder / "ws"), row, "import.files", files=[str(folder / "w.e57")])
    must(str(folder / "ws"), row, "register.automatic")
    figures = must(str(folder / "ws"), row, "register.adjust")
    assert {m["scan"] for m in figures["moved"]} == {1, 2, 3} and figures["before_mm"] > 0
    assert all(m["moved_mm"] < 5 for m in figures["moved"])
    return str(folder / "ws"), row


def by_page(workspace, row, operation, **params):
    return run_entry(workspace, fieldbook.enter(row, operation, params, PAGE))


def last(row):
    return Entry.select().where(Entry.job == row).order_by(Entry.number.desc()).first()


def taking(row, seconds):
    Entry.update(seconds=seconds).where(Entry.job == row, Entry.operation == "register.adjust").execute()


def test_the_adjustment_follows_once_what_the_page_asked_for_and_undo_is_not_undone(adjusted):
    workspace, row = adjusted
    taking(row, 1.0)
    must(workspace, row, "register.tie", a=1, b=3, on=False)
    assert following.follow(row) is None, "asked for by a recipe"
    by_page(workspace, row, "register.tie", a=1, b=3, on=True)
    found = following.follow(row)
    assert (found.operation, found.state, found.who) == ("register.adjust", "queued", following.ITSELF)
    assert following.follow(row) is None, "it waits already"
    run_entry(workspace, found)
    assert last(row).state == "done" and following.follow(row) is None
    fieldbook.undo(last(row))
    assert following.follow(row) is None, "what was undone comes back by itself"


def test_nothing_comes_between_the_steps_of_a_recipe(adjusted):
    workspace, row = adjusted
    taking(row, 1.0)
    steps = [{"operation": "register.tie", "params": {"a": 1, "b": 3, "on": on}} for on in (False, True)]
    course.begin(row, Recipe(title="Ties", steps=steps), PAGE, inputs=[], folders=[], out="")
    while (entry := course.advance(row)) is not None:
        run_entry(workspace, entry)
        if not course.told(row)["state"] == "done":
            assert following.follow(row) is None
    assert [e.operation for e in queries.done_entries(row)][-2:] == ["register.tie"] * 2


@pytest.mark.parametrize(
    ("seconds", "operation", "params"),
    [
        (11.0, "register.tie", {"a": 1, "b": 3, "on": False}),
        (1.0, "register.set_pose", {"scan": 2, "x": 6.4, "y": 3.2, "z": 1.5, "heading_deg": 0}),
        (1.0, "register.tie", {"a": 1, "b": 1}),
        (1.0, "pins.put", {"points": [{"scan": 1, "at": [1, 2, 0]}]}),
    ],
    ids=["too long", "set by hand", "refused", "another step"],
)
def test_nothing_follows(adjusted, seconds, operation, params):
    workspace, row = adjusted
    taking(row, seconds)
    by_page(workspace, row, operation, **params)
    assert following.follow(row) is None
    if (entry := last(row)).state == "done" and not fieldbook.blocker(entry):
        fieldbook.undo(entry)


def test_a_worker_has_it_done(adjusted):
    workspace, row = adjusted
    taking(row, 1.0)
    process = subprocess.Popen([sys.executable, "-m", "terrazza.work.worker", workspace])
    try:
        entry = ended(Queue(workspace).add(row, "register.leave_out", {"scan": 3, "out": True}, PAGE))
        assert entry.state == "done"
        while (follower := last(row)).number == entry.number:
            process.poll()
            assert process.returncode is None
        assert ended(follower).state == "done" and follower.who == following.ITSELF
        assert opened(workspace, row).get("left_out", 3)
    finally:
        process.terminate()
        process.wait(10)


def test_what_follows_is_there():
    named = {o.then for o in all_operations() if o.then}
    assert named == {"register.adjust"} and all(not find(name).then for name in named)
    assert find("register.adjust").expected({}) == float("inf")
