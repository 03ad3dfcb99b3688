"""Ties from station to station, by touch."""

import pytest

from tests.browser.test_table import ended, idle, place_of, visit

pytestmark = pytest.mark.browser


def test_a_tie_is_switched_and_asked_for_from_station_to_station(page, served):
    visit(page, served, "register")
    number = served.last_number()
    page.evaluate("terrazza.plan.scale = 0.12; terrazza.dirty()")
    idle(page)
    page.keyboard.press("0")

    def touch(*scans):
        for scan in scans:
            page.mouse.click(*place_of(page, "plan", scan))

    touch(1, 2)
    assert page.locator("#station").is_hidden(), "the tool touches stations, and does not look from them"
    page.fill("#tie-weight", "2.5")
    page.click("#action [data-do=off]")
    ended(page, number + 1)
    choice = served.opened().get("tie_choice", "1-2")
    assert choice == {"a": 1, "b": 2, "on": False, "weight": 2.5, "asked": False}
    far = next(k for k in (6, 7, 8) if not served.opened().get("tie", f"1-{k}"))
    touch(1, far)
    page.wait_for_selector("#action:has-text('no tie')")
    page.click("#action [data-do=on]:has-text('ask for a tie')")
    page.wait_for_function(
        "n => +document.querySelector('#strip .last')?.dataset.last >= n", arg=number + 2, timeout=60_000
    )
    assert served.opened().get("tie_choice", f"1-{far}")["asked"]
