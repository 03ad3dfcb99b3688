"""Undo, cuts in any order, stale entries, recovery and sweeping."""

import contextlib
import os
import threading

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.errors import BusyError, NotFound, ParamsError, StateError, TerrazzaError
from terrazza.operations.spine import fieldbook, recipe
from terrazza.operations.spine.base import find
from terrazza.work import runner
from terrazza.work.lease import LOOKING, lease
from terrazza.work.open import open_workspace
from tests import scenes
from tests.run import must, opened, perform


@pytest.fixture
def room(workspace, tmp_path):
    """A job with three unplaced scans of a room."""
    scenes.write_room(tmp_path / "Saal mit Ä.e57", rows=60, columns=140)
    row = queries.create_job(workspace, "Saal Ä")
    must(workspace, row, "import.files", files=[str(tmp_path / "Saal mit Ä.e57")])
    return workspace, row


@pytest.fixture
def posed(workspace, tmp_path):
    scenes.write_room(tmp_path / "posed.e57", posed=True, rows=60, columns=140)
    row = queries.create_job(workspace, "Posed")
    must(workspace, row, "import.files", files=[str(tmp_path / "posed.e57")])
    return workspace, row


ALL = [[-2, -2], [2, -2], [2, 2], [-2, 2]]


def above(z, sign=1.0):
    """A view whose screen y is height over ``z``, so that an outline takes what lies above (or below) it."""
    return [[0, 0, 0, 0], [0, 0, sign, -sign * z - 0.0], [0, 0, 0, 0], [0, 0, 0, 1]]


UPPER = [[-1, 0], [1, 0], [1, 9], [-1, 9]]


def cuts(workspace, row):
    job = opened(workspace, row)
    return {s.id: np.array(job.cloud(s.id).values("cut", 0)) for s in job.scans()}


def test_cuts_come_back_in_any_order(posed):
    workspace, row = posed
    first = must(workspace, row, "clean.outline", view=above(2.0), polygon=UPPER)
    second = must(workspace, row, "clean.outline", view=above(1.0), polygon=UPPER)
    third = must(workspace, row, "clean.outliers")
    assert first["points"] > 100 and second["points"] > 100
    state = cuts(workspace, row)
    job = opened(workspace, row)
    for s in job.scans():
        z = (job.cloud(s.id).xyz() @ s.pose[:3, :3].T + s.pose[:3, 3])[:, 2]
        assert ((state[s.id] == first["cut"]) == (z > 2.0)).all(), (
            "a later cut never claims a point already cut"
        )
        assert ((state[s.id] == second["cut"]) == ((z > 1.0) & (z <= 2.0))).all()
    must(workspace, row, "clean.put_back", cut=first["cut"])
    after = cuts(workspace, row)
    for k in state:
        assert (after[k] == np.where(state[k] == first["cut"], 0, state[k])).all()
    assert Entry.get(job=row, operation="clean.outline").state == "undone"
    must(workspace, row, "clean.put_back", cut=third["cut"])
    must(workspace, row, "clean.put_back", cut=second["cut"])
    assert all((v == 0).all() for v in cuts(workspace, row).values())


@pytest.mark.parametrize("number", [1, 99])
def test_no_such_cut(posed, number):
    workspace, row = posed
    entry = perform(workspace, row, "clean.put_back", cut=number)
    assert entry.state == "failed" and "no cut" in entry.message


def test_undo_moves_pointers_back_in_the_right_order(posed):
    workspace, row = posed
    before = {s.id: s.pose for s in opened(workspace, row).scans()}
    must(workspace, row, "register.set_pose", scan=1, x=1, y=2, z=3, heading_deg=10)
    must(workspace, row, "register.set_pose", scan=1, x=4, y=5, z=6, heading_deg=20)
    one, two = (queries.entry_of(row, n) for n in (2, 3))
    with pytest.raises(StateError, match="Undo entry 3"):
        fieldbook.undo(one)
    fieldbook.undo(two)
    assert np.allclose(opened(workspace, row).scan(1).pose[:3, 3], [1, 2, 3])
    fieldbook.undo(one)
    assert np.allclose(opened(workspace, row).scan(1).pose, before[1])
    with pytest.raises(StateError, match="undone"):
        fieldbook.undo(one)


