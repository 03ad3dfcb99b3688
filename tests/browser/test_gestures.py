"""Smaller gestures of the table and the sheets, each judged by state or database."""

import csv
import io
from urllib.parse import urlsplit

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from tests.browser.test_table import ended, idle, middle, place_of, visit
from tests.run import must

pytestmark = pytest.mark.browser
STEPS = ["import", "register", "georeference", "clean", "colorize", "classify", "draw", "deliver"]


def test_steps_by_key_and_by_click_keep_the_table(page, viewed):
    visit(page, viewed, "import")
    page.evaluate("terrazza.marker = 7")
    for number, step in enumerate(STEPS, 1):
        page.keyboard.press(str(number))
        page.wait_for_selector(f"#sheet h1:text-is('{step.capitalize()}')")
        page.wait_for_selector(f"#terraces a[data-step={step}][aria-current=step]")
        assert urlsplit(page.url).path.endswith(f"/{step}")  # the view is in the address too, behind a hash
    # in the moment that the links arrive
    page.evaluate("""new MutationObserver((_, watch) => {
        watch.disconnect();
        document.querySelector('#terraces a[data-step=register]').click();
    }).observe(document.getElementById('terraces'), {childList: true})""")
    page.keyboard.press("7")
    page.wait_for_selector("#sheet h1:text-is('Register')")
    assert page.evaluate("terrazza.marker") == 7, "changing the sheet must not load the table again"
    page.go_back()
    page.wait_for_selector("#sheet h1:text-is('Draw')")


def test_tables_copy_as_csv(page, viewed):
    visit(page, viewed, "register")
    text = page.evaluate(
        "import('/static/js/tables.js').then(m => m.csv(document.querySelector('table[data-name=ties]')))"
    )
    rows = list(csv.reader(io.StringIO(text)))
    ties = list(viewed.opened().facts("tie").values())
    assert rows[0][:3] == ["Tie", "hold", "RMS mm"] and len(rows) == len(ties) + 1
    assert rows[1][0] == f"{ties[0]['a']} – {ties[0]['b']}" and float(rows[1][2]) == pytest.approx(
        ties[0]["rms_mm"], abs=0.051
    )


def test_camera_gestures(page, viewed):
    visit(page, viewed, "register")
    before = page.evaluate(
        "[terrazza.space.azimuth, terrazza.space.distance, terrazza.plan.scale, terrazza.plan.centre[0], "
        "terrazza.slab.height]"
    )
    x, y = middle(page, "space")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 60, y + 10, steps=4)
    page.mouse.up()
    page.mouse.wheel(0, -200)
    px, py = (int(v) for v in middle(page, "plan"))
    page.mouse.move(px, py)
    under = page.evaluate(
        f"terrazza.plan.toWorld({px} - document.getElementById('plan').getBoundingClientRect().left - 1, "
        f"{py} - document.getElementById('plan').getBoundingClientRect().top - 1)"
    )
    scale = page.evaluate("terrazza.plan.scale")
    page.mouse.wheel(0, -200)
    page.wait_for_function(f"terrazza.plan.scale < {scale}")
    again = page.evaluate(
        f"terrazza.plan.toWorld({px} - document.getElementById('plan').getBoundingClientRect().left - 1, "
        f"{py} - document.getElementById('plan').getBoundingClientRect().top - 1)"
    )
    assert np.allclose(under, again, atol=1e-6), "the place under the pointer stays there"
    page.mouse.move(px + 100, py + 100)
    page.mouse.down()
    page.mouse.move(px + 130, py + 100, steps=3)
    page.mouse.up()
    after = page.evaluate(
        "[terrazza.space.azimuth, terrazza.space.distance, terrazza.plan.scale, terrazza.plan.centre[0], "
        "terrazza.slab.height]"
    )
    assert (
        after[0] == pytest.approx(before[0] - 60 * 0.006)
        and after[1] < before[1]
        and after[2] < before[2]
        and after[3] != before[3]
    )
    page.keyboard.press("f")
    assert page.evaluate("terrazza.plan.scale") == pytest.approx(before[2])


def centre_of(page, selector):
    """Screen place of a mark, at one moment: marks are drawn anew whenever the view is."""
    return page.evaluate(
        "(s) => { const r = document.querySelector(s).getBoundingClientRect(); return [r.x + r.width / 2, "
        "r.y + r.height / 2]; }",
        selector,
    )


def test_the_section_line_and_the_slab_band_are_dragged(page, viewed):
    visit(page, viewed, "register")
    start = page.evaluate("terrazza.slab.b.slice()")
    x, y = centre_of(page, "#plan-marks .handle[data-end=b]")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 40, y + 30, steps=4)
    page.mouse.up()
    idle(page)
    end, scale = page.evaluate("terrazza.slab.b.slice()"), page.evaluate("terrazza.plan.scale")
    assert np.allclose(np.subtract(end, start), [40 * scale, -30 * scale], atol=2 * scale)
    (x, y), height = centre_of(page, "#slab-marks .band"), page.evaluate("terrazza.slabHeight")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y - 20, steps=4)
    page.mouse.up()
    assert page.evaluate("terrazza.slabHeight") - height == pytest.approx(
        20 * page.evaluate("terrazza.slab.scale"), rel=0.15
    )


