"""The real interface in headless Chromium: each step's key gesture, judged by the database and the files."""

import json
import time
from dataclasses import replace

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from tests import scenes

pytestmark = pytest.mark.browser
IDLE = "#table[data-state=idle]"


def idle(page):
    page.wait_for_selector(IDLE, timeout=60_000)


def eventually(check, seconds=30.0):
    """Ask until the check's assertions hold; what they say is raised when they still do not after so many
    seconds.
    """
    deadline = time.monotonic() + seconds
    while True:
        try:
            return check()
        except AssertionError:
            if time.monotonic() > deadline:
                raise
            time.sleep(0.05)


def visit(page, desk, step):
    page.goto(f"{desk.address}/jobs/{desk.job}/{step}")
    idle(page)


def begin(page, desk, name):
    """A new job through the first page; returns where it is."""
    page.goto(desk.address)
    page.fill("#name", name)
    page.click("button:has-text('Begin')")
    idle(page)
    return replace(desk, job=int(page.get_attribute("body", "data-job")))


def ended(page, number, state="done", timeout=240_000):
    """Wait until the strip shows entry ``number`` as the last finished one."""
    last = (
        f"document.querySelector('#strip .last')?.dataset.last == '{number}' && "
        "document.querySelector('#stripline').dataset.busy == '0'"
    )
    page.wait_for_function(last, timeout=timeout)
    page.wait_for_timeout(300)
    page.wait_for_function(last, timeout=timeout)  # an answer on its way may have shown the state before
    assert page.get_attribute("#strip .last", "data-laststate") == state, page.inner_text("#strip")
    page.wait_for_timeout(400)
    idle(page)


def middle(page, pane):
    box = page.locator(f"#{pane}").bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def place_of(page, pane, scan):
    """Screen place of a station in a view."""
    x, y = page.evaluate(
        f"(() => {{ const v = terrazza.{pane}, e = terrazza.cloud.scans.get({scan}).matrix.elements, p = "
        "v.toPixel([e[12], e[13], e[14]]); return [p[0], p[1]]; })()"
    )
    box = page.locator(f"#{pane}").bounding_box()
    return box["x"] + 1 + x, box["y"] + 1 + y


def test_the_whole_job_by_mouse(page, viewed, field):
    """From raw E57 to deliverables: upload, import, register, control, clean, colorize, classify, draw,
    deliver; figures read from the database and the files.
    """
    desk = begin(page, viewed, "Limonaia È")
    page.set_input_files(
        "#picker",
        [
            str(field / n)
            for n in ("settegradini-house.e57", "settegradini-garden.e57", "settegradini-control.csv")
        ],
    )
    page.wait_for_selector("#import-button:has-text('Import 8 scans')", timeout=60_000)
    assert "not posed" in page.inner_text("#inbox") and "same pose" in page.inner_text("#inbox")
    takes = page.eval_on_selector_all("input[name=take]", "boxes => boxes.map((b) => b.value)")
    assert len(takes) == 8
    for value in takes[4:]:  # the house alone: four scans register in a fraction of the time
        page.uncheck(f"input[name=take][value='{value}']")
    assert page.inner_text("#import-button") == "Import 4 scans"
    page.click("#import-button")
    ended(page, 1)
    page.keyboard.press("2")
    page.click("button:has-text('Register all scans')")
    ended(page, 2)
    page.keyboard.press("3")
    page.click("form[data-operation='georeference.control'] button.main")
    ended(page, 3)
    page.wait_for_selector("#terraces:has-text('control')")
    page.keyboard.press("4")
    page.click("button:has-text('Filter outliers')")
    ended(page, 4)
    page.keyboard.press("5")
    page.click("button:has-text('Colorize from photos')")
    ended(page, 5)
    page.keyboard.press("6")
    page.click("button:has-text('Find the ground')")
    ended(page, 6)
    page.click("button:has-text('Classify by height')")
    ended(page, 7)
    page.keyboard.press("7")
    page.click("button:has-text('Draw the plan slab')")
    ended(page, 8)
    page.click("button:has-text('Write plan-1.dxf')")
    ended(page, 9)
    page.keyboard.press("8")
    page.wait_for_selector(".statement:has-text('points in 4 scans')")
    page.click("summary:has-text('LAZ')")
    page.click("button:has-text('Write LAZ')")
    ended(page, 10)
    page.click("summary:has-text('Registration report')")
    page.click("button:has-text('Write the report')")
    ended(page, 11)
    with page.expect_download() as download:
        page.click("a:has-text('cloud.laz')")
    assert download.value.path().stat().st_size > 1_000_000
    job = desk.opened()
    truth = json.loads((field / "truth" / "truth.json").read_text())
    for scan in job.scans():
        true = np.array(truth["scene_to_grid"]) @ np.array(truth["poses"][truth["names"].index(scan.name)])
        assert rigid.difference(job.grid_pose(scan), true)[0] < 0.004, scan.name
    assert {p.rsplit("/", 1)[-1] for p in job.facts("deliverable")} == {
        "plan-1.dxf",
        "cloud.laz",
        "report.html",
        "report.pdf",
    }


