"""Try-outs and shelves by mouse, recipes with questions: each judged by database and figures."""

import numpy as np
import pytest

from tests.browser.test_table import ended, middle, visit
from tests.run import must

pytestmark = pytest.mark.browser
FORM = "[data-operation='clean.outliers']"


def test_a_filter_is_tried_changed_and_let_loose(page, served):
    visit(page, served, "clean")
    before, number = served.opened().facts("cut"), served.last_number()
    shown = f"document.querySelector(\"{FORM} [data-tried]\").dataset.state === 'shown'"
    page.click(f"{FORM} [data-try]")
    page.wait_for_function(shown, timeout=120_000)
    first = page.inner_text(f"{FORM} [data-tried] p")
    marks = page.evaluate("terrazza.cloud.marks.geometry.attributes.position.count")
    assert "points would go" in first and marks > 100
    page.fill(f"{FORM} input[name=deviations]", "6")
    page.wait_for_function(
        f'document.querySelector("{FORM} [data-tried] p").textContent !== {first!r} && {shown}',
        timeout=120_000,
    )
    assert page.evaluate("terrazza.cloud.marks.geometry.attributes.position.count") < marks, (
        "milder takes less"
    )
    assert served.opened().facts("cut") == before and served.last_number() == number, "nothing is written"
    page.click(f"{FORM} [data-untry]")
    assert page.evaluate("terrazza.cloud.marks") is None


def outlined(page, key="o", half=60):
    """Draw an outline in the middle of space, up to its question."""
    if key:
        page.keyboard.press(key)
    x, y = middle(page, "space")
    page.mouse.move(x - half, y - half)
    page.mouse.down()
    for dx, dy in ((half, -half), (half, half), (-half, half)):
        page.mouse.move(x + dx, y + dy, steps=4)
    page.mouse.up()


def test_an_outline_gives_a_class_or_is_an_example_of_it(page, served):
    visit(page, served, "classify")
    number = served.last_number()
    for k, (code, then) in enumerate((("68", "give"), ("69", "example")), 1):
        outlined(page)
        page.click("#action [data-do=class]")
        page.select_option("#outline-class", code)
        page.click(f"#action [data-do={then}]")
        ended(page, number + k)
    given, example = served.entries()[-2:]
    assert given.operation == "clean.outline" and given.figures["points"] > 50
    assert example.operation == "classify.example" and example.figures["points"] == given.figures["points"]
    page.click("table[data-name=examples] button:has-text('drop')")
    ended(page, number + 3)
    assert not served.opened().facts("example")


def test_one_outline_adds_and_another_takes_away(page, served):
    """A square, the same again, which adds nothing, and one within it that is left to be cut later."""
    visit(page, served, "clean")
    number = served.last_number()
    outlined(page)
    page.click("#action [data-do=add]")
    outlined(page, key="")
    page.click("#action [data-do=away]")
    outlined(page, key="", half=25)
    assert page.locator("polygon.outline").count() == 3
    page.click("#action [data-do=inside]")
    ended(page, number + 1)
    outlined(page, key="")
    page.click("#action [data-do=inside]")
    ended(page, number + 2)
    first, second = served.entries()[-2:]
    assert [f["away"] for f in first.params["further"]] == [False, True] and not second.params["further"]
    assert 0 < second.figures["points"] < first.figures["points"]


def test_an_outline_puts_points_on_a_shelf_and_the_list_switches_it(page, served):
    visit(page, served, "clean")
    number = served.last_number()
    outlined(page)
    page.click("#action [data-do=shelf]")
    page.fill("#shelf-name", "Aside")
    page.click("#action [data-do=put]")
    ended(page, number + 1)
    entry = served.entries()[-1]
    assert (
        entry.operation == "clean.outline" and entry.params["to"] == "Aside" and entry.figures["points"] > 50
    )
    held = lambda: sum(int(served.opened().cloud(s.id).kept().sum()) for s in served.opened().scans())
    less = held()
    page.click("table[data-name=shelves] button:has-text('no, bring in')")
    ended(page, number + 2)
    assert held() == less + entry.figures["points"]
    shelf = next(iter(served.opened().facts("shelf").values()))
    assert shelf == {"name": "Aside", "apart": False, "delivered": False, "points": entry.figures["points"]}
    assert np.isfinite(less)


def test_a_recipe_asks_runs_and_stops_at_its_verdict(page, served, tmp_path):
    (tmp_path / "asked.toml").write_text(
        'title = "Asked"\n[[question]]\nname = "strength"\ntitle = "How strong"\nkind = "number"\n'
        'fills = ["clean.outliers.deviations"]\n[[step]]\noperation = "clean.outliers"\n'
        'stop = [{ figure = "points", over = 0, says = "something went" }]\n[[step]]\n'
        'operation = "table.keep_view"\nname = "After"\naddress = "plan=1,2,3"\n',
        encoding="utf-8",
    )
    visit(page, served, "clean")
    number = served.last_number()
    page.keyboard.press("b")
    page.set_input_files("#course input[type=file]", str(tmp_path / "asked.toml"))
    page.fill("#course input[name='answer.strength']", "1.9")
    page.click("#course button:has-text('Run')")
    ended(page, number + 1)
    assert served.entries()[-1].params["deviations"] == 1.9
    visit(page, served, "clean")
    page.keyboard.press("b")
    page.wait_for_selector("#course:has-text('something went')")
    page.click("#course button:has-text('Go on')")
    ended(page, number + 2)
    assert any(v["name"] == "After" for v in served.opened().facts("view").values())
    must(served.opened().workspace, served.row, "clean.put_back", cut=served.entries()[-2].figures["cut"])