def test_import_is_undone_only_before_its_scans_are_used(posed):
    workspace, row = posed
    must(workspace, row, "register.leave_out", scan=2)
    with pytest.raises(StateError, match="Undo entry 2"):
        fieldbook.undo(queries.entry_of(row, 1))
    fieldbook.undo(queries.entry_of(row, 2))
    fieldbook.undo(queries.entry_of(row, 1))
    job = opened(workspace, row)
    assert job.scans() == [] and job.facts("column") == {}
    fieldbook.sweep(workspace, row)
    assert not os.listdir(os.path.join(job.folder, "scans"))


def test_stale_entries_say_what_is_newer(copied):
    row = queries.job_by(name="Whole")
    assert fieldbook.stale(row) == {} or "E57" not in str(fieldbook.stale(row))
    must(copied, row, "register.set_pose", scan=3, x=4200, y=8830, z=315, heading_deg=5)
    stale = fieldbook.stale(row)
    operations = {queries.entry_of(row, n).operation for n in stale}
    assert {
        "georeference.control",
        "draw.plan_slab",
        "deliver.laz",
    } <= operations and "import.files" not in operations


def test_only_what_was_read_makes_stale(posed):
    """A dimension beside the usual columns and another drawing leave what does not look at them as it is; a
    change of the drawing on the sheet does not.
    """
    workspace, row = posed
    line = {"at": [[0, 0, 0], [0, 3, 0]]}
    stale = lambda: {queries.entry_of(row, n).operation for n in fieldbook.stale(row)}
    files = lambda: set(fieldbook.stale_files(row, opened(workspace, row).facts("deliverable")))
    first = must(workspace, row, "draw.line", **line)["drawing"]
    sheet = must(workspace, row, "deliver.sheet")["path"]
    must(workspace, row, "deliver.laz")
    must(workspace, row, "draw.plan_slab")
    job = opened(workspace, row)
    at = rigid.apply(job.grid_pose(job.scan(1)), job.cloud(1).xyz(0, 400)[::150]).tolist()
    must(workspace, row, "surface.deviation", against="plane", patches=at, reach=50)
    assert not stale() & {"deliver.laz", "deliver.sheet"} and sheet not in files()
    must(workspace, row, "draw.rename", drawing=first, name="Other")
    assert "deliver.sheet" in stale() and sheet in files()


def test_failures_leave_the_job_as_it_was(posed):
    workspace, row = posed
    version, files = (
        queries.revision(row.id),
        sorted(os.listdir(os.path.join(opened(workspace, row).folder, "scans", "1"))),
    )
    for operation, params, words in [
        ("georeference.control", {"control": "/no/such.csv"}, "not there"),
        ("classify.height_bands", {}, "No ground"),
        ("colorize.photos", {}, "no photos"),
        ("deliver.dxf", {}, "Nothing is drawn"),
        ("deliver.laz", {"classes": [9]}, "No point is left"),
        ("register.cloud_fit", {"scan": 1, "neighbour": 1}, "itself"),
        ("register.set_pose", {"scan": 9, "x": 0, "y": 0, "z": 0, "heading_deg": 0}, "no scan 9"),
        ("draw.plan_slab", {"height": 900.0}, "holds fewer"),
    ]:
        entry = perform(workspace, row, operation, **params)
        assert entry.state == "failed" and words in entry.message and entry.hint, (operation, entry.message)
    assert queries.revision(row.id) == version
    assert sorted(os.listdir(os.path.join(opened(workspace, row).folder, "scans", "1"))) == files