def test_the_section_line_is_bent_and_the_slab_follows_it(page, viewed):
    """A bend is dragged out of the line; what the slab shows and picks lies beside the bent line, at the way
    along it; a double click straightens it.
    """
    visit(page, viewed, "register")
    page.evaluate(
        "() => { const m = [1, 5].map((n) => terrazza.cloud.scans.get(n).matrix.elements); "
        "terrazza.slab.path = m.map((e) => [e[12], e[13]]); terrazza.dirty(); }"
    )
    idle(page)
    x, y = centre_of(page, "#plan-marks .handle.mid")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 50, y - 25, steps=5)
    page.mouse.up()
    page.wait_for_function("terrazza.slab.path.length === 3")
    idle(page)
    path = np.array(page.evaluate("terrazza.slab.path"))
    page.evaluate(
        "Object.assign(terrazza.slab, { thickness: 0.5, along: terrazza.slab.length / 2, scale: "
        "terrazza.slab.length / 700 }); terrazza.dirty()"
    )
    idle(page)
    pane, height, picked = (
        page.locator("#slab").bounding_box(),
        page.evaluate("terrazza.slab.rowOf(0.05 + terrazza.cloud.scans.get(2).matrix.elements[14] - 1.6)"),
        [],
    )
    for x in np.linspace(60, pane["width"] - 60, 9):
        with page.expect_response("**/scene/pick") as answer:
            page.mouse.click(pane["x"] + x, pane["y"] + 1 + height)
        hit = answer.value.json()
        if hit:
            p = np.array(hit["at"]) - page.evaluate("terrazza.cloud.data.origin")
            off, along, way = [], [], 0.0
            for a, b in zip(path[:-1], path[1:]):
                u = (b - a) / np.linalg.norm(b - a)
                along.append(way + (p[:2] - a) @ u)
                off.append(abs((p[:2] - a) @ [-u[1], u[0]]))
                way += np.linalg.norm(b - a)
            wanted, near = (
                page.evaluate(f"terrazza.slab.toWorld({x} - 1, 0)[0]"),
                12 * page.evaluate("terrazza.slab.scale"),
            )
            pieces = [k for k in (0, 1) if off[k] <= 0.2501 and abs(along[k] - wanted) < near]
            assert pieces, (off, along, wanted)
            picked.append(pieces[0])
    assert set(picked) == {0, 1}, "both pieces show points"
    assert "bends=" in page.evaluate("import('/static/js/places.js').then((m) => m.address(terrazza))")
    page.mouse.dblclick(*centre_of(page, "#plan-marks .handle[data-end='1']"))
    page.wait_for_function("terrazza.slab.path.length === 2")


def test_the_plan_is_a_picture_of_the_floor_that_is_chosen(page, viewed):
    visit(page, viewed, "register")
    page.wait_for_selector("#plan-picture:not([hidden])")
    ink = (
        "(() => { const c = document.getElementById('plan-picture'), d = "
        "c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let n = 0; for (let k = 3; k < "
        "d.length; k += 4) n += d[k]; return n / d.length; })()"
    )
    page.wait_for_function(f"{ink} > 1")
    idle(page)
    whole = page.evaluate(ink)
    assert page.locator("#plan-floor option").count() > 2
    asked = []
    page.on("request", lambda r: asked.append(r.url) if "/plan/" in r.url else None)
    page.select_option("#plan-floor", "0")
    page.wait_for_function(
        f"Math.abs({ink} - {whole}) > 0.05 * {whole} && document.getElementById('table').dataset.state "
        "=== 'idle'"
    )
    assert page.evaluate(ink) < whole and any("high=" in url for url in asked)
    for how in ("density", "intensity", "height"):
        with page.expect_request(f"**/plan/*/{how}/**"):
            page.select_option("#plan-as", how)
        idle(page)
        assert page.evaluate(ink) > 0.5
    page.select_option("#plan-as", "same")
    page.wait_for_selector("#plan-picture", state="hidden")


