"""Deliver COPC."""

import os
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from terrazza.core.progress import QUIET, Part, Progress
from terrazza.later import later
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered, pieces_of
from terrazza.operations.deliver.comparing import digest, need_same
from terrazza.operations.deliver.laz import LazParams, layout_of
from terrazza.operations.pieces.selection import Portion, Selection
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import copc_tree as tree
    from terrazza.formats import copc_writer as copc
    from terrazza.formats import las

GATHERED = 500_000
SEED = 11


class CopcParams(LazParams):
    path: str = field(
        "File", "cloud.copc.laz", role="write", help="Relative paths land in the job's deliverables."
    )


@dataclass(frozen=True)
class Run:
    """Records of some points in a scratch file of their own: the ``number``-th piece of ``points``."""

    number: int
    path: str
    points: int

    def records(self, layout) -> np.ndarray:
        """(n,) one raw record of a point each."""
        return np.fromfile(self.path, f"V{layout.record}")

    def codes(self, records: np.ndarray, common) -> np.ndarray:
        """(n,) their finest cells."""
        layout, cube = common
        bytes_ = records.view(np.uint8).reshape(len(records), -1)
        return cube.codes(np.ascontiguousarray(bytes_[:, :12]).view("<i4"), layout)


def _as_run(portion: Portion, common, progress: Progress):
    """Put the points of a portion into a file of their own; it, a header that counts them, and the first and
    last time.
    """
    layout, scale, offset, folder = common
    chunks = portion.chunks(progress, scale=scale, offset=offset)
    encoded = layout.encoded(chunks)
    times = np.concatenate([c["time"] for c in chunks if "time" in c] or [np.zeros(1)])
    with tempfile.NamedTemporaryFile(dir=folder, delete=False) as file:
        file.write(encoded.data)
    return file.name, encoded.header, (float(times.min()), float(times.max()))


def _cells(run: Run, common, progress: Progress):
    """Where the points of a run lie, coarsely."""
    progress.advance(run.points, run.points)
    return tree.Cells.of(run.codes(run.records(common[0]), common))


def _finest(run: Run, common, progress: Progress):
    """The finest cells of the points of a run that lie in full ones, sorted, and how many each holds."""
    full, common = common[-1], common[:-1]
    codes = run.codes(run.records(common[0]), common)
    progress.advance(run.points, run.points)
    return np.unique(codes[full[codes >> tree.UNDER]], return_counts=True)


def _grouped(run: Run, common, progress: Progress) -> np.ndarray:
    """Bring the points of each node of a run together, in its file; how many each has."""
    octree, common = common[-1], common[:-1]
    records = run.records(common[0])
    order, many = octree.grouped(run.codes(records, common), np.random.default_rng((SEED, run.number)))
    records[order].tofile(f"{run.path}.sorted")
    os.replace(f"{run.path}.sorted", run.path)
    progress.advance(run.points, run.points)
    return many


def _bytes(path: str, first: int, many: int) -> bytes:
    with open(path, "rb", buffering=0) as file:
        file.seek(first)
        return file.read(many)


@operation
class DeliverCopc(PointFile):
    """Writes COPC in the common frame: LAZ in which a viewer finds any place at any density without reading
    all; every point once.
    """

    name, title, step = "deliver.copc", "COPC", "Deliver"
    reads, writes = frozenset({"scan", "pose", "frame", "crs", "cut", "column"}), frozenset({"deliverable"})
    looks = frozenset({"box"})
    Params = CopcParams

    def write(self, job: Job, params: CopcParams, progress: Progress) -> Figures:
        stem = params.path.removesuffix(".laz").removesuffix(".copc")
        path = job.output(f"{stem}.copc.laz", ".laz")
        with chosen_of(job, params, progress) as (chosen, rest), job.scratch() as folder:
            layout, wkt, factor = layout_of(job, chosen, params, packed=False)
            common = (layout, params.scale, np.asarray(layout.offset) * factor)
            made = pieces_of(job, chosen, _as_run, (*common, folder), Part(rest, 0, 0.4), GATHERED)
            runs, header, times = _runs(made, layout)
            cube = tree.Cube.around(header.mins, header.maxs)
            nodes = _sorted(job, runs, (layout, cube), Part(rest, 0.4, 0.6))
            with copc.Writer(path, layout, cube, wkt) as out:
                _written(out, nodes, layout, Part(rest, 0.6, 1.0))
                out.finish(header, times)
            compared = lambda path: _compared(job, chosen, path, common, layout)
            what = f"points in {len(nodes)} nodes"
            return delivered(job, chosen, path, "COPC", what, params.scale, compared=compared)


