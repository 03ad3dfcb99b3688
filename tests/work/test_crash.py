"""Killed at any moment of any operation, or cut off from power: the job is as before or as after, whole, and
no orphan bytes stay.
"""

import json
import multiprocessing
import os
import random
import shutil
import signal
import time

import numpy as np
import pytest

from terrazza import files
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.db.models import Entry, Fact
from terrazza.formats import las_writer
from terrazza.operations.spine import facts, fieldbook, files_named, health
from terrazza.operations.spine.base import all_operations, find
from terrazza.operations.spine.job import Job
from terrazza.work import runner
from terrazza.work.open import open_workspace
from tests import flown, scenes
from tests.conftest import like
from tests.run import must, opened
from tests.web.conftest import STEPS, client_on
from tests.work.cases import CASES, LOOK, SMALL, WAY, params_of


def test_every_operation_is_tried():
    assert set(CASES) == {o.name for o in all_operations()}


def holdings(row):
    """All facts of a job: since files carry checksums in their names and never change, this is everything."""
    return {(f.kind, f.key): json.dumps(f.value) for f in Fact.select().where(Fact.job == row)}


def perform(workspace, entry_id):
    os.setsid()
    open_workspace(workspace)
    runner.run_entry(workspace, Entry.get_by_id(entry_id))
    runner.fleet(workspace).close()


@pytest.fixture(scope="session")
def made(tmp_path_factory):
    """A job of three posed scans and a walk, with something on its table."""
    folder = tmp_path_factory.mktemp("small")
    workspace = str(folder / "ws")
    open_workspace(workspace)
    scenes.write_room(folder / "room.e57", posed=True, rows=60, columns=140)
    must(
        workspace,
        queries.create_job(workspace, "Small"),
        "import.files",
        files=[str(folder / "room.e57")],
        every=2,
    )
    with las_writer.Writer(str(folder / "walk.laz"), 1e-4, np.zeros(3), time=True) as out:
        for k in range(10):
            pose = rigid.make(np.eye(3), WAY[k, 1:])
            xyz = rigid.apply(pose, scenes.scan_room(pose, 40, 90, seed=k)["xyz"]) + [0.01 * k, 0, 0]
            out.write({"xyz": xyz, "time": np.full(len(xyz), float(k))})
    np.savetxt(folder / "way.txt", WAY, header="time x y z", comments="")
    must(workspace, queries.job_by(id=1), "import.files", files=[str(folder / "walk.laz")])
    must(workspace, queries.job_by(id=1), "import.walk", scan=4, trajectory=str(folder / "way.txt"))
    flown.fly(np.random.default_rng(1), "parallel", [0.004, 0, 0], dense=0.6).write(folder)
    must(workspace, queries.job_by(id=1), "import.files", files=[str(folder / "strip.las")])
    row = queries.job_by(id=1)
    for scan, island, doubt in ((1, 1, None), (2, 1, "Two rooms are alike."), (3, 2, None)):
        stands = opened(workspace, row).scan(scan).pose.tolist()
        others = [stands, np.eye(4).tolist()] if doubt else []
        value = {"island": island, "matrix": stands, "doubt": doubt, "alternatives": others}
        Fact.create(job=row, kind="standing", key=str(scan), scan=scan, entry=1, value=value)
    other = queries.create_job(workspace, "Other")
    must(workspace, other, "import.files", files=[str(folder / "room.e57")], every=2)
    for operation in ("measure.take", "pins.put", "boxes.put"):
        must(workspace, queries.job_by(id=1), operation, **CASES[operation])
    must(workspace, queries.job_by(id=1), "surface.ground", **CASES["surface.ground"])
    must(workspace, queries.job_by(id=1), "surface.contours", **CASES["surface.contours"])
    for to, west in (("6", -8.5), ("5", 0.5)):
        half = [[west, -9], [west + 9, -9], [west + 9, 9], [west, 9]]
        must(workspace, queries.job_by(id=1), "classify.example", view=LOOK, polygon=half, to=to)
    corner = [[-9, -9], [-0.5, -9], [-0.5, 9], [-9, 9]]
    must(workspace, queries.job_by(id=1), "clean.outline", view=LOOK, polygon=corner, scans=[3], to="Aside")
    return folder / "ws"


@pytest.fixture
def small(made, tmp_path):
    """A copy of it, for what takes long on a whole job."""
    like(made, tmp_path / "ws")
    open_workspace(str(tmp_path / "ws"))
    shutil.copy(made.parent / "path.txt", tmp_path)
    (tmp_path / "notes.csv").write_text("x,y,z,text,author\n1,2,1,crack,Ada\n")
    np.savetxt(
        tmp_path / "walk.txt",
        np.c_[np.arange(10), np.arange(10), np.zeros((10, 2))],
        header="time x y z",
        comments="",
    )
    return str(tmp_path / "ws")