def test_what_is_switched_off_is_neither_picked_nor_cut(page, served):
    visit(page, served, "clean")
    page.evaluate(
        "terrazza.cloud.hiddenScans = new Set([1,2,3,4,6,7,8]); terrazza.cloud.hiddenClasses = new Set([2]); "
        "terrazza.cloud.paintClasses(); terrazza.dirty()"
    )
    idle(page)
    x, y = place_of(page, "plan", 5)
    for dx in range(-40, 60, 20):
        with page.expect_response("**/scene/pick"):
            page.mouse.click(x + dx, y + 17)
        idle(page)
        picked = page.evaluate("terrazza.picked && [terrazza.picked.scan, terrazza.picked.class]")
        assert picked is None or (picked[0] == 5 and picked[1] != 2)
    number = served.last_number()
    page.keyboard.press("o")
    page.mouse.move(x - 60, y - 60)
    page.mouse.down()
    for dx, dy in ((60, -60), (60, 60), (-60, 60)):
        page.mouse.move(x + dx, y + dy, steps=4)
    page.mouse.up()
    page.click("#action button:has-text('inside')")
    ended(page, number + 1)
    entry = served.entries()[-1]
    assert entry.params["scans"] == [5] and 2 not in entry.params["classes"] and entry.figures["points"] > 50
    cloud = served.opened().cloud(5)
    assert not (
        np.asarray(cloud.read("class"))[np.asarray(cloud.read("cut")) == entry.figures["cut"]] == 2
    ).any()


def test_control_is_changed_in_its_table(page, served):
    visit(page, served, "georeference")
    number = served.last_number()
    page.click("table[data-name=control] tr.check button")
    ended(page, number + 1)
    page.select_option("table[data-name=control] tbody tr:first-child select", "0")
    ended(page, number + 2)
    control = served.opened().facts("control")
    assert (
        not any(c["check"] for c in control.values())
        and control["L1"]["targets"] == []
        and control["L1"]["how"] == "by hand"
    )
    page.wait_for_selector("table[data-name=control] tbody tr:first-child:has-text('no target')")
    page.click("summary:has-text('Targets')")
    page.click("figure:has(b:text-is('T1')) button")
    ended(page, number + 3)
    assert served.opened().get("target", 1)["dropped"]


def test_running_work_shows_itself_and_is_cancelled(page, served):
    visit(page, served, "register")
    number = served.last_number()
    page.click("button:has-text('Register all scans again')")
    page.wait_for_selector("#strip .running .stop", timeout=60_000)
    page.wait_for_timeout(1500)
    page.click("#strip .running .stop")
    ended(page, number + 1, "cancelled", 30_000)
    assert served.entries()[-1].state == "cancelled"


def test_picked_point_becomes_the_origin(page, served):
    visit(page, served, "georeference")
    page.click("summary:has-text('Without control')")
    x, y = place_of(page, "plan", 5)
    page.mouse.click(x + 25, y + 20)
    page.wait_for_function("document.querySelector('#sheet input[name=origin]').value !== ''")
    at = page.evaluate("terrazza.picked.at")
    number = served.last_number()
    page.click("button:has-text('Level and turn')")
    ended(page, number + 1)
    job = served.opened()
    assert job.get("frame")["how"] == "level"
    origin = served.entries()[-1].params["origin"]
    from terrazza.core.geometry import rigid

    assert np.allclose(rigid.apply(job.frame, np.array([origin]))[0], 0, atol=1e-9) and len(at) == 3


def test_dusk_marks_and_point_size_by_key(page, viewed):
    visit(page, viewed, "register")
    page.keyboard.press("n")
    assert "dusk" in page.get_attribute("body", "class")
    assert page.locator("#plan-marks .station").count() == 8
    page.keyboard.press("h")
    page.wait_for_function("!document.querySelector('#plan-marks .station')")
    size = page.evaluate("terrazza.size")
    page.keyboard.press("+")
    assert page.evaluate("terrazza.size") > size
    page.keyboard.press("c")
    assert page.evaluate("terrazza.mode") != "intensity"


def test_a_double_wall_is_looked_at_from_its_row(page, served):
    """The sheet looks through the scans; a row's link sets the slab across the wall and colours points by
    scan.
    """
    job = served.opened()
    pose = job.grid_pose(job.scan(2))
    x, y, z = pose[:3, 3] + [0.012, -0.008, 0.005]
    must(
        served.workspace,
        served.row,
        "register.set_pose",
        scan=2,
        x=x,
        y=y,
        z=z,
        heading_deg=float(np.degrees(rigid.heading(pose))),
    )
    visit(page, served, "register")
    page.click("button:text-is('Look through all placed scans')")
    page.wait_for_selector("table[data-name=doubles] a", timeout=60_000)
    worst = served.opened().get("network")["doubles"][0]
    assert (
        worst["off"] == 2
        and page.inner_text("table[data-name=doubles] tbody tr td").strip() == f"{worst['a']} – {worst['b']}"
    )
    page.click("table[data-name=doubles] a")
    page.wait_for_function("terrazza.mode === 'scan' && terrazza.slabOn")
    at = rigid.apply(served.opened().frame, np.array([worst["at"]]))[0]
    seen = page.evaluate(
        "[terrazza.slabHeight + terrazza.cloud.data.origin[2], terrazza.plan.centre[0] + "
        "terrazza.cloud.data.origin[0], terrazza.plan.centre[1] + terrazza.cloud.data.origin[1]]"
    )
    assert seen == pytest.approx([at[2], at[0], at[1]], abs=0.01)
