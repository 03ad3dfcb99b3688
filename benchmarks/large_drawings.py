"""How the table moves with 5,000 drawn lines and a surface of a million triangles beside the points, in
headless Chromium with software rendering.

python benchmarks/large_drawings.py WORKSPACE [--lines 5000] [--triangles 1000000]

The workspace's first job is copied into a backup and restored beside it, and the copy gets the drawing and
the surface; frames of every view are timed in both jobs in turn.
"""

import argparse
import json
import os
import pathlib
import statistics
import sys
import tempfile

import numpy as np
from playwright.sync_api import sync_playwright

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from terrazza.db.models import Job as Row
from terrazza.operations.spine.job import Job
from terrazza.work import archive
from terrazza.work.open import open_workspace
from tests.browser.conftest import FLAGS, serve
from tests.run import must

MOVE = """(async ([kind, change]) => { const view = terrazza[kind], times = [], f = new Function("v", change);
  let last = performance.now();
  for (let k = 0; k < 40; k++) { f(view); terrazza.dirty(view);
    await new Promise((done) => requestAnimationFrame(done));
    times.push(performance.now() - last); last = performance.now(); }
  await terrazza.idle(); return times.slice(5); })"""
MOVES = {
    "space": "v.azimuth += 0.02",
    "plan": "v.centre[0] += 0.05",
    "slab": "v.along += 0.05",
    "station": "v.x += 3; v.draw()",
}
VERTICES = 20


def drawn(folder: str, at: np.ndarray, lines: int) -> str:
    """Lines of ``VERTICES`` places each all over 60 m about ``at`` (3,), as GeoJSON; returns its path."""
    rng = np.random.default_rng(1)
    starts = at[:2] + rng.uniform(-30, 30, (lines, 2))
    ways = starts[:, None] + rng.normal(0, 0.3, (lines, VERTICES, 2)).cumsum(1)
    level = np.full((lines, VERTICES, 1), at[2])
    features = [
        {"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": way}}
        for way in np.concatenate([ways, level], 2).round(3).tolist()
    ]
    path = os.path.join(folder, "lines.geojson")
    pathlib.Path(path).write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    return path


def mesh(folder: str, at: np.ndarray, triangles: int) -> str:
    """Rolling ground of so many triangles about ``at``, as PLY; returns its path."""
    side = int(np.sqrt(triangles / 2)) + 1
    x, y = np.meshgrid(np.linspace(-30, 30, side), np.linspace(-30, 30, side))
    z = 0.4 * np.sin(x / 3) * np.cos(y / 4) - 1.6
    vertices = (np.stack([x.ravel(), y.ravel(), z.ravel()], 1) + at).astype("<f8")
    k = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    corners = np.concatenate([np.c_[k, k + 1, k + side], np.c_[k + 1, k + side + 1, k + side]]).astype("<i4")
    faces = np.zeros(len(corners), [("n", "u1"), ("corners", "<i4", 3)])
    faces["n"], faces["corners"] = 3, corners
    head = (
        f"ply\nformat binary_little_endian 1.0\nelement vertex {len(vertices)}\nproperty double x\n"
        f"property double y\nproperty double z\nelement face {len(faces)}\n"
        "property list uchar int vertex_indices\nend_header\n"
    )
    path = os.path.join(folder, "ground.ply")
    with open(path, "wb") as file:
        file.write(head.encode() + vertices.tobytes() + faces.tobytes())
    return path


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("workspace")
    parser.add_argument("--lines", type=int, default=5000)
    parser.add_argument("--triangles", type=int, default=1_000_000)
    args = parser.parse_args()
    open_workspace(args.workspace)
    plain = Row.select().order_by(Row.id).first()
    with tempfile.TemporaryDirectory() as folder:
        archive.backup(args.workspace, plain, f"{folder}/backup")
        full = archive.restore(args.workspace, f"{folder}/backup", f"Large drawings {os.getpid()}")
        job = Job(args.workspace, full)
        at = job.grid_pose(job.scans(placed=True)[0])[:3, 3]
        for path in (drawn(folder, at, args.lines), mesh(folder, at, args.triangles)):
            print(must(args.workspace, full, "draw.bring", path=path)["says"], flush=True)
    process, address = serve(args.workspace)
    try:
        with sync_playwright() as p:
            browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=True)
            for row in (plain, full, plain, full):
                page.goto(f"{address}/jobs/{row.id}/draw")
                page.wait_for_selector("#table[data-state=idle]", timeout=120_000)
                page.wait_for_timeout(8000)
                told = []
                for kind, change in MOVES.items():
                    if kind == "station":
                        page.evaluate("terrazza.stand(String([...terrazza.cloud.scans.keys()][0]))")
                        page.wait_for_selector("#station[data-state=idle]", timeout=60_000)
                    times = page.evaluate(MOVE, [kind, change])
                    told.append(f"{kind} {1000 / statistics.mean(times):.1f}")
                print(f"{row.name}: frames a second {', '.join(told)}", flush=True)
            browser.close()
    finally:
        process.terminate()


if __name__ == "__main__":
    main()
