"""Deliver COPC."""

import os

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

copc = later("terrazza.formats.copc_writer")
las = later("terrazza.formats.las")

GATHERED = 500_000
SMALL = 1 << 22  # numbers of nodes that are counted one by one
SEED = 11


class CopcParams(LazParams):
    path: str = field(
        "File", "cloud.copc.laz", role="write", help="Relative paths land in the job's deliverables."
    )


def _as_records(portion: Portion, common, progress: Progress):
    """Points of a portion as they stand in a file, a header that counts them, first and last time."""
    layout, scale, offset = common
    chunks = portion.chunks(progress, scale=scale, offset=offset)
    encoded = layout.encoded(chunks)
    times = np.concatenate([c["time"] for c in chunks if "time" in c] or [np.zeros(1)])
    return encoded.data, encoded.header, (float(times.min()), float(times.max()))


def _packed(piece, colour: bool, progress: Progress) -> bytes:
    path, start, stop = piece
    with open(path, "rb") as file:
        file.seek(start)
        data = copc.Writer.packed(file.read(stop - start), colour)
    progress.advance(stop - start, stop - start)
    return data


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
            records, codes = (os.path.join(folder, n) for n in ("records", "codes"))
            common = (layout, params.scale, np.asarray(layout.offset) * factor)
            pieces = pieces_of(job, chosen, _as_records, common, Part(rest, 0, 0.4), GATHERED)
            header, times = _spooled(pieces, records, layout)
            cube = copc.Cube.around(header.mins, header.maxs)
            tree = _tree(records, codes, cube, layout, header.point_format.size)
            nodes = _sorted(records, codes, tree, header.point_format.size)
            with copc.Writer(path, layout, cube, wkt) as out:
                _written(job, out, nodes, records + ".sorted", layout.colour, Part(rest, 0.5, 1.0))
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


def _spooled(pieces, records: str, layout):
    """Put pieces one after another into a file; (header that counts all, (first, last time))."""
    all_, low, high = layout.header(), np.inf, -np.inf
    with open(records, "wb") as out:
        for data, header, times in pieces:
            out.write(data)
            all_.mins, all_.maxs = np.minimum(all_.mins, header.mins), np.maximum(all_.maxs, header.maxs)
            all_.number_of_points_by_return = (
                all_.number_of_points_by_return + header.number_of_points_by_return
            )
            all_.point_count += header.point_count
            low, high = min(low, times[0]), max(high, times[1])
    return all_, (low, high)


def _tree(records: str, codes: str, cube, layout, size: int) -> "copc.Tree":
    """The tree for all records, whose finest cells are written into ``codes``."""
    source, cells = np.memmap(records, np.uint8, "r").reshape(-1, size), copc.Cells()
    with open(codes, "wb") as out:
        for start in range(0, len(source), GATHERED):
            position = np.ascontiguousarray(source[start : start + GATHERED, :12]).view("<i4")
            mine = cube.codes(position, layout)
            out.write(mine.tobytes())
            cells.add(mine)
    keys = np.memmap(codes, np.uint64, "r")
    return cells.tree(keys[start : start + GATHERED] for start in range(0, len(keys), GATHERED))


def _sorted(records: str, codes: str, tree, size: int) -> list[tuple[int, int, int]]:
    """Bring the records of each node together in a file beside; (node, first, last) in its order."""
    keys, rng = np.memmap(codes, np.uint64, "r"), np.random.default_rng(SEED)
    nodes = np.memmap(codes + ".nodes", np.uint64, "w+", shape=keys.shape)
    names, counts = np.zeros(0, np.uint64), np.zeros(0, np.int64)
    for start in range(0, len(keys), GATHERED):
        nodes[start : start + GATHERED] = mine = tree.nodes(keys[start : start + GATHERED], rng)
        found, many = _counted(mine)
        names, back = np.unique(np.r_[names, found], return_inverse=True)
        counts = np.bincount(back, np.r_[counts, many], len(names)).astype(np.int64)
    ends = np.cumsum(counts)
    free = ends - counts
    source = np.memmap(records, np.uint8, "r").reshape(-1, size)
    target = np.memmap(records + ".sorted", np.uint8, "w+", shape=source.shape)
    small = np.uint16 if len(names) < 2**16 else np.int64  # of which the first are sorted by counting
    for start in range(0, len(keys), GATHERED):
        which = np.searchsorted(names, nodes[start : start + GATHERED]).astype(small)
        order = np.argsort(which, kind="stable")
        grouped = which[order]
        first = np.flatnonzero(np.r_[True, grouped[1:] != grouped[:-1]])
        block = source[start : start + GATHERED][order]
        for a, b in zip(first, np.r_[first[1:], len(grouped)]):
            k = grouped[a]
            target[free[k] : free[k] + b - a] = block[a:b]
            free[k] += b - a
    return [(int(n), int(e - c), int(e)) for n, e, c in zip(names, ends, counts)]


def _counted(nodes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The nodes there are, sorted, and the points of each."""
    if nodes.max() < SMALL:
        many = np.bincount(nodes.astype(np.int64))
        found = np.flatnonzero(many)
        return found.astype(np.uint64), many[found]
    return np.unique(nodes, return_counts=True)


def _written(job: Job, out, nodes, path: str, colour: bool, progress: Progress) -> None:
    size = out.header.point_format.size
    pieces = [(path, first * size, last * size) for _, first, last in nodes]
    sizes = [last - first for _, first, last in nodes]
    packed = job.fleet.each(_packed, pieces, sizes, progress, "Writing nodes", colour, light=True)
    for (node, first, last), data in zip(nodes, packed):
        out.put(node, last - first, data)
