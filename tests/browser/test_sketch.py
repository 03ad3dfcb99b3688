"""The sketch under the plan: laid by its form, then touched place by place and scan by scan."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.demo import drawn, settegradini
from tests.browser.test_table import ended, idle, visit

pytestmark = pytest.mark.browser

KNOWN = np.array([[-14.4, 14.0], [26.0, 8.0]])  # corners of the house, in the scene


def pixels(page, places) -> list[list[float]]:
    """Where places (n, 2) of the grid are in the plan, on the page."""
    return page.evaluate(
        "all => { const t = terrazza, o = t.cloud.data.origin, r = t.plan.pane.getBoundingClientRect();"
        "return all.map(p => { const q = t.plan.toPixel([p[0] - o[0], p[1] - o[1], 0]);"
        "return [q[0] + r.left, q[1] + r.top]; }); }",
        np.asarray(places).tolist(),
    )


def laid(job) -> tuple[int, np.ndarray]:
    """Number of the last sketch, and its matrix (2, 3) from pixels to the grid."""
    number, record = list(job.facts("sketch").items())[-1]
    matrix = np.array(record["matrix"])
    turn, shift = job.frame[:2, :2], job.frame[:2, 3]
    return int(number), np.c_[turn @ matrix[:, :2], turn @ matrix[:, 2] + shift]


def test_a_sketch_is_laid_by_places_that_are_touched(page, served):
    inbox = served.opened().subfolder("inbox")
    drawn.sketch(f"{inbox}/schizzo è.png", [("West", -7.5, 10.8), ("Terrace", -2.6, 1.9)])
    visit(page, served, "register")
    number = served.last_number()
    page.evaluate("document.querySelectorAll('#sheet details.section').forEach(d => { d.open = true; })")
    page.fill("form[data-operation='register.sketch'] [name=picture]", "schizzo è.png")
    page.click("form[data-operation='register.sketch'] button:has-text('Lay it')")
    ended(page, number + 1)
    page.wait_for_selector("#plan img.underlay")
    idle(page)
    page.keyboard.press("s")
    page.select_option("#sketch-what", "place")
    _, matrix = laid(served.opened())
    grid = settegradini.scene_to_grid()
    true = rigid.apply(grid, np.c_[KNOWN, np.zeros(2)])[:, :2]
    on_paper = drawn.pixel(KNOWN)
    page.evaluate("terrazza.plan.scale = 0.25; terrazza.dirty()")
    idle(page)
    for place, pixel in zip(true, on_paper):
        for at in pixels(page, [matrix[:, :2] @ pixel + matrix[:, 2], place]):
            page.mouse.click(*at)
    page.select_option("#sketch-what", "5")
    page.mouse.click(*pixels(page, [matrix[:, :2] @ drawn.pixel([[-2.6, 1.9]])[0] + matrix[:, 2]])[0])
    page.click("#action [data-do=lay]:has-text('2 known places and 1 scan')")
    ended(page, number + 2)
    job = served.opened()
    _, matrix = laid(job)
    for place, pixel in zip(true, on_paper):  # a pixel of the view is a quarter of a metre
        assert np.hypot(*(matrix[:, :2] @ pixel + matrix[:, 2] - place)) < 0.5
    (row,) = job.last_entries()["register.sketch"].figures["stations"]
    assert row["scan"] == 5 and row["placed"] and row["off_m"] < 2
    page.uncheck("#plan-sketch input")
    page.wait_for_selector("#plan img.underlay", state="hidden")
