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
from PIL import Image

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
from tests.web.test_pages import STEPS, client_on

TABLE = {
    "measure.take",
    "pins.put",
    "boxes.put",
    "table.keep_view",
    "table.notation",
    "table.take_away",
    "table.rename",
    "deliver.measures",
    "deliver.pins",
}
SMALL = TABLE | {
    "register.strips",
    "register.passes",
    "register.strip_differences",
    "register.walk",
    "surface.ground",
    "surface.contours",
    "surface.volume",
    "surface.rooms",
    "surface.unrolled",
    "deliver.report",
    "deliver.certificate",
    "deliver.handover",
    "deliver.paths",
    "pins.bring",
    "deliver.dxf",
    "draw.rename",
    "draw.plan_slabs",
    "draw.bring",
    "deliver.csv",
    "draw.plane_slab",
    "draw.section",
    "draw.sections",
    "draw.paint",
    "draw.line",
    "draw.layers",
    "draw.text",
    "draw.dimension",
    "draw.move_corners",
    "draw.reshape",
    "classify.name_class",
    "surface.deviation",
    "surface.deviation_sections",
    "surface.picture",
    "deliver.landxml",
    "deliver.sheet",
    "deliver.geojson",
    "register.choose",
    "register.looked_through",
    "register.like_points",
    "register.join",
    "import.job",
    "import.complete",
    "import.walk",
    "register.adjust",
    "register.double_walls",
    "register.automatic",
    "register.cloud_fit",
    "classify.ground",
    "clean.shelf",
    "clean.off_shelf",
    "clean.mixed_pixels",
    "clean.specks",
    "clean.moved_things",
    "clean.mirrors",
    "clean.surface",
    "classify.by_itself",
    "classify.by_place",
    "classify.by_size",
    "classify.change",
    "classify.rooms",
    "classify.open_air",
    "classify.example",
    "classify.drop_example",
    "classify.by_example",
    "deliver.las",
    "deliver.ply",
    "deliver.copc",
    "deliver.pts",
    "deliver.ptx",
}
WAY = np.c_[np.arange(10), np.linspace(1.5, 6, 10), np.full(10, 2.0), np.full(10, 1.6)]  # of the walk
LOOK = [[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0, 0], [0, 0, 0, 1]]
CASES = {
    "import.files": {"files": ["ROOM"]},
    "import.complete": {},
    "import.walk": {"scan": 4, "trajectory": "WALK"},
    "import.edit_scan": {"scan": 1, "name": "Other"},
    "import.add_photo": {"scan": 1, "picture": "PANORAMA"},
    "import.edit_photo": {"photo": "1-0", "turn_deg": 5},
    "import.remove_scan": {"scan": 8},
    "import.job": {"job": "Other", "scans": [1]},
    "register.automatic": {"scans": [1, 2, 3]},
    "register.adjust": {},
    "register.hold": {"scan": 1},
    "register.double_walls": {},
    "register.cloud_fit": {"scan": 2, "neighbour": 1},
    "register.like_points": {"scan": 2, "neighbour": 1, "pairs": "ALIKE"},
    "register.join": {"island": 2, "pose": np.eye(4).ravel().tolist()},
    "register.leave_out": {"scan": 3},
    "register.looked_through": {"who": "A. Topografa"},
    "register.tie": {"a": 1, "b": 2, "on": False},
    "register.strips": {"trajectory": "PATH", "scans": [5], "signs": "+ +"},
    "register.passes": {"trajectory": "PATH", "scans": [5], "signs": "+ +", "turns": "Turns"},
    "register.strip_differences": {"trajectory": "PATH", "scans": [5], "signs": "+ +"},
    "register.strip_control": {"control": "CONTROL"},
    "register.walk": {"scans": [4], "width": 0.3},
    "register.sketch": {
        "picture": "PANORAMA",
        "known": [[0, 0, 0, 0], [9, 9, 5, -5]],
        "stations": [[4, 5, 5]],
    },
    "register.choose": {"scan": 2, "alternative": 2},
    "register.set_pose": {"scan": 4, "x": 0, "y": 0, "z": 0, "heading_deg": 10},
    "georeference.control": {"control": "CONTROL"},
    "georeference.drop_target": {"target": 1},
    "georeference.name_target": {"target": 1, "name": "Cancello"},
    "georeference.level": {},
    "georeference.bend": {},
    "georeference.match": {"point": "L1", "target": 1},
    "georeference.pick_target": {"scan": 1, "x": 1.5, "y": 0, "z": 0},
    "georeference.role": {"point": "L1", "check": True},
    "georeference.targets": {"scans": [1, 2]},
    "georeference.crs": {"code": "EPSG:25832"},
    "georeference.heights": {"by": 1.0},
    "georeference.write_control": {},
    "clean.outliers": {"scans": [1, 2]},
    "clean.outline": {"view": LOOK, "polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]]},
    "boxes.around": {"view": LOOK, "polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]]},
    "clean.put_back": {"cut": "CUT"},
    "clean.mixed_pixels": {"scans": [1, 2]},
    "clean.specks": {"scans": [1, 2]},
    "clean.moved_things": {"scans": [1]},
    "clean.mirrors": {"scans": [1]},
    "clean.surface": {"patches": "FLOOR", "take": "within", "scans": [1, 2]},
    "clean.shelf": {"shelf": "Aside", "apart": False},
    "clean.off_shelf": {"shelf": "Aside"},
    "colorize.photos": {"scans": [1, 2]},
    "colorize.take_off": {"scans": [1]},
    "colorize.turn_photos": {"scans": [1]},
    "classify.ground": {"threshold": 0.1, "scans": [1]},
    "classify.height_bands": {},
    "classify.by_itself": {"what": "range", "high": 5, "to": 64, "scans": [1]},
    "classify.by_place": {"areas": [[[-9, -9], [9, -9], [9, 9]]], "to": 65, "scans": [1]},
    "classify.by_size": {"to": 66, "least": [0, 0, 0.5], "scans": [1]},
    "classify.rooms": {"scans": [1]},
    "classify.open_air": {"scans": [1]},
    "classify.example": {"view": LOOK, "polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]], "to": "6"},
    "classify.drop_example": {"example": 1},
    "classify.by_example": {"scans": [1]},
    "classify.change": {"pairs": [[1, 64]]},
    "draw.plan_slab": {},
    "draw.plan_slabs": {"every": 1.0},
    "draw.plane_slab": {"line": [[0.0, 0.0], [8.0, 0.0]]},
    "draw.rooms": {},
    "draw.sections": {"line": [[0.5, 2.0], [7.5, 2.0]], "every": 3, "thickness": 0.2},
    "draw.section": {"line": [[0.5, 2.0], [7.5, 2.0]], "thickness": 0.2},
    "surface.ground": {"classes": [0, 1, 2], "cell": 0.3, "scans": [1]},
    "surface.contours": {"step": 0.5},
    "surface.volume": {"outline": [[1, 1], [3, 1], [3, 3]], "below": "0", "above": "1"},
    "surface.deviation": {"reach": 0.05, "scans": [1]},
    "surface.deviation_sections": {"line": [[1, 2], [7, 2]], "every": 3, "reach": 0.05},
    "surface.flatness": {"at": "FLOOR", "path": "flat.csv"},
    "surface.rooms": {"outline": [[1, 1], [6, 1], [6, 5], [1, 5]], "height": 1.5, "path": "rooms.csv"},
    "surface.unrolled": {"axis": [[0, 3, 1.5], [8, 3, 1.5]], "radius": 3.0, "pixel": 0.1, "reach": 1.5},
    "surface.picture": {"pixel": 0.1, "box": [0, 0, 8, 6]},
    "draw.break_lines": {"at": "FLOOR", "heading_deg": 0, "corners": [[-0.5, 0], [0.5, 0]]},
    "draw.paint": {"at": "PLACE", "which": "all as bright", "reach": 4},
    "draw.rename": {"drawing": 1, "name": "A"},
    "draw.layers": {"path": "LAYERS"},
    "draw.dimension": {"at": [[0, 0, 0], [1, 0, 0], [3, 1, 0]]},
    "draw.text": {"text": "A", "at": [0, 0, 0]},
    "draw.line": {"at": [[0, 0, 0], [1, 0, 0], [1, 1, 0]], "closed": True},
    "draw.move_corners": {"drawing": 1, "line": 1, "at": [[0, 0, 0], [1, 0, 0]]},
    "draw.reshape": {"drawing": 1, "line": 1, "how": "copy", "shift": [0, 0, 1]},
    "classify.name_class": {"code": 70, "name": "Lemon"},
    "measure.take": {"points": [{"scan": 1, "at": [1, 2, 0]}, {"scan": 2, "at": [0, 1, 1]}]},
    "pins.put": {"points": [{"scan": 1, "at": [1, 2, 0]}]},
    "boxes.put": {"centre": [0, 0, 0], "size": [4, 5, 6], "name": "box 1"},
    "table.keep_view": {"name": "A", "address": "plan=1"},
    "table.notation": {},
    "table.take_away": {"kind": "box", "number": 1},
    "table.rename": {"kind": "box", "number": 1, "name": "B"},
    "draw.bring": {"path": "SHAPES"},
    "deliver.csv": {},
    "deliver.photos": {"scans": [1]},
    "deliver.views": {"scans": [1], "stops": False},
    "deliver.paths": {},
    "deliver.measures": {},
    "deliver.pins": {},
    "deliver.e57": {"scans": [1, 2]},
    "deliver.laz": {"spacing": 0.1, "scans": [1, 2]},
    "deliver.las": {"spacing": 0.2, "scans": [1]},
    "deliver.copc": {"spacing": 0.2, "scans": [1]},
    "deliver.ply": {"spacing": 0.2, "scans": [1]},
    "deliver.pts": {"spacing": 0.2, "scans": [1]},
    "deliver.ptx": {"scans": [1]},
    "deliver.xyz": {"classes": [2], "scans": [1]},
    "deliver.dxf": {},
    "deliver.sheet": {"drawing": 1},
    "deliver.landxml": {},
    "deliver.geojson": {},
    "deliver.report": {},
    "deliver.certificate": {},
    "deliver.handover": {"most": 5000},
    "pins.bring": {"path": "NOTES"},
}


def test_every_operation_is_tried():
    assert set(CASES) == {o.name for o in all_operations()}


def params_of(operation, job, field, folder):
    """The case's parameters with what this job has put in."""
    if operation == "import.files" and not (folder / "room.e57").exists():
        scenes.write_room(folder / "room.e57", posed=True, rows=60, columns=140)
    if operation in {"import.add_photo", "register.sketch"}:
        Image.new("RGB", (64, 32), "olive").save(folder / "pano.png")
    if operation == "draw.bring":
        shape = {"type": "LineString", "coordinates": [[0, 0, 1], [1, 0, 1]]}
        feature = {"type": "Feature", "properties": {}, "geometry": shape}
        whole = {"type": "FeatureCollection", "features": [feature]}
        (folder / "lines.geojson").write_text(json.dumps(whole))
    if operation == "draw.layers":
        (folder / "layers.csv").write_text("layer,for\nA,WALLS\n")
    text = (
        json.dumps(CASES[operation])
        .replace("LAYERS", str(folder / "layers.csv"))
        .replace("ROOM", str(folder / "room.e57"))
        .replace("SHAPES", str(folder / "lines.geojson"))
        .replace("PANORAMA", str(folder / "pano.png"))
        .replace("PATH", str(folder / "path.txt"))
        .replace("WALK", str(folder / "walk.txt"))
        .replace("NOTES", str(folder / "notes.csv"))
        .replace("CONTROL", str(field / "settegradini-control.csv"))
        .replace('"CUT"', next(iter(job.facts("cut")), "0"))
        .replace('"FLOOR"', json.dumps([_under(job)]))
        .replace('"PLACE"', json.dumps(_bright(job) if operation == "draw.paint" else 0))
        .replace('"ALIKE"', json.dumps(_alike(job) if operation == "register.like_points" else []))
    )
    return find(operation).check(json.loads(text)).model_dump()


def _under(job):
    """A place of the floor beside the first scan's station (grid, or job frame)."""
    xyz = job.cloud(1).at(job.cloud(1).sample(50_000))
    near = xyz[(np.abs(np.linalg.norm(xyz[:, :2], axis=1) - 2.0) < 0.3) & (xyz[:, 2] < -1.0)]
    pose = job.grid_pose(job.scan(1)) if job.scan(1).pose is not None else np.eye(4)
    return rigid.apply(pose, near[:1])[0].tolist()


def _bright(job):
    """A place of the floor that sends back much (grid, or job frame)."""
    cloud, pose = job.cloud(1), job.grid_pose(job.scan(1))
    index = cloud.sample(50_000)
    xyz, tone = cloud.at(index), cloud.pick("intensity", index)
    floor = (xyz[:, 2] < -1.0) & (np.abs(np.hypot(xyz[:, 0], xyz[:, 1]) - 1.5) < 0.3) & (tone > 30_000)
    return rigid.apply(pose, xyz[floor][:1])[0].tolist()


def _alike(job):
    """Two corners of the room, each in the frames of scans 2 and 1."""
    corners = np.array([[0.0, 0.0, 0.0], [8.0, 6.0, 3.0]])
    own = [rigid.apply(rigid.inverse(job.scan(k).pose), corners) for k in (2, 1)]
    return np.stack(own, 1).tolist()


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
