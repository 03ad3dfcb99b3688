"""The second day of the demo: a wrong pose is named, what nothing ties stands aside, boards are shared."""

import json

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.demo import drawn, second, settegradini
from terrazza.formats import e57_writer
from terrazza.instruments.scanner import Setup, sweep
from terrazza.operations.register.statement import statement
from tests.run import must, opened

SHARED = ("B1", "B2", "B3", "B6", "B8")


def test_the_second_day_finds_its_wrong_pose_and_fits_to_the_boards_of_the_first(workspace, tmp_path):
    second.build(str(tmp_path), density=0.5)
    row = queries.create_job(workspace, "Second day")
    must(workspace, row, "import.files", files=[str(tmp_path / second.CLOUD)])
    figures = must(workspace, row, "register.automatic")
    (wrong,) = figures["given_wrong"]
    slipped = 1000 * np.linalg.norm(second.SLIPPED)
    assert wrong["scan"] == second.WRONG + 1 and abs(wrong["off_mm"] - slipped) < 3
    assert figures["islands"] == [[1, 2, 3, 4]] and "Press room" in figures["doubt"][0]
    true, job = _true(tmp_path), opened(workspace, row)
    for scan in job.scans(placed=True):
        between = rigid.inverse(job.scan(1).pose) @ scan.pose
        off = rigid.difference(between, rigid.inverse(true[0]) @ true[scan.id - 1])
        assert off[0] < 0.002 and off[1] < 0.001, scan.name
    assert "0.38" in dict(statement(job))["Given poses"]
    grid, centres = settegradini.scene_to_grid(), settegradini.board_centres()
    lines = [f"{b},{','.join(f'{v:.4f}' for v in rigid.apply(grid, centres[b][None])[0])}" for b in SHARED]
    (tmp_path / "day-one.csv").write_text("\n".join(["name,easting,northing,height", *lines]))
    fitted = must(workspace, row, "georeference.control", control=str(tmp_path / "day-one.csv"))
    assert fitted["used"] >= 4 and fitted["rms_mm"] < 3 and not fitted["doubt"], fitted["doubt"]
    job = opened(workspace, row)
    for scan in job.scans(placed=True):
        assert rigid.difference(job.grid_pose(scan), grid @ true[scan.id - 1])[0] < 0.004, scan.name


def test_the_scan_that_needs_a_hand_comes_by_the_sketch(workspace, tmp_path):
    """Nothing of that day sees what the fifth set-up saw; a scan of the first day in the next room does."""
    second.build(str(tmp_path), density=0.5)
    true, row = _true(tmp_path), queries.create_job(workspace, "Second day")
    _press_room(tmp_path / "press room.e57", rigid.inverse(rigid.make(np.eye(3), true[0][:3, 3])))
    must(workspace, row, "import.files", files=[str(tmp_path / n) for n in (second.CLOUD, "press room.e57")])
    must(workspace, row, "register.automatic", scans=[1, 2, 3, 4, 5])
    assert opened(workspace, row).scan(second.ALONE + 1).pose is None
    stations = [[k, *p] for k, p in enumerate(drawn.marks(second.STATIONS).tolist(), 1)]
    figures = must(workspace, row, "register.sketch", picture=str(tmp_path / drawn.SKETCH), stations=stations)
    assert not figures["doubt"] and all(r["off_m"] < 1.5 for r in figures["stations"])
    job, alone = opened(workspace, row), second.ALONE
    between = rigid.inverse(job.scan(6).pose) @ job.scan(alone + 1).pose
    off = rigid.difference(between, rigid.inverse(PRESS_ROOM) @ true[alone])
    assert off[0] < 0.005 and off[1] < 0.001


PRESS_ROOM = rigid.make(np.eye(3), np.array([21.9, 11.1, 3.62]))


def _true(folder) -> list[np.ndarray]:
    return [np.array(p) for p in json.loads((folder / "truth" / "second.json").read_text())["poses"]]


def _press_room(path, day) -> None:
    """A scan of the press room of the first day, in the frame that ``day`` maps the scene to."""
    setup = Setup(columns=565, rows=240, bias=0.0002)
    data = sweep(settegradini.build(), PRESS_ROOM, setup, epoch=1, seed=3)
    xyz, bad = np.stack([data["x"], data["y"], data["z"]], 1), ~data["valid"]
    with e57_writer.Writer(str(path)) as out:
        columns = {c: data[c] for c in ("intensity", "row", "column")} | {"xyz": xyz, "invalid": 2 * bad}
        names = ["xyz", "intensity", "row", "column", "invalid"]
        out.add_scan("Press room", [columns], names, pose=day @ PRESS_ROOM, grid=(240, 565), scale=1e-5)