def test_a_cancelled_run_leaves_the_job_as_it_was(posed):
    workspace, row = posed
    entry = queries.add_entry(row, "clean.outliers", 1, {})
    Entry.update(cancel=True).where(Entry.id == entry.id).execute()
    from terrazza.work.runner import run_entry

    class Always:
        def advance(self, *_):
            return None

    import terrazza.work.runner as runner

    runner.EVERY, old = 0.0, runner.EVERY
    try:
        done = run_entry(workspace, entry, Always())
    finally:
        runner.EVERY = old
    assert done.state == "cancelled"
    assert all((v == 0).all() for v in cuts(workspace, row).values())


def test_one_worker_a_job(posed):
    workspace, row = posed
    with lease(workspace, row.folder, "a test"):
        entry = perform(workspace, row, "clean.outliers")
        assert entry.state == "failed" and "a test" in entry.message
        with pytest.raises(BusyError), lease(workspace, row.folder, "another"):
            pass
    with lease(workspace, row.folder, "another"):
        pass


def test_a_passing_look_is_waited_for(posed):
    """Another program that starts on the workspace looks at each job for a moment; that must not
    fail a run.
    """
    workspace, row = posed
    with contextlib.ExitStack() as look:
        look.enter_context(lease(workspace, row.folder, LOOKING))
        threading.Timer(0.4, look.close).start()
        assert must(workspace, row, "import.edit_scan", scan=1, name="Patience")


def test_recovery_marks_and_sweeps(posed):
    workspace, row = posed
    folder = os.path.join(opened(workspace, row).folder, "scans", "1")
    entry = queries.add_entry(row, "clean.outliers", 1, {}, state="running")
    stray = os.path.join(folder, f"cut.0.e{entry.number}.npy")
    np.save(stray, np.zeros(3))
    with lease(workspace, row.folder, "a live run"):
        assert open_workspace(workspace) == 0 and os.path.exists(stray), "a live run is left alone"
    assert open_workspace(workspace) == 1
    assert not os.path.exists(stray)
    assert queries.entry_of(row, entry.number).state == "interrupted"
    assert must(workspace, row, "clean.outliers")["of"] > 1000


def test_job_names(workspace):
    from terrazza.errors import InputError

    queries.create_job(workspace, "  Settegradini   2026 ")
    for name, words in [
        ("Settegradini 2026", "exists already"),
        ("", "needs a name"),
        ("x" * 121, "121 characters"),
    ]:
        with pytest.raises(InputError, match=words):
            queries.create_job(workspace, name)
    with pytest.raises(NotFound, match="no job"):
        queries.job_by(name="else")


@pytest.mark.parametrize(
    ("operation", "values", "words"),
    [
        ("clean.outliers", {"neighbours": 0}, "greater than or equal to 1"),
        ("clean.outliers", {"neighbors": 4}, "no parameter “neighbors”"),
        ("clean.outliers", {"deviations": "many"}, "valid number"),
        ("register.set_pose", {"scan": 1}, "“x”: Field required"),
        ("deliver.laz", {"scale": float("nan")}, "finite"),
        ("clean.outline", {"view": [[1, 0, 0, 0]], "polygon": ALL}, "view"),
    ],
)
def test_parameters_are_refused_by_name_and_rule(operation, values, words):
    from terrazza.operations.spine.base import find

    with pytest.raises(ParamsError, match=operation) as caught:
        find(operation).check(values)
    assert words in caught.value.message