def test_picking_gives_the_stored_point(page, viewed):
    visit(page, viewed, "register")
    x, y = place_of(page, "plan", 5)
    page.mouse.click(x + 25, y + 20)
    page.wait_for_selector("#readout b")
    picked = page.evaluate(
        "({scan: terrazza.picked.scan, index: terrazza.picked.index, at: terrazza.picked.at})"
    )
    job = viewed.opened()
    own = job.cloud(picked["scan"]).xyz(picked["index"], picked["index"] + 1)
    exact = rigid.apply(job.grid_pose(job.scan(picked["scan"])), own)[0]
    assert np.allclose(picked["at"], exact, atol=1e-9)
    assert f"{exact[0]:.3f}" in page.inner_text("#readout") and "intensity" in page.inner_text("#readout")


def touch_two(page):
    """Two points beside two stations, for a measure."""
    for n, (scan, d) in enumerate(((5, 25), (1, 12)), 1):
        x, y = place_of(page, "plan", scan)
        page.mouse.click(x + d, y + 15)
        page.wait_for_function(f"terrazza.draft?.points.length === {n}")


def test_measuring_says_its_three_parts(page, viewed):
    visit(page, viewed, "register")
    page.keyboard.press("m")
    touch_two(page)
    page.wait_for_selector("#readout .far:has-text('level')")
    points, figures = page.evaluate("[terrazza.draft.points.map((p) => p.at), terrazza.draft.figures]")
    d = np.array(points[1]) - np.array(points[0])
    assert (
        figures["distance"] == pytest.approx(np.linalg.norm(d))
        and figures["level"] == pytest.approx(np.hypot(*d[:2]))
        and figures["height"] == pytest.approx(d[2])
    )
    assert f"{figures['distance']:.3f} m" in page.inner_text("#readout")


@pytest.mark.parametrize(("pane", "what"), [("space", "outside")])
def test_an_outline_becomes_a_cut_and_comes_back(page, served, pane, what):
    visit(page, served, "clean")
    number = served.last_number()
    if what == "outside":
        page.keyboard.press("l")
    page.keyboard.press("o")
    x, y = middle(page, pane)
    page.mouse.move(x - 40, y - 30)
    page.mouse.down()
    for dx, dy in ((40, -30), (40, 35), (-40, 35), (-40, -25)):
        page.mouse.move(x + dx, y + dy, steps=6)
    page.mouse.up()
    page.click(f"#action button:has-text('{what}')")
    ended(page, number + 1)
    job, entry = served.opened(), served.entries()[-1]
    view, polygon = np.array(entry.params["view"]), np.array(entry.params["polygon"])
    from terrazza.core.clean.outline import select

    slab = entry.params["slab"] or None
    assert (slab is not None) == (what == "outside")
    taken = 0
    for scan in job.scans():
        cut = np.asarray(job.cloud(scan.id).values("cut", 0))
        xyz = rigid.apply(scan.pose, job.cloud(scan.id).xyz())
        mask = select(xyz, view, polygon, None, what == "outside")
        if slab:
            z = rigid.apply(job.frame, xyz)[:, 2]
            mask &= (z >= slab[0]) & (z <= slab[1])
        mine = entry.figures["cut"]
        assert ((cut == mine) == (mask & ((cut == 0) | (cut == mine)))).all()
        taken += int((cut == mine).sum())
    assert taken == entry.figures["points"] > 50
    page.click(f"#sheet tr:has(td:text-is('{mine}')) button:has-text('put back')")
    ended(page, number + 2)
    assert str(mine) not in served.opened().facts("cut")


def test_a_scan_is_dragged_and_turned_and_set(page, served):
    visit(page, served, "register")
    before = served.opened().grid_pose(served.opened().scan(5))
    number = served.last_number()
    page.evaluate("terrazza.cloud.hiddenScans = new Set([1,2,3,4,6,7,8]); terrazza.dirty()")
    page.keyboard.press("d")
    x, y = place_of(page, "plan", 5)
    scale = page.evaluate("terrazza.plan.scale")
    for start, end, shift in (((30, 20), (50, 5), False), ((50, 5), (45, 30), True)):
        page.mouse.move(x + start[0], y + start[1])
        if shift:
            page.keyboard.down("Shift")
        page.mouse.down()
        page.mouse.move(x + end[0], y + end[1], steps=5)
        page.mouse.up()
        page.keyboard.up("Shift")
    page.click("#action button:has-text('set it here')")
    ended(page, number + 1)
    job = served.opened()
    after = job.grid_pose(job.scan(5))
    assert np.allclose(after[:2, 3] - before[:2, 3], [20 * scale, 15 * scale], atol=2.5 * scale)
    turned = np.degrees(rigid.vector_from(after[:3, :3] @ before[:3, :3].T))
    assert abs(turned[2]) > 5 and np.hypot(*turned[:2]) < 0.01, "turned about the vertical, its tilt kept"


