"""What stands judged: double walls, the statement, and doubts that stay after changes by hand."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.operations.judging import statement
from tests.run import must, opened


def test_a_scan_put_off_shows_double_walls_until_it_is_adjusted(copied):
    row = queries.job_by(name="Whole")
    job = opened(copied, row)
    said = dict(statement(job))
    assert "8 of 8 scans placed" in said["Done"] and "No surface shows twice." in said["How good"] and said["Doubted"] == "Nothing." and "loops of ties close" in said["How sure"]
    assert must(copied, row, "register.double_walls")["double_walls"] == []
    pose = job.grid_pose(job.scan(2))
    x, y, z = pose[:3, 3] + [0.006, -0.006, 0.004]
    must(copied, row, "register.set_pose", scan=2, x=x, y=y, z=z, heading_deg=float(np.degrees(rigid.heading(pose))))
    figures = must(copied, row, "register.double_walls")
    assert {d["off"] for d in figures["double_walls"]} == {2} and 3 < abs(figures["double_walls"][0]["offset_mm"]) < 12 and "Scan 2 shows a" in figures["doubt"][0]
    assert f"{len(figures['double_walls'])} surfaces show twice" in dict(statement(opened(copied, row)))["How good"]
    again = must(copied, row, "register.adjust")
    assert again["doubt"] == [] and again["double_walls"] == [] and again["test"]["low"] > 0 and all(0 <= r["redundancy"] <= 1 for r in opened(copied, row).facts("tie").values() if not r["failed"])


def test_what_speaks_against_control_is_said_after_changes_by_hand_too(copied):
    """A point matched to the wrong target by hand is doubted, and no longer so when it is matched rightly again."""
    row = queries.job_by(name="Whole")
    rows = [r for r in opened(copied, row).get("frame")["rows"] if r["role"] == "control" and r["matched"]]
    one, other = rows[0], rows[1]
    check = next(r["name"] for r in opened(copied, row).get("frame")["rows"] if r["role"] == "check")
    must(copied, row, "georeference.role", point=check, check=False)
    wrong = must(copied, row, "georeference.match", point=one["name"], target=other["targets"][0])
    assert wrong["doubt"]
    right = must(copied, row, "georeference.match", point=one["name"], target=one["targets"][0])
    assert right["doubt"] == [] and right["rms_mm"] < 3 and all(r["detectable_mm"] for r in right["rows"] if r["role"] == "control" and r["matched"])
