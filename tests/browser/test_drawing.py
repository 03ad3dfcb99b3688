"""Lines by hand, outlines in the slab and from a station, dimensions as colours."""

import json

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from tests.browser.test_table import ended, middle, visit
from tests.run import must

pytestmark = pytest.mark.browser


def test_an_area_is_drawn_changed_and_taken_back(page, served):
    visit(page, served, "draw")
    number, (x, y) = served.last_number(), middle(page, "plan")
    before = len(served.opened().facts("drawing"))
    page.keyboard.press("d")
    for k, (dx, dy) in enumerate(((-40, -30), (40, -30), (40, 30)), 1):
        page.mouse.click(x + dx, y + dy)
        page.wait_for_function(f"document.querySelectorAll('#plan-marks .grip').length === {k}")
    page.click("#action [data-do=area]")
    ended(page, number + 1)
    drawn = served.opened().facts("drawing")
    assert len(drawn) == before + 1
    key = next(k for k, d in drawn.items() if d["name"] == "By hand")
    line = drawn[key]["lines"][0]
    assert line["closed"] and len(line["vertices"]) == 3 and line["length"] > 1
    page.keyboard.press("o")
    page.wait_for_function(f"terrazza.cloud.data.drawings.some((d) => d.id === {key})")
    at = page.evaluate(
        f"(() => {{ const d = terrazza.cloud.data.drawings.find((d) => d.id === {key}).lines[0].at; "
        "const p = terrazza.plan.toPixel(d[0].map((v, k) => v + 0.3 * (d[1][k] - v))); "
        "const r = document.getElementById('plan').getBoundingClientRect(); "
        "return [p[0] + r.left + 1, p[1] + r.top + 1]; })()"
    )
    page.mouse.click(*at)
    page.wait_for_selector("#action b:text-is('Area 1')")
    page.fill("#mend-by", "0.5")
    page.click("#action [data-do=parallel]")
    ended(page, number + 2)
    both = served.opened().get("drawing", key)["lines"]
    assert len(both) == 2 and both[1]["length"] != pytest.approx(both[0]["length"], abs=0.1)
    page.click("#strip button:text-is('undo')")
    page.wait_for_function(f"terrazza.cloud.data.drawings.find((d) => d.id === {key}).lines.length === 1")
    assert len(served.opened().get("drawing", key)["lines"]) == 1


def test_two_touches_give_a_dimension(page, served):
    visit(page, served, "draw")
    number, (x, y) = served.last_number(), middle(page, "plan")
    page.keyboard.press("d")
    for k, dx in enumerate((-40, 40), 1):
        page.mouse.click(x + dx, y)
        page.wait_for_function(f"document.querySelectorAll('#plan-marks .grip').length === {k}")
    page.click("#action [data-do=dimension]")
    ended(page, number + 1)
    figures = served.opened().last_entries()["draw.dimension"].figures
    drawing = served.opened().get("drawing", figures["drawing"])
    (text,) = (t for t in drawing["texts"] if t["layer"] == "DIMENSIONS")
    assert float(text["text"].split()[0]) == pytest.approx(figures["lengths_m"][0], abs=1e-3)
    assert sum(line["layer"] == "DIMENSIONS" for line in drawing["lines"]) == 5


def test_an_outline_in_the_slab_keeps_to_its_thickness(page, served):
    visit(page, served, "classify")
    number, (x, y) = served.last_number(), middle(page, "slab")
    page.keyboard.press("o")
    page.click("#action [data-do=rectangle]")
    page.mouse.move(x - 150, y - 50)
    page.mouse.down()
    page.mouse.move(x + 150, y + 60, steps=4)
    page.mouse.up()
    page.click("#action [data-do=class]")
    page.select_option("#outline-class", "69")
    page.click("#action [data-do=give]")
    ended(page, number + 1)
    path, thick = page.evaluate("[terrazza.slab.path, terrazza.slab.thickness]")
    origin = page.evaluate("terrazza.cloud.data.origin")
    job, a, b = served.opened(), *(np.array(path)[[0, -1]] + origin[:2])
    across = np.array([-(b - a)[1], (b - a)[0]]) / np.linalg.norm(b - a)
    off = [
        np.abs((rigid.apply(job.grid_pose(s), cloud.xyz())[:, :2] - a) @ across)[codes == 69]
        for s in job.scans(placed=True)
        for cloud in [job.cloud(s.id)]
        for codes in [np.asarray(cloud.values("class", 0))]
    ]
    off = np.concatenate(off)
    assert len(off) > 200 and thick / 4 < off.max() < thick / 2 + 1e-3


