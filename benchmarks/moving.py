"""How the table moves and comes to rest, in headless Chromium with software rendering.

python benchmarks/moving.py WORKSPACE     (a workspace whose first job has some million points)
"""

import pathlib
import statistics
import sys

from playwright.sync_api import sync_playwright

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.browser.conftest import FLAGS, serve

# the browser lets the next frame begin only when the one before is on its way to the screen, so that the
# frames asked for are the frames drawn
TURN = """(async () => { const times = []; let last = performance.now();
  for (let k = 0; k < 60; k++) { terrazza.space.azimuth += 0.02; terrazza.dirty(terrazza.space);
    await new Promise((done) => requestAnimationFrame(done));
    times.push(performance.now() - last); last = performance.now(); }
  return [times, terrazza.space.shown]; })()"""
REST = """(async () => { const start = performance.now(); await terrazza.idle();
  const gl = terrazza.renderer.getContext(), pixel = new Uint8Array(4);
  gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, pixel);
    return [performance.now() - start, terrazza.space.shown]; })()"""


def main(workspace: str) -> None:
    process, address = serve(workspace)
    try:
        with sync_playwright() as p:
            browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=True)
            page.goto(f"{address}/jobs/1/register")
            page.wait_for_selector("#table[data-state=idle]", timeout=60_000)
            for name in ("first look around", "again"):
                times, moving = page.evaluate(TURN)
                took, shown = page.evaluate(REST)
                print(
                    f"{name}: {1000 / statistics.mean(times):.1f} frames a second with {moving:,} points "
                    f"(wanted: 10 with 100,000); {shown:,} points at rest {took / 1000:.2f} s after "
                    "stopping (wanted: 1,000,000 within 2)",
                    flush=True,
                )
            browser.close()
    finally:
        process.terminate()


if __name__ == "__main__":
    main(sys.argv[1])
