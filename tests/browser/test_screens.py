"""Every main screen as browsers with the page's own policy see it: no message on the console, nothing that
accessibility rules (axe-core) object to.
"""

from pathlib import Path

import axe_playwright_python
import pytest

from tests.browser.test_table import idle

AXE = (Path(axe_playwright_python.__file__).parent / "axe.min.js").read_text()
STEPS = ("import", "register", "georeference", "clean", "colorize", "classify", "draw", "deliver")


@pytest.fixture(scope="module")
def strict(chromium):
    page = chromium.new_page(viewport={"width": 1280, "height": 800})
    page.add_init_script("try { localStorage.setItem('points', 30000) } catch {}")
    said: list[str] = []
    page.on("console", lambda m: said.append(m.text))
    page.on("pageerror", lambda e: said.append(str(e)))
    yield page, said
    page.close()


@pytest.mark.browser
@pytest.mark.parametrize("path", ["/", *STEPS, "book", "notes", "keys"])
def test_a_screen_keeps_the_policy_and_the_rules(strict, viewed, path):
    page, said = strict
    said.clear()
    page.goto(
        viewed.address
        + ("/" if path == "/" else f"/jobs/{viewed.job}/{path if path in STEPS else 'register'}")
    )
    if path != "/":
        page.wait_for_selector("#table[data-state=idle]", state="attached")
    if path in {"book", "notes", "keys"}:
        page.keyboard.press({"book": "b", "notes": "k", "keys": "?"}[path])
        page.wait_for_selector(f"#{path}", state="visible")
    page.evaluate("document.querySelectorAll('#sheet details').forEach((d) => (d.open = true))")
    page.evaluate(AXE)
    found = page.evaluate("axe.run(document, { resultTypes: ['violations'] })")["violations"]
    assert [(v["id"], [n["html"] for n in v["nodes"]]) for v in found] == [] and said == []


@pytest.mark.browser
def test_the_list_of_keys_fits_the_screen(page, viewed):
    page.goto(f"{viewed.address}/jobs/{viewed.job}/register")
    idle(page)
    page.keyboard.press("?")
    box = page.locator("#keys").bounding_box()
    assert box["y"] >= 0 and box["y"] + box["height"] <= 800 and box["x"] + box["width"] <= 1280
    page.keyboard.press("Escape")


@pytest.mark.browser
@pytest.mark.parametrize("keys", ["", "t", "tg"])
def test_heads_of_panes_do_not_overlap(page, viewed, keys):
    """Names and choices of plan, space, second space, station and slab lie side by side or below
    each other.
    """
    page.goto(f"{viewed.address}/jobs/{viewed.job}/register")
    idle(page)
    for key in keys:
        page.keyboard.press(key)
        page.wait_for_timeout(300)
        idle(page)
    overlapping = page.evaluate("""() => [...document.querySelectorAll('.pane')]
      .filter((p) => !p.hidden && p.offsetWidth
        && !(p.id === 'space' && !document.getElementById('station').hidden)).filter((p) => {
      const text = (n) => { const r = document.createRange(); r.selectNodeContents(n);
        return r.getBoundingClientRect(); };
      const a = text(p.querySelector('.tag')), own = p.querySelector('.tag').getBoundingClientRect(),
        right = Math.min(a.right, own.right);
      return [...p.querySelectorAll('.opts > *')].some((o) => { const b = o.getBoundingClientRect();
        return b.width && b.left < right - 1 && b.right > a.left
          && b.top < a.bottom - 1 && b.bottom > a.top + 1; });
    }).map((p) => p.id)""")
    assert overlapping == []


@pytest.mark.browser
def test_slab_plan_slab_and_box_show_their_own_points(page, viewed):
    """All points inside and no other, however many lie outside; the slab steps with its points."""
    page.goto(f"{viewed.address}/jobs/{viewed.job}/register")
    idle(page)
    page.keyboard.press("l")
    page.evaluate("terrazza.idle()")
    idle(page)

    def shown(view):
        return page.evaluate(
            """(view) => { const v = terrazza[view]; return v.parts.map(({ points, count, unit }) => {
              const a = points.geometry.attributes.position.array, m = points.matrixWorld.elements, z = [];
            for (let k = 0; k < count; k++) z.push([0, 1,
              2].map((r) => m[r] * a[4 * k] + m[r + 4] * a[4 * k + 1]
              + m[r + 8] * a[4 * k + 2] + m[r + 12])); return z; }).flat() }""",
            view,
        )

    low, high = page.evaluate("terrazza.planSlab()")
    inside = shown("space")
    assert (
        len(inside) > 300
        and all(low - 1e-3 <= p[2] <= high + 1e-3 for p in inside)
        and page.evaluate("terrazza.space.chosen.length") == 0
    )
    wall = page.evaluate("terrazza.slab.limits.wall")
    points = shown("slab")
    assert len(points) > 300 and all(
        abs(wall[0] * x + wall[1] * y - wall[2]) <= wall[3] + 1e-3 for x, y, _ in points
    )
    page.keyboard.press("'")
    idle(page)
    page.evaluate("terrazza.idle()")
    moved = page.evaluate("terrazza.slab.limits.wall")
    again = shown("slab")
    assert (
        moved[2] != wall[2]
        and again
        and all(abs(moved[0] * x + moved[1] * y - moved[2]) <= moved[3] + 1e-3 for x, y, _ in again)
    )
