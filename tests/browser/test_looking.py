"""Looking around: the view from a station, measures, pins, boxes, links and pictures, and the look inside
files, each judged by what is stored.
"""

import io
import json

import numpy as np
import pytest
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.operations.pieces import stations
from tests.browser.test_table import begin, ended, eventually, idle, middle, place_of, touch_two, visit
from tests.scenes import room_poses, scan_room

pytestmark = pytest.mark.browser
STANDING = "#station[data-state=idle]"


def test_a_pick_in_the_view_from_a_station_is_the_stored_point(page, viewed):
    visit(page, viewed, "register")
    page.keyboard.press("g")
    page.wait_for_selector(STANDING)
    first = page.evaluate("terrazza.station.about.scan")
    for _ in range(6):
        page.mouse.move(*middle(page, "station"))
        page.mouse.wheel(0, -240)
    page.wait_for_selector(STANDING)
    page.mouse.click(*middle(page, "station"))
    page.wait_for_function("terrazza.picked?.row !== undefined")
    picked = page.evaluate("terrazza.picked")
    job = viewed.opened()
    at = int(stations.view(job, first).index[picked["row"], picked["column"]])
    assert picked["index"] == at and np.allclose(
        picked["at"],
        rigid.apply(job.grid_pose(job.scan(first)), job.cloud(first).xyz(at, at + 1))[0],
        atol=1e-9,
    )
    column, row = page.evaluate("terrazza.station.seen(terrazza.picked.local)")
    assert abs(column - picked["column"]) < 1.5 and abs(row - picked["row"]) < 1.5, (
        "the mark is where the pixel is"
    )
    page.keyboard.press(".")
    page.wait_for_function(f"terrazza.station.about.scan !== {first}")
    page.keyboard.press(",")
    page.wait_for_function(f"terrazza.station.about.scan === {first}")
    page.evaluate(
        "(() => { const v = terrazza.station, m = v.about.marks.find((m) => m.kind === 'station'); [v.x, "
        "v.y] = [m.at[0] + 0.5, m.at[1] + 0.5]; v.draw(); })()"
    )
    page.wait_for_selector(STANDING)
    page.mouse.click(*middle(page, "station"))
    page.wait_for_function(f"terrazza.station.about.scan !== {first}")
    page.wait_for_selector(STANDING)
    page.keyboard.press("g")
    assert not page.is_visible("#station")


def test_measures_pins_and_boxes_are_set_down(page, served):
    visit(page, served, "register")
    number = served.last_number()
    page.keyboard.press("m")
    touch_two(page)
    page.click("#action button:has-text('keep it')")
    ended(page, number + 1)
    page.select_option("#measure-kind", "plane")
    x, y = place_of(page, "plan", 5)
    page.mouse.click(x + 20, y + 10)
    page.wait_for_selector("#action button:has-text('keep it')")
    page.click("#action button:has-text('keep it')")
    ended(page, number + 2)
    page.keyboard.press("i")
    page.mouse.click(x + 20, y + 10)
    page.wait_for_selector("#pin-text")
    page.fill("#pin-name", "Damp")
    page.fill("#pin-text", "look again")
    page.set_input_files("#pin-picture", {"name": "damp.png", "mimeType": "image/png", "buffer": png()})
    page.click("#action button:has-text('put the pin')")
    ended(page, number + 3)
    page.keyboard.press("Escape")
    page.keyboard.press("x")
    page.mouse.click(x - 60, y - 40)
    page.mouse.click(x + 60, y + 50)
    page.wait_for_selector("#box-name")
    page.fill("#box-name", "terrace")
    page.click("#action button:has-text('keep the box')")
    ended(page, number + 4)
    corner = page.evaluate(
        "(() => { const b = terrazza.box, v = terrazza.plan, c = [b.centre[0] + b.size[0] / 2 * "
        "Math.cos(b.heading) - b.size[1] / 2 * Math.sin(b.heading), b.centre[1] + b.size[0] / 2 * "
        "Math.sin(b.heading) + b.size[1] / 2 * Math.cos(b.heading), 0]; return v.toPixel(c).slice(0, "
        "2); })()"
    )
    pane, before = (
        page.locator("#plan").bounding_box(),
        page.evaluate("terrazza.box.size[0] * terrazza.box.size[1]"),
    )
    page.mouse.move(pane["x"] + 1 + corner[0], pane["y"] + 1 + corner[1])
    page.mouse.down()
    page.mouse.move(
        *(
            np.array([pane["x"], pane["y"]])
            + corner
            + np.sign(np.array(corner) - [x - pane["x"], y - pane["y"]]) * 12
        ),
        steps=4,
    )
    page.mouse.up()
    assert page.evaluate("terrazza.box.size[0] * terrazza.box.size[1]") > before * 1.1
    job = served.opened()
    kinds = [m["kind"] for m in job.facts("measure").values()]
    assert (
        kinds == ["distance", "plane"]
        and job.get("pin", 1)["name"] == "Damp"
        and job.get("pin", 1)["picture"]
        and job.get("box", 1)["name"] == "terrace"
    )
    taken = [e.figures for e in served.entries() if e.operation == "measure.take"]
    assert (
        taken[0]["distance"] == pytest.approx(np.linalg.norm(np.subtract(*taken[0]["at"])))
        and taken[1]["rms"] < 0.2
    )
    page.keyboard.press("Escape")
    page.keyboard.press("k")
    page.wait_for_selector("#notes table[data-name=measures] tr:nth-child(2)")
    page.click("#notes [data-jump] >> nth=0")
    assert np.allclose(
        page.evaluate("[...terrazza.plan.centre].map((v, k) => v + terrazza.cloud.data.origin[k])"),
        taken[0]["at"][0][:2],
        atol=1e-6,
    )
    page.wait_for_timeout(400)
    idle(page)