def test_slab_colours_classes_and_keys(page, viewed):
    visit(page, viewed, "classify")
    shown = lambda: page.evaluate("terrazza.space.limits.slab")
    assert shown() is None
    page.keyboard.press("l")
    page.wait_for_function("terrazza.space.limits.slab")
    low, high = shown()
    page.keyboard.press("]")
    page.keyboard.press("}")

    def moved_and_thicker():
        now = shown()
        assert now[0] + now[1] == pytest.approx(low + high + 0.2, abs=1e-6) and now[1] - now[
            0
        ] == pytest.approx((high - low) * 1.25)

    eventually(moved_and_thicker)
    page.fill("#slab-height", "315.0")
    page.press("#slab-height", "Enter")
    assert page.evaluate("terrazza.slabHeight + terrazza.cloud.data.origin[2]") == pytest.approx(315.0)
    page.evaluate(
        "Object.assign(terrazza.cloud.data.notation, { per_unit: 0.3048, unit: 'ft' }); terrazza.showSlab()"
    )
    assert page.input_value("#slab-height") == f"{315 / 0.3048:.2f}"
    page.fill("#slab-height", "1030")
    page.press("#slab-height", "Enter")
    assert page.evaluate("terrazza.slabHeight + terrazza.cloud.data.origin[2]") == pytest.approx(
        1030 * 0.3048
    )
    for mode in ("native", "photo", "scan", "class", "height", "intensity"):
        page.click(f"[data-group=colour] [data-value={mode}]")
        assert page.evaluate("terrazza.mode") == mode
    idle(page)
    page.evaluate("terrazza.requests = performance.getEntriesByType('resource').length")
    page.click("#class-chooser summary")
    page.click("#class-list input[value='2']")
    page.click("#scan-chooser summary")
    page.click("#scan-list input[value='3']")
    assert page.evaluate("[terrazza.cloud.hiddenClasses.has(2), terrazza.cloud.hiddenScans.has(3)]") == [
        True,
        True,
    ]
    page.keyboard.press("?")
    page.wait_for_selector("#keys[open]")


def test_undo_and_recipe_in_the_field_book(page, served):
    visit(page, served, "draw")
    page.keyboard.press("b")
    page.wait_for_selector("#book:not([hidden]) tr:has-text('Draw a plan slab')")
    with page.expect_download() as download:
        page.click("text=save as recipe")
    assert download.value.path().read_text().count("[[step]]") == 11
    drawing = next(e.number for e in served.entries() if e.operation == "draw.plan_slab")
    page.click(f"#book tr:has(td:text-is('{drawing}')) button:has-text('undo')")
    page.wait_for_selector(f"#book tr.undone:has(td:text-is('{drawing}'))")
    assert served.opened().facts("drawing") == {}


def test_wrong_numbers_are_answered_in_words(page, served):
    visit(page, served, "register")
    page.click("summary:has-text('Rescue by hand')")
    form = page.locator("form[data-operation='register.cloud_fit']")
    form.locator("select[name=scan]").select_option("3")
    form.locator("select[name=neighbour]").select_option("3")
    form.locator("button").click()
    page.wait_for_selector("#strip .last.failed:has-text('cannot be fitted to itself')")


def test_two_tabs_see_the_same_job(chromium, page, served):
    other = chromium.new_page(bypass_csp=True)
    visit(page, served, "draw")
    visit(other, served, "draw")
    number = served.last_number()
    page.click("button:has-text('Draw the plan slab')")
    ended(page, number + 1)
    other.wait_for_function(
        f"document.querySelector('#strip .last')?.dataset.last == '{number + 1}'", timeout=60_000
    )
    other.wait_for_selector("#sheet section.drawing >> nth=1", timeout=60_000)
    other.close()


def test_unplaced_scans_are_shown_and_placed_by_dragging(page, viewed, tmp_path):
    scenes.write_room(tmp_path / "loose.e57")
    desk = begin(page, viewed, "Loose")
    page.set_input_files("#picker", str(tmp_path / "loose.e57"))
    page.click("#import-button:has-text('Import 3 scans')")
    ended(page, 1)
    page.keyboard.press("2")
    page.keyboard.press("d")
    x, y = place_of(page, "plan", 1)
    page.mouse.move(x + 2, y + 2)
    page.mouse.down()
    page.mouse.move(x + 30, y + 2, steps=4)
    page.mouse.up()
    page.click("#action button:has-text('set it here')")
    ended(page, 2)
    assert [s.pose is not None for s in desk.opened().scans()].count(True) == 1
