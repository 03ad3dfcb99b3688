"""The handover folder from the disk, without network and wherever it lies, in Debian's Chromium."""

import shutil

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from tests.operations.test_handover import room  # noqa: F401
from tests.run import must, opened

pytestmark = [pytest.mark.browser, pytest.mark.usefixtures("alone")]


def test_the_folder_opens_from_anywhere_and_measures_on_stored_coordinates(room, tmp_path, chromium):  # noqa: F811
    figures = must(*room, "deliver.handover", path=str(tmp_path / "for them"), most=40_000, client="Somebody")
    moved = tmp_path / "elsewhere, é"
    shutil.move(figures["path"], moved)
    window, errors = chromium.new_context(offline=True).new_page(), []
    window.on("pageerror", lambda e: errors.append(str(e)))
    window.on("requestfailed", lambda r: errors.append(r.url))
    window.goto((moved / "index.html").as_uri())
    window.wait_for_function("FLAT.image")
    assert "Somebody" in window.inner_text("header") and window.locator("#marks .station").count() == 3
    assert window.locator("#marks .line").count() > 0 and "<b>" in window.inner_text("#pins")
    window.click("#to-space")
    window.wait_for_function(f"POINTS.count === {figures['points']}")
    job, look = (
        opened(*room),
        "Object.fromEntries([...POINTS.parts].map(([k, p]) => [k, [p.scan.id, [...p.stored]]]))",
    )
    for scan, stored in window.evaluate(look).values():
        wanted = np.asarray(job.cloud(scan).read("position"))
        mine = np.array(stored, np.int32).reshape(-1, 3)
        known = {tuple(p) for p in wanted.tolist()}
        assert all(tuple(p) in known for p in mine.tolist()), "a place is not one that is stored"
    touched = window.evaluate("[0, 1].map((k) => bestPoint((x, y, z) => (k ? 1 : -1) * (x + 2 * y + z)))")
    for one in touched:
        one_scan = job.scan(one["scan"])
        places = rigid.apply(job.grid_pose(one_scan), job.cloud(one["scan"]).xyz())
        assert np.abs(places - one["at"]).max(1).min() < 1e-9
    window.evaluate("(t) => { look.touched = t; read(); }", touched)
    points = [{"scan": t["scan"], "at": _own(job, t)} for t in touched]
    said = must(*room, "measure.take", points=points)["says"]
    distance = f"{np.linalg.norm(np.subtract(touched[0]['at'], touched[1]['at'])):.3f}"
    assert distance in window.inner_text("#read") and distance in said
    window.click("#stations button >> nth=1")
    window.wait_for_function("look.way === 'view' && FLAT.view === look.view")
    at = window.evaluate("viewPixel(look.view, JOB.pins[0].at)")
    picked = window.evaluate("([x, y]) => pickView(look.view, x, y)", window.evaluate("flatPixel(300, 80)"))
    assert picked["scan"] == 2 and at is not None and not errors
    window.close()


def _own(job, touched):
    pose = rigid.inverse(job.grid_pose(job.scan(touched["scan"])))
    return rigid.apply(pose, np.array([touched["at"]]))[0].tolist()


def test_a_view_shows_a_place_where_the_application_does(room, tmp_path, chromium):  # noqa: F811
    """The direction of a place in the page's view is that of the panorama."""
    from terrazza.operations.pieces import stations

    figures = must(*room, "deliver.handover", path=str(tmp_path / "h"), most=2000)
    window = chromium.new_page()
    window.goto(f"file://{figures['path']}/index.html")
    window.click("#stations button >> nth=0")
    window.wait_for_function("FLAT.view")
    job = opened(*room)
    place = np.array([6.0, 5.0, 2.5])
    own = rigid.apply(rigid.inverse(job.grid_pose(job.scan(1))), place[None])
    wanted = stations.view(job, 1).pixel(own)[0]
    shown = window.evaluate(
        "(p) => { const q = viewPixel(look.view, p); return flatPlace(...q); }", place.tolist()
    )
    assert np.allclose(shown, wanted, atol=0.6)
    window.close()