def test_light_operations_do_not_wait_for_heavy_ones(posed, monkeypatch):
    """While a registration has the job: names go through at once, on a version that is told; what it writes
    itself waits; and it commits what it computed on the version that it began with.
    """
    workspace, row = posed
    before = queries.revision(row.id)
    states = {}

    def meanwhile(self, job, params, progress):
        for operation, params in (
            ("import.edit_scan", {"scan": 1, "name": "Renamed"}),
            ("register.choose", {"scan": 1, "alternative": 1}),
        ):
            kind = find(operation)
            entry = queries.add_entry(row, operation, 1, kind.check(params).model_dump(), "test")
            states[operation] = runner.free(entry)
            if states[operation]:
                runner.run_entry(workspace, entry)
                assert Entry.get_by_id(entry.id).state == "done"
        assert job.scan(1).name != "Renamed", "the run goes on with what it began with"
        job.put("pose", 2, job.get("pose", 2), scan=2)
        return {"says": "registered"}

    monkeypatch.setattr(find("register.set_pose"), "run", meanwhile)
    figures = must(workspace, row, "register.set_pose", scan=2, x=0.0, y=0.0, z=0.0, heading_deg=0.0)
    assert figures["says"] == "registered" and states == {"import.edit_scan": True, "register.choose": False}
    assert opened(workspace, row).scan(1).name == "Renamed"
    assert [e.revision for e in Entry.select().where(Entry.state == "done").order_by(Entry.number)][-2:] == [
        before,
        before,
    ] and queries.revision(row.id) == before + 2


def test_a_light_run_that_is_overtaken_begins_again(posed, monkeypatch):
    workspace, row = posed
    kind, seen = find("import.edit_scan"), []
    plain = kind.run

    def late(self, job, params, progress):
        seen.append(job.scan(2).name)
        if len(seen) == 1:
            with monkeypatch.context() as inner:
                inner.setattr(kind, "run", plain)
                must(workspace, row, "import.edit_scan", scan=2, name="Meanwhile")
        return plain(self, job, params, progress)

    monkeypatch.setattr(kind, "run", late)
    must(workspace, row, "import.edit_scan", scan=1, name="First")
    assert seen[1] == "Meanwhile" and len(seen) == 2
    assert [s.name for s in opened(workspace, row).scans()][:2] == ["First", "Meanwhile"]


def test_entries_of_operations_that_are_gone_are_shown_undone_and_kept(posed, tmp_path, monkeypatch):
    from terrazza.operations.spine import base
    from terrazza.web.contexts import fieldbook as book
    from terrazza.work import archive

    workspace, row = posed
    figures = must(workspace, row, "table.keep_view", name="Here", address="plan=1,2,3")
    kind = find("table.keep_view")
    with monkeypatch.context() as gone:
        gone.delitem(base._table, "table.keep_view")
        shown = book.book(opened(workspace, row))["entries"][0]
        assert shown["title"] == "“table.keep_view”" and shown["says"] == figures["says"]
        assert "keep_view" not in recipe.write(recipe.entries_of(row), "t", bound=True)
        archive.backup(workspace, row, str(tmp_path / "b.terrazza"))
        assert archive.restore(workspace, str(tmp_path / "b.terrazza"), "Again").name == "Again"
        fieldbook.undo(Entry.select().where(Entry.job == row).order_by(Entry.number.desc()).get())
        assert not opened(workspace, row).facts("view")
    assert find("table.keep_view") is kind


def test_older_parameters_and_names_are_brought_up(monkeypatch):
    from terrazza.operations.spine import base

    class Newer(base.Operation):
        name, title, step, version = "clean.newer", "Newer", "Clean", 2
        formerly = ("clean.older",)

        class Params(base.Params):
            width_mm: float = base.field("Width", 5.0)

        @classmethod
        def brought_up(cls, values, version):
            return {"width_mm": values["width"] * 1000}

    for table in ("_table", "_former"):
        monkeypatch.setattr(base, table, dict(getattr(base, table)))
    base.operation(Newer)
    assert find("clean.older") is Newer and base.checked("clean.older", {"width": 0.002}, 1).width_mm == 2.0
    assert base.checked("clean.newer", {"width_mm": 3.0}, 2).width_mm == 3.0
    with pytest.raises(TerrazzaError, match="Two operations"):
        base.operation(type("Other", (Newer,), {"name": "clean.older"}))