def png():
    out = io.BytesIO()
    Image.new("RGB", (8, 8), "olive").save(out, "PNG")
    return out.getvalue()


def test_a_link_opens_the_same_view_and_pictures_are_saved(page, viewed):
    visit(page, viewed, "register")
    page.evaluate(
        "Object.assign(terrazza.plan, { scale: 0.031 }), terrazza.slabOn = true, terrazza.slabHeight = 1.25, "
        "terrazza.colour('height'), terrazza.space.azimuth = 0.7, terrazza.dirty()"
    )
    page.wait_for_function("location.hash.includes('colour=height')")
    link = page.url
    page.goto("about:blank")
    page.goto(link)
    idle(page)
    page.wait_for_function(
        "[terrazza.plan.scale, terrazza.slabOn, terrazza.mode, terrazza.space.azimuth].join() === "
        "'0.031,true,height,0.7'"
    )
    assert page.evaluate("terrazza.slabHeight") == pytest.approx(1.25, abs=1e-3)
    with page.expect_download() as download:
        page.keyboard.press("w")
    image = np.array(Image.open(download.value.path()).convert("L"))
    assert (
        download.value.suggested_filename.endswith("Space.png")
        and image.shape[0] == page.locator("#space").bounding_box()["height"] + 34
        and (image[:-34] < 200).mean() > 0.003
        and (image[-34:] < 120).any()
    )


@pytest.mark.parametrize("key", ["e", "z", "r"])
def test_ways_of_drawing_switch_by_key(page, viewed, key):
    """Edge shading darkens, size by distance enlarges what is near, and points seen from behind go; all
    without asking for points again.
    """
    visit(page, viewed, "register")
    ink = (
        "(() => { terrazza.render(); const c = document.createElement('canvas'), h = "
        "terrazza.renderer.domElement; c.width = h.width; c.height = h.height; const x = "
        "c.getContext('2d'); x.drawImage(h, 0, 0); const r = terrazza.space.rect, d = "
        "x.getImageData(r.x, h.height - r.y - r.height, r.width, r.height).data; let n = 0; for (let k = "
        "0; k < d.length; k += 4) n += 255 - d[k]; return n / d.length; })()"
    )
    requests = []
    before = page.evaluate(ink)
    page.on("request", lambda r: requests.append(r.url) if "/scene/" in r.url else None)
    page.keyboard.press(key)

    def drawn_otherwise():
        after = page.evaluate(ink)
        assert after < before * 0.995 if key == "r" else after > before * 1.01, (before, after)

    eventually(drawn_otherwise)
    assert not requests


