"""Gestures that start work, and what they put into the job."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.db.models import Entry
from tests.browser.test_table import ended, idle, middle, place_of, visit

pytestmark = pytest.mark.browser


def test_a_section_is_drawn_along_the_line_on_the_table(page, served):
    visit(page, served, "draw")
    number = served.last_number()
    page.evaluate("terrazza.slab.path.splice(1, 0, terrazza.plan.toWorld(150, 200)); terrazza.dirty()")
    page.click("details[data-name='draw.section'] summary")
    page.click("button:has-text('Draw the section')")
    ended(page, number + 1)
    drawing = max(served.opened().facts("drawing").items(), key=lambda d: int(d[0]))[1]
    line = page.evaluate("terrazza.slab.path.map((p) => p.map((v, k) => v + terrazza.cloud.data.origin[k]))")
    grid = rigid.apply(served.opened().frame, np.array(drawing["course"]))
    assert len(line) == 3 and np.allclose(grid[:, :2], line, atol=1e-6) and drawing["lines"]
    page.wait_for_selector("button:has-text('Write section-')")
    assert page.evaluate("terrazza.ink.of(terrazza.slab).paths.true.length") > 0, "the slab shows its lines"


def tops(job, scan):
    """By cell of 0.1 m in plan the height (grid) of the topmost point of a scan within 9 m of it."""
    one = job.scan(scan)
    xyz = job.cloud(scan).xyz()[job.cloud(scan).kept()]
    world = rigid.apply(job.grid_pose(one), xyz[np.linalg.norm(xyz, axis=1) < 9])
    order = np.argsort(world[:, 2])
    return {(int(x // 0.1), int(y // 0.1)): p for (x, y), p in zip(world[order, :2], world[order])}


def test_a_scan_is_placed_by_points_touched_in_two(page, served):
    job = served.opened()
    tie = max((t for t in job.facts("tie").values() if not t["failed"]), key=lambda t: t["overlap"])
    a, b = tie["a"], tie["b"]
    mine, theirs = tops(job, a), tops(job, b)
    both = [p for c, p in mine.items() if c in theirs and np.linalg.norm(p - theirs[c]) < 0.03]
    places = [both[0], max(both, key=lambda p: np.linalg.norm(p - both[0]))]
    before, number = job.grid_pose(job.scan(b)), served.last_number()
    visit(page, served, "register")
    page.keyboard.press("j")
    for k, place in enumerate(places):
        for scan, asks in ((b, "Touch the same place"), (a, "place" if k else "Touch another")):
            page.evaluate(
                "([p, scan]) => { const t = terrazza, o = t.cloud.data.origin; t.plan.centre = [p[0] - o[0], "
                "p[1] - o[1]]; t.plan.scale = 0.01; t.cloud.hiddenScans = new Set([...t.cloud.scans.keys()]"
                ".filter((id) => id !== scan)); t.dirty(); }",
                [place.tolist(), scan],
            )
            idle(page)
            page.mouse.click(*middle(page, "plan"))
            page.wait_for_selector(f"#action:has-text('{asks}')")
    page.click("#action button:has-text('by 2 pairs')")
    ended(page, number + 1)
    job = served.opened()
    moved, turned = rigid.difference(job.grid_pose(job.scan(b)), before)
    assert job.get("pose", b)["how"] == "like points" and moved < 0.02 and np.degrees(turned) < 0.2


def test_a_touch_on_paint_asks_for_marks_like_it(page, served):
    """The touched point's place reaches the operation; the lane bears no paint, which it says."""
    place, number = served.opened().grid_pose(served.opened().scan(7))[:3, 3], served.last_number()
    visit(page, served, "draw")
    page.keyboard.press("s")
    page.evaluate(
        "p => { const t = terrazza, o = t.cloud.data.origin; t.plan.centre = [p[0] - o[0] + 2, p[1] - o[1]]; "
        "t.plan.scale = 0.01; t.dirty(); }",
        place.tolist(),
    )
    idle(page)
    page.mouse.click(*middle(page, "plan"))
    page.wait_for_function(
        f"document.querySelector('#strip .last')?.dataset.last == '{number + 1}' && "
        "document.querySelector('#stripline').dataset.busy == '0'"
    )
    entry = served.opened().row.entries.where(Entry.number == number + 1).get()
    at = np.array(entry.params["at"])
    assert entry.operation == "draw.paint" and np.hypot(*(at[:2] - place[:2] - [2, 0])) < 0.3
    assert entry.state == "done" or "Nothing painted" in entry.message or "ground" in entry.message


def test_a_missed_target_is_touched_from_its_station_and_named(page, served):
    visit(page, served, "georeference")
    page.keyboard.press("g")
    page.wait_for_selector("#station[data-state=idle]")
    number, scan = served.last_number(), page.evaluate("terrazza.station.about.scan")
    page.keyboard.press("o")
    page.mouse.click(*middle(page, "station"))
    page.fill("#target-name", "Spigolo è")
    page.click("#action [data-do=take]")
    ended(page, number + 1)
    target = next(t for t in served.opened().facts("target").values() if t.get("name") == "Spigolo è")
    assert target["scan"] == scan and target["by_hand"] and 0 < target["sigma"] < 0.1
    page.wait_for_selector("input[name=name][value='Spigolo è']", state="attached")


def test_a_held_scan_says_why_it_does_not_move_and_is_freed(page, served):
    visit(page, served, "register")
    number = served.last_number()
    page.click("table[data-name=scans] tr:has(td:text-is('5')) button:text-is('hold')")
    ended(page, number + 1)
    assert served.opened().get("held", 5)
    page.evaluate("terrazza.cloud.hiddenScans = new Set([1,2,3,4,6,7,8]); terrazza.dirty()")
    page.keyboard.press("d")
    x, y = place_of(page, "plan", 5)
    page.mouse.move(x + 30, y + 20)
    page.mouse.down()
    page.mouse.move(x + 60, y + 20, steps=3)
    page.mouse.up()
    page.wait_for_selector("#action:has-text('is held where it stands')")
    assert not page.evaluate("Boolean(terrazza.moving)")
    page.click("#action [data-do=free]")
    ended(page, number + 2)
    assert not served.opened().get("held", 5)
