"""Every filter on large scans of a hall with somebody who walks about: time, points a second and core, memory
of all processes.

.venv/bin/python benchmarks/filters_large.py FOLDER [MILLIONS] [filter …]
"""

import os
import pathlib
import sys
import time

import numpy as np

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from benchmarks.strips_large import watched
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.db.models import Job
from terrazza.formats import e57_writer
from terrazza.work.open import open_workspace
from tests import beams, places
from tests.boxes import cast
from tests.run import must

STATIONS = [(6.0, 5.0, 1.6), (24.0, 6.0, 1.7), (7.0, 15.0, 1.6), (23.0, 14.0, 1.7)]
ROWS = 500  # rays cast at once
FILTERS = {
    "clean.mixed_pixels": {},
    "clean.specks": {},
    "clean.mirrors": {},
    "clean.moved_things": {},
    "clean.surface": {"patches": [[15.0, 10.0, 0.0]], "take": "within"},
    "clean.outliers": {},
}


def hall(k: int) -> places.Place:
    """The hall as it is while scan ``k`` is taken."""
    rng, boxes = np.random.default_rng(4), []
    places.shell(boxes, 30, 20, 7)
    for axis, at, length in ((0, 0.0, 30), (0, 20.0, 30), (1, 0.0, 20), (1, 30.0, 20)):
        places.wall(boxes, axis, at, 0, length, [], 7, 0.3)
    for _ in range(12):
        x, y, (a, b, h) = rng.uniform(2, 27), rng.uniform(2, 17), rng.uniform(0.4, 1.4, 3)
        boxes.append(([x, y, 0], [x + a, y + b, h]))
    boxes += beams.person(12 + 2 * k, 10 + (-1) ** k)
    return places.Place(boxes, posts=[(x, y, 0.2, 0, 7) for x in (10, 20) for y in (7, 13)])


def build(path: pathlib.Path, points: int) -> None:
    """An E57 of four structured scans."""
    rows = int(np.sqrt(points / len(STATIONS) / 2))
    columns = 2 * rows
    up = np.radians(np.linspace(88, -62, rows))
    turn = 2 * np.pi * np.arange(columns) / columns
    with e57_writer.Writer(str(path)) as out:
        for k, station in enumerate(STATIONS):
            place, rng = hall(k), np.random.default_rng(k)
            boxes = [np.array([b[i] for b in place.boxes], float) for i in (0, 1)]
            posts = np.array(place.posts, float)

            def chunks():
                for start in range(0, rows, ROWS):
                    e, a = np.meshgrid(up[start : start + ROWS], turn, indexing="ij")
                    rays = np.stack([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)], -1).reshape(
                        -1, 3
                    )
                    r = cast(np.array(station), rays, *boxes, posts, np.zeros((0, 4)), np.zeros((0, 4)))
                    there = np.isfinite(r)
                    r += rng.normal(0, 0.002, len(r))
                    row, column = np.divmod(np.arange(len(r)), columns)
                    yield {
                        "xyz": (rays * r[:, None])[there],
                        "row": (row + start)[there].astype(np.uint32),
                        "column": column[there].astype(np.uint32),
                    }

            pose = rigid.make(np.eye(3), np.array(station))
            out.add_scan(f"Hall {k + 1}", chunks(), ["xyz", "row", "column"], pose=pose, grid=(rows, columns))


def main() -> None:
    folder, millions = pathlib.Path(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 200
    folder.mkdir(parents=True, exist_ok=True)
    file, workspace = folder / f"hall-{millions}.e57", str(folder / "ws")
    if not file.exists():
        build(file, millions * 1_000_000)
    open_workspace(workspace)
    row = Job.get_or_none(name=f"Hall {millions}")
    if row is None:
        row = queries.create_job(workspace, f"Hall {millions}")
        start = time.time()
        must(workspace, row, "import.files", files=[str(file)])
        print(f"imported in {time.time() - start:.0f} s", flush=True)
    for name in sys.argv[3:] or FILTERS:
        start = time.time()
        with watched():
            figures = must(workspace, row, name, **FILTERS[name])
        took = time.time() - start
        rate = figures["of"] / took / (os.cpu_count() or 1)
        print(
            f"{name}: {figures['points']:,} of {figures['of']:,} points in {took:.0f} s, "
            f"{rate / 1e6:.2f} million a second and core",
            flush=True,
        )


if __name__ == "__main__":
    main()
