"""Slabs cut out of very many points: first picture, whole, and stepping through, by the server alone and in
headless Chromium.

python benchmarks/slabs.py WORKSPACE [MILLIONS]

Makes the job where WORKSPACE has none: a building of 300 by 60 m on three floors, rooms of 10 by 10 m with
furniture, MILLIONS (200) of points on its surfaces, as four LAS files.
"""

import http.client
import json
import os
import pathlib
import statistics
import sys
import time

import laspy
import numpy as np
from playwright.sync_api import sync_playwright

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from terrazza.db import queries
from terrazza.operations.spine.job import Job
from terrazza.work.open import open_workspace
from tests.browser.conftest import FLAGS, serve
from tests.run import must

SIDE, DEPTH, FLOOR, ROOM, CHUNK = 300.0, 60.0, 3.5, 10.0, 2_000_000


def surfaces(n: int, rng: np.random.Generator) -> np.ndarray:
    """(n, 3) points on walls, floors and furniture, 2 mm of noise."""
    xyz = rng.uniform((0, 0, 0), (SIDE, DEPTH, 3 * FLOOR), (n, 3))
    kind = rng.random(n)
    for axis, low, high in ((0, 0.0, 0.3), (1, 0.3, 0.6)):
        on = (kind >= low) & (kind < high)
        xyz[on, axis] = np.round(xyz[on, axis] / ROOM) * ROOM
    on = (kind >= 0.6) & (kind < 0.9)
    xyz[on, 2] = np.round(xyz[on, 2] / FLOOR) * FLOOR
    on = kind >= 0.9
    xyz[on, 2] = np.floor(xyz[on, 2] / FLOOR) * FLOOR + rng.choice([0.45, 0.75, 1.8], int(on.sum()))
    return xyz + rng.normal(0, 0.002, (n, 3))


def make(workspace: str, millions: int) -> None:
    open_workspace(workspace)
    if queries.Job.select().count():
        return
    rng, files = np.random.default_rng(1), []
    for part in range(4):
        header = laspy.LasHeader(point_format=0, version="1.2")
        header.scales = [1e-4] * 3
        files.append(os.path.join(workspace, f"part{part}.las"))
        with laspy.open(files[-1], mode="w", header=header) as out:
            for _ in range(millions * 1_000_000 // 4 // CHUNK):
                xyz, record = surfaces(CHUNK, rng), laspy.ScaleAwarePointRecord.zeros(CHUNK, header=header)
                record.x, record.y, record.z = xyz.T
                record.intensity = (xyz[:, 2] * 4000).astype(np.uint16)
                out.write_points(record)
    started = time.perf_counter()
    must(workspace, queries.create_job(workspace, "Slabs"), "import.files", files=files)
    print(f"imported in {time.perf_counter() - started:.0f} s")
    for path in files:
        os.unlink(path)


def wall(at: float, origin) -> list:
    """A slab 0.2 m thick along the whole building, 300 m long."""
    y = at - origin[1]
    return [
        [
            [0, 1, 0, y + 0.1],
            [0, -1, 0, 0.1 - y],
            [1, 0, 0, SIDE + 1 - origin[0]],
            [-1, 0, 0, 1 + origin[0]],
            [0, 0, 1, 12 - origin[2]],
            [0, 0, -1, 1 + origin[2]],
        ]
    ]


def main(workspace: str, millions: int) -> None:
    make(workspace, millions)
    job = Job(workspace, queries.job_by(name="Slabs"))
    print(f"{sum(s.points for s in job.scans()) / 1e6:.0f} M points")
    process, address = serve(workspace)
    line = http.client.HTTPConnection(address.removeprefix("http://"))

    def asked(method, path, body=None):
        line.request(method, path, body, {"Content-Type": "application/json"} if body else {})
        answer = line.getresponse()
        return answer.status, answer.read()

    try:
        time.sleep(4)
        origin = json.loads(asked("GET", "/jobs/1/scene.json")[1])["origin"]
        times: dict[int, list[float]] = {30_000: [], 100_000: [], 300_000: []}
        counts = []
        for k in range(12):
            for budget in times:
                started = time.perf_counter()
                _, data = asked(
                    "POST",
                    "/jobs/1/scene/region",
                    json.dumps(
                        {"pieces": wall(3.3 + 4.7 * k, origin), "scans": [1, 2, 3, 4], "budget": budget}
                    ),
                )
                times[budget].append(time.perf_counter() - started)
            counts.append(len(data) // 24)
        for budget, values in times.items():
            print(
                f"answers with up to {budget:,} points: median {statistics.median(values) * 1000:.0f} ms, "
                f"worst {max(values) * 1000:.0f} ms, first {values[0] * 1000:.0f} ms"
            )
        print(f"points of a slab at the largest budget: {min(counts):,} to {max(counts):,}")
        with sync_playwright() as p:
            browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=True)
            page.goto(f"{address}/jobs/1/register")
            page.wait_for_selector("#table[data-state=idle]", timeout=120_000)
            seen = page.evaluate("""async () => {
              const t = terrazza, held = t.regions.of(t.slab), out = [];
              for (let k = 0; k < 6; k++) {
                t.slab.path = [[-150, -20 + 7.3 * k], [150, -20 + 7.3 * k]]
                  .map(([x, y]) => [x + 150 - t.cloud.data.origin[0], y + 30 - t.cloud.data.origin[1]]);
                const start = performance.now(), before = held.key; t.dirty();
                let first = null;
                await new Promise((done) => { const look = () => { const p = t.regions.parts(t.slab);
                  if (p.current && held.key !== before && p.parts.length && first === null)
                    first = performance.now() - start;
                  if (first !== null && t.still && !t.busy && held.budget >= t.slab.budgets[1]) return done();
                  if (performance.now() - start > 20000) return done();
                  requestAnimationFrame(look); }; look(); });
                out.push([first, performance.now() - start, t.slab.shown]);
              }
              const steps = [], begun = performance.now();
              for (let k = 0; k < 12; k++) { const s = performance.now(), before = held.key;
                t.slab.step(0.4); t.dirty(t.slab); await new Promise((done) => {
                const look = () => (t.regions.parts(t.slab).current && held.key !== before
                  ? done() : requestAnimationFrame(look));
                requestAnimationFrame(look); }); steps.push(performance.now() - s); }
              return { out, rate: 12000 / (performance.now() - begun), steps };
            }""")
            browser.close()
        first, whole = ([o[k] for o in seen["out"]] for k in (0, 1))
        print(
            f"in the browser: first picture median {statistics.median(first):.0f} ms, worst {max(first):.0f} "
            f"ms (wanted: under 500); whole median {statistics.median(whole):.0f} ms, worst "
            f"{max(whole):.0f} ms (wanted: under 2000), {seen['out'][-1][2]:,} points"
        )
        print(f"stepping through: {seen['rate']:.1f} slabs a second (wanted: 5)")
    finally:
        process.terminate()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 200)
