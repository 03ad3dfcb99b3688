"""The plan's picture of a large job: how long until it is whole, at several zooms, drawn anew and out of what
is kept.

python benchmarks/plan_picture.py WORKSPACE     (a workspace whose first job has many points)
"""

import glob
import os
import pathlib
import sys

from playwright.sync_api import sync_playwright

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.browser.conftest import FLAGS, serve

WHOLE = """async ([how, scale]) => { terrazza.picture.whole = false; terrazza.planAs(how);
  terrazza.plan.scale = scale; terrazza.dirty(terrazza.plan); const start = performance.now();
  await new Promise((done) => { const look = () => (terrazza.picture.whole ? done() : setTimeout(look,
    10)); setTimeout(look, 30); }); return performance.now() - start; }"""


def main(workspace: str) -> None:
    for kept in glob.glob(f"{workspace}/jobs/*/pictures/plan-*"):
        os.remove(kept)
    process, address = serve(workspace)
    try:
        with sync_playwright() as p:
            browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            for again in (False, True):
                page = browser.new_context(
                    viewport={"width": 1280, "height": 800}, bypass_csp=True
                ).new_page()
                page.goto(f"{address}/jobs/1/register")
                page.wait_for_selector("#table[data-state=idle]", timeout=120_000)
                fit = page.evaluate("terrazza.plan.scale")
                for how in ("walls", "density", "intensity", "height"):
                    took = [page.evaluate(WHOLE, [how, fit / zoom]) for zoom in (1.0, 4.0, 30.0, 200.0)]
                    print(
                        f"{how:<10} {'out of what is kept' if again else 'drawn anew':<20} "
                        + "  ".join(f"zoom × {z}: {t / 1000:.2f} s" for z, t in zip((1, 4, 30, 200), took))
                        + "   (wanted: under 3 s)",
                        flush=True,
                    )
                page.close()
            browser.close()
    finally:
        process.terminate()


if __name__ == "__main__":
    main(sys.argv[1])