def test_two_spaces_follow_each_other_and_slabs_step(page, viewed):
    visit(page, viewed, "register")
    page.keyboard.press("t")
    page.click('[data-group="twin"] [data-value="scan"]')
    page.wait_for_function("terrazza.twin.shown > 1000")
    idle(page)
    page.mouse.move(*middle(page, "twin"))
    far = page.evaluate("terrazza.space.distance")
    page.mouse.wheel(0, -200)
    page.wait_for_function(
        f"terrazza.space.distance < {far} && terrazza.twin.distance === terrazza.space.distance"
    )
    assert page.evaluate("[terrazza.twin.mode, terrazza.mode]") == ["scan", "intensity"]
    page.fill("#slab-pitch", "0.25")
    page.locator("#slab").focus()
    before = page.evaluate("[terrazza.slabHeight, ...terrazza.slab.a, ...terrazza.slab.u]")
    for key in ("]", "]", "[", "'", "y"):
        page.keyboard.press(key)
    page.wait_for_function("terrazza.slab.stretch === 2")
    after = page.evaluate("[terrazza.slabHeight, ...terrazza.slab.a, terrazza.slab.stretch]")
    assert np.allclose(
        after, [before[0] + 0.25, before[1] - 0.25 * before[4], before[2] + 0.25 * before[3], 2]
    )
    h = page.evaluate(
        "(() => { const v = terrazza.slab, p = v.toPixel([v.a[0], v.a[1], v.height + 1]), q = "
        "v.toPixel([v.a[0], v.a[1], v.height]); return (q[1] - p[1]) * v.scale; })()"
    )
    assert h == pytest.approx(2, rel=1e-6), "a metre of height is two metres tall"
    page.wait_for_timeout(400)
    idle(page)


def test_a_turned_file_in_feet_is_seen_through_and_imported_upright(page, viewed, tmp_path):
    """A PTX with y up, in feet: the look inside says so, the choice is made, and the room comes
    out as it is.
    """
    desk = begin(page, viewed, "Feet")
    data = scan_room(room_poses()[0], 100, 200)
    order = np.lexsort((data["row"], data["column"]))
    xyz = (data["xyz"] @ np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]]) / 0.3048)[order]
    lines = "\n".join(
        f"{x:.5f} {y:.5f} {z:.5f} {i / 65535:.4f}" for (x, y, z), i in zip(xyz, data["intensity"][order])
    )
    (tmp_path / "room.ptx").write_text(
        "200\n100\n0 0 0\n1 0 0\n0 1 0\n0 0 1\n1 0 0 0\n0 1 0 0\n0 0 1 0\n0 0 0 1\n" + lines + "\n"
    )
    page.set_input_files("#picker", str(tmp_path / "room.ptx"))
    page.wait_for_selector(".glimpse img.thumb", timeout=60_000)
    told = page.inner_text(".glimpse")
    assert "y is up" in told and "looks like feet" in told
    before = page.get_attribute(".glimpse img", "src")
    page.select_option("#import-axes", label="y up")
    page.wait_for_function(
        f"document.querySelector('.glimpse img').getAttribute('src') !== {json.dumps(before)}"
    )
    page.select_option("#import-form select[name=unit]", "international foot")
    page.click("#import-button")
    ended(page, 1)
    job = desk.opened()
    low, high = np.array(job.scan(1).record["bounds"])
    assert (
        abs((high - low)[2] - 3.0) < 0.05
        and job.scan(1).points == 20000
        and json.dumps(job.scan(1).record["taken"]["axes"]) == "[[0, 2, 1], [1, -1, 1]]"
    )
    idle(page)


def test_the_slab_is_seen_beside_the_plan_s_picture(page, viewed):
    """Whatever puts the page together, all of the slab's pane shows its ground, and not what lies below the
    table.
    """
    visit(page, viewed, "register")
    page.wait_for_function("!document.getElementById('plan-picture').hidden")
    idle(page)
    box = page.locator("#slab").bounding_box()
    shot = Image.open(io.BytesIO(page.screenshot())).convert("RGB")
    grounds = []
    for share in (0.12, 0.88):
        x, y = int(box["x"] + share * box["width"]), int(box["y"] + 0.4 * box["height"])
        grounds.append(max(shot.crop((x, y, x + 30, y + 12)).getcolors())[1])
    assert grounds[0] == grounds[1]