def test_an_outline_from_a_station_takes_what_lies_in_its_cone(page, served):
    visit(page, served, "clean")
    number = served.last_number()
    page.keyboard.press("g")
    page.wait_for_selector("#station:not([hidden])")
    page.wait_for_function("document.getElementById('station').dataset.state === 'idle'")
    page.keyboard.press("o")
    page.click("#action [data-do=circle]")
    x, y = middle(page, "station")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 40, y, steps=4)
    page.mouse.up()
    page.click("#action [data-do=inside]")
    ended(page, number + 1)
    job, scan = served.opened(), page.evaluate("terrazza.station.about.scan")
    figures = served.entries()[-1].figures
    cloud = job.cloud(scan)
    gone = cloud.xyz()[np.asarray(cloud.read("cut")) == figures["cut"]]
    ways = gone / np.linalg.norm(gone, axis=1)[:, None]
    axis = ways.mean(0) / np.linalg.norm(ways.mean(0))
    assert figures["points"] > 300 and len(gone) > 300
    assert np.degrees(np.arccos(ways @ axis)).max() < 25, "nothing outside the cone"


def test_a_dimension_colours_the_points(page, served):
    scan = served.opened().scans(placed=True)[0]
    eye = served.opened().grid_pose(scan)[:3, 3]
    must(
        served.workspace,
        served.row,
        "surface.deviation",
        against="plane",
        reach=3.0,
        patches=[[*(eye + d)] for d in ([0, 0, -1.5], [3, 0, -1.5], [0, 3, -1.5], [3, 3, -1.5])],
    )
    visit(page, served, "draw")
    page.select_option("#shade", "deviation")
    page.wait_for_function(
        "terrazza.mode === 'dimension' && [...terrazza.cloud.scans.values()].some((s) => s.nodes[0].shade)"
    )
    ramp = page.text_content("#space-marks .scale")
    assert "deviation" in ramp and "m" in ramp
    node = page.evaluate(
        "(() => { const n = [...terrazza.cloud.scans.values()].find((s) => s.nodes[0].shade).nodes[0]; "
        "return [...n.points.geometry.attributes.shade.array].filter((_, k) => k % 4 === 0); })()"
    )
    assert np.ptp(node) > 100 and min(node) == 0, "some have no value"
    page.keyboard.press("q")
    page.wait_for_function("terrazza.mode !== 'dimension'")
    page.click("#class-chooser summary")
    page.click("#class-list [data-only] >> nth=0")
    hidden = page.evaluate("terrazza.hiddenClasses.size")
    assert hidden == page.evaluate("Object.keys(terrazza.cloud.data.classes).length") - 1
    page.click("#class-list [data-only] >> nth=0")
    assert page.evaluate("terrazza.hiddenClasses.size") == 0


def test_touched_points_go_into_the_form_that_asks_for_them(page, served):
    """… and the flatness of what was touched is then in a table."""
    visit(page, served, "draw")
    number, (x, y) = served.last_number(), middle(page, "plan")
    form = page.locator('form[data-operation="surface.flatness"]')
    page.evaluate("document.querySelectorAll('#sheet details').forEach((d) => { d.open = true; })")
    form.locator("[data-touch]").click()
    assert page.evaluate("terrazza.tool") == "pick"
    page.mouse.click(x, y)
    page.wait_for_function(
        "document.querySelector('form[data-operation=\"surface.flatness\"] [data-touched]').value"
    )
    (at,) = json.loads(form.locator("[data-touched]").input_value())
    assert page.locator("#plan-marks .grip").count() == 1
    form.locator("button.minor:not([data-touch]), button.main").last.click()
    ended(page, number + 1)
    entry = served.entries()[-1]
    assert entry.operation == "surface.flatness" and entry.params["at"] == [pytest.approx(at)]
    page.wait_for_selector("[data-name=flatness] tbody tr")
