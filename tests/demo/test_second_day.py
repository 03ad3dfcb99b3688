"""The second day of the demo: a wrong pose is named, what nothing ties stands aside, boards are shared."""

import json

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.demo import second, settegradini
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
    true = [np.array(p) for p in json.loads((tmp_path / "truth" / "second.json").read_text())["poses"]]
    job = opened(workspace, row)
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