def workspace_for(request, operation):
    return request.getfixturevalue("small" if operation in SMALL else "copied")


@pytest.fixture(scope="session")
def processes():
    """Forks of a server that has everything imported, so that a kill meets the work and not the start."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["tests.work.preload"])
    return context


@pytest.mark.parametrize("operation", CASES)
def test_kill_nine_at_random_moments(request, processes, field, tmp_path, operation):
    copied = workspace_for(request, operation)
    row, rng = queries.job_by(id=1), random.Random(operation)
    for longest in (1.2,):
        before = holdings(row)
        kind = find(operation)
        entry = queries.add_entry(
            row, operation, kind.version, params_of(operation, opened(copied, row), field, tmp_path), "test"
        )
        process = processes.Process(target=perform, args=(copied, entry.id))
        process.start()
        time.sleep(rng.uniform(0.0, longest))
        try:
            os.killpg(process.pid, signal.SIGKILL)
        except ProcessLookupError:
            process.kill()
        process.join()
        open_workspace(copied)
        job, state = opened(copied, row), Entry.get_by_id(entry.id).state
        assert state in {"queued", "interrupted", "done"}
        if state != "done":
            assert holdings(row) == before, f"{operation}, {state}: the job is not as it was"
        assert fieldbook.strays(copied, row, files_named.all_named(row)) == [], "recovery has swept"
        assert not [n for n in os.listdir(job.subfolder("deliverables")) if n.endswith(".part")]
        if state == "done":
            assert health.check(job) == []
            return
        Entry.update(state="cancelled").where(Entry.id == entry.id).execute()
    assert (
        runner.run_entry(copied, queries.add_entry(row, operation, kind.version, entry.params, "again")).state
        == "done"
    ), "it can be started again"
    assert health.check(opened(copied, row)) == []


@pytest.mark.parametrize("operation", sorted(set(CASES) - {"georeference.targets"}))
def test_everything_is_on_disk_before_the_commit_that_names_it(
    request, field, tmp_path, monkeypatch, alone, operation
):
    """A recording file layer: at the commit every file that a fact names was synced after its last write, and
    its folder after it.
    """
    copied = workspace_for(request, operation)
    row, log, seen = queries.job_by(id=1), [], []
    real, commit = files.Disk.sync, Job.commit
    monkeypatch.setattr(
        files.Disk,
        "sync",
        lambda self, path: (real(self, path), log.append((os.path.realpath(path), time.time_ns()))),
    )

    def recorded(self, figures, seconds, light=False):
        for (kind, _key), (value, scan) in self.puts.items():
            named = (
                [
                    os.path.join(self.folder, folder, name)
                    for folder, name in facts.files_of(kind, scan, value)
                ]
                if value is not None
                else []
            )
            seen.extend(
                p
                for p in named + ([value["path"]] if kind == "deliverable" and value else [])
                if f".e{self.entry.number}." in p or kind == "deliverable"
            )
        for path in seen:
            synced = [
                n
                for n, (p, _) in enumerate(log)
                if p in (os.path.realpath(path), os.path.realpath(path) + ".part")
            ]
            folders = [n for n, (p, _) in enumerate(log) if p == os.path.realpath(os.path.dirname(path))]
            assert synced and os.stat(path).st_mtime_ns <= log[synced[-1]][1], (
                f"{path} was written after it was synced, or never synced"
            )
            assert folders and folders[-1] > synced[-1], f"the folder of {path} was not synced after it"
        commit(self, figures, seconds, light)

    monkeypatch.setattr(Job, "commit", recorded)
    params = params_of(operation, opened(copied, row), field, tmp_path)
    must(copied, row, operation, **params)
    client = client_on(copied, monkeypatch)
    for page in (*(f"sheet/{step}" for step in STEPS), "scene.json", "part/fieldbook", "table/notes"):
        answer = client.get(f"/jobs/{row.id}/{page}")
        assert answer.status_code == 200, f"after {operation}, {page} answers {answer.status_code}"
    writes = {
        "import.files",
        "clean.outliers",
        "clean.outline",
        "clean.put_back",
        "colorize.photos",
        "classify.ground",
        "register.adjust",
        "deliver.e57",
        "deliver.laz",
        "deliver.xyz",
        "deliver.dxf",
        "deliver.report",
    }
    assert bool(seen) >= (operation in writes), "a recording that saw nothing proves nothing"