def _compared(job: Job, chosen: Selection, path: str, common, layout) -> int:
    """Sums over all points as they were chosen, and as they are read; how many there are."""
    wanted = sum(pieces_of(job, chosen, _digest, common, QUIET, GATHERED))
    found, points = 0, 0
    for chunk in las.read_points(path):
        rgb = chunk.get("native_rgb", np.zeros((len(chunk["position"]), 3)))
        found += digest(chunk["position"], chunk["intensity"], chunk["class"], rgb)
        points += len(chunk["position"])
    need_same(path, wanted % 2**64, found % 2**64)
    return points


def _digest(portion: Portion, common, progress: Progress) -> int:
    layout, scale, offset = common
    total = 0
    for chunk in portion.chunks(progress, scale=scale, offset=offset):
        n = len(chunk["position"])
        rgb, none = chunk["rgb"].astype(np.int64), np.zeros(n)
        rgb = rgb * (1 if layout.eight or chunk["rgb"].dtype == np.uint16 else 257) * layout.colour
        total += digest(chunk["position"], chunk.get("intensity", none), chunk.get("class", none), rgb)
    return total


def _runs(made, layout):
    """(runs, header that counts all, (first, last time)) of what was put into files."""
    runs, total, low, high = [], layout.header(), np.inf, -np.inf
    for number, (path, header, times) in enumerate(made):
        runs.append(Run(number, path, header.point_count))
        total.mins, total.maxs = np.minimum(total.mins, header.mins), np.maximum(total.maxs, header.maxs)
        total.number_of_points_by_return = (
            total.number_of_points_by_return + header.number_of_points_by_return
        )
        total.point_count += header.point_count
        low, high = min(low, times[0]), max(high, times[1])
    return runs, total, (low, high)


def _sorted(job: Job, runs: list[Run], common, progress: Progress) -> list[tuple[int, int, list]]:
    """Bring the points of each node of a run together; (node, points, its stretches of the runs)."""
    sizes = [run.points for run in runs]

    def all_of(function, low: float, high: float, *more):
        share = Part(progress, low, high)
        return job.fleet.each(function, runs, sizes, share, "Finding nodes", (*common, *more), light=True)

    cells = tree.Cells()
    for found in all_of(_cells, 0.0, 0.3):
        cells.add(*found)
    octree = cells.tree(all_of(_finest, 0.3, 0.5, cells.full) if cells.full.any() else ())
    many = np.array(list(all_of(_grouped, 0.5, 1.0, octree)))
    first = np.cumsum(many, axis=1) - many
    return [
        (name, int(many[:, k].sum()), [(runs[r].path, int(first[r, k]), int(many[r, k])) for r in there])
        for k, name in enumerate(octree.names)
        if len(there := np.flatnonzero(many[:, k]))
    ]


def _written(out, nodes, layout, progress: Progress) -> None:
    """Write nodes, so many at once that all cores have some, and read the next ones meanwhile."""
    size, total, done = layout.record, sum(n[1] for n in nodes), 0
    ends = np.cumsum([n[1] for n in nodes])
    batches = np.split(np.arange(len(nodes)), np.searchsorted(ends, np.arange(GATHERED, total, GATHERED)))

    def read(batch):
        each = [(nodes[k][0], nodes[k][1], _records(nodes[k][2], size)) for k in batch]
        return each, sum(n[1] for n in each)

    batches = [b for b in batches if len(b)]
    with ThreadPoolExecutor(1) as ahead:
        coming = ahead.submit(read, batches[0])
        for following in [*batches[1:], None]:
            batch, points = coming.result()
            coming = following is not None and ahead.submit(read, following)
            out.put(batch)
            done += points
            progress.advance(done, total, "Writing nodes")


def _records(stretches, size: int) -> bytes:
    """The records of stretches (path, first, points) of the runs."""
    return b"".join(_bytes(path, first * size, points * size) for path, first, points in stretches)
