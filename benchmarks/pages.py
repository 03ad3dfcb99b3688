"""How fast pages answer and points are drawn, measured in headless Chromium on loopback.

python benchmarks/pages.py WORKSPACE     (a workspace whose first job has points)
"""

import pathlib
import statistics
import sys
import time
import urllib.request

from playwright.sync_api import sync_playwright

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests.browser.conftest import FLAGS, serve

STEPS = ("import", "register", "georeference", "clean", "colorize", "classify", "draw", "deliver")


def main(workspace: str) -> None:
    process, address = serve(workspace)
    try:
        for step in STEPS:
            times = []
            for _ in range(7):
                started = time.perf_counter()
                urllib.request.urlopen(f"{address}/jobs/1/{step}").read()
                times.append((time.perf_counter() - started) * 1000)
            print(
                f"page {step:<14} {statistics.median(times):7.0f} ms median of 7   (wanted: under 100)",
                flush=True,
            )
        with sync_playwright() as p:
            browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            for way, from_list in (("a fresh tab", False), ("the list of jobs", True)):
                first = [_first_points(browser, address, from_list) for _ in range(7)]
                print(
                    f"first points after the page's answer, from {way:<16} {statistics.median(first):5.0f} "
                    f"ms median of 7, {min(first):.0f} best (wanted: under 1000)",
                    flush=True,
                )
            browser.close()
    finally:
        process.terminate()


def _first_points(browser, address: str, from_list: bool) -> float:
    """Milliseconds from the last byte of a job's page to its first points, in a profile of its own."""
    profile = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
    page = profile.new_page()
    if from_list:
        page.goto(address)
        page.wait_for_timeout(1500)
    page.goto(f"{address}/jobs/1/register")
    page.wait_for_function("performance.getEntriesByName('first-points').length", timeout=60_000)
    taken = page.evaluate(
        "performance.getEntriesByName('first-points')[0].startTime - "
        "performance.getEntriesByType('navigation')[0].responseEnd"
    )
    profile.close()
    return taken


if __name__ == "__main__":
    main(sys.argv[1])
