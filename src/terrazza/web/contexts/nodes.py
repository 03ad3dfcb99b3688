"""The tree of nodes and the nodes in binary."""

from math import gcd

import numpy as np

from terrazza.errors import NotFound
from terrazza.operations.spine.job import Job
from terrazza.store import octree, schema
from terrazza.web.contexts import shades


def tree(job: Job, scan: int) -> bytes:
    """The nodes of a scan, coarse first, little-endian planes: i32 parents, u32 points, u32 blocks, u8
    octants (x 1, y 2, z 4).
    """
    cloud = job.cloud(scan)
    nodes = cloud.nodes
    block = np.searchsorted(cloud.columns.ends, nodes["start"], side="right").clip(
        0, len(cloud.columns.ends) - 1
    )
    octant = (nodes["x"] & 1) | (nodes["y"] & 1) << 1 | (nodes["z"] & 1) << 2
    return (
        octree.parents(nodes).astype("<i4").tobytes()
        + nodes["count"].astype("<u4").tobytes()
        + block.astype("<u4").tobytes()
        + octant.astype("u1").tobytes()
    )


def _spread(count: int) -> np.ndarray:
    """Places of a node's points, which lie along a space-filling curve, in steps of the golden section: any
    first part of them is an even sample.
    """
    step = next(n for n in range(max(round(count * 0.6180339887), 1), count + 2) if gcd(n, count) == 1)
    return (np.arange(count, dtype=np.int64) * step) % max(count, 1)


def pack(
    job: Job, scan: int, wanted: list[int], spread: bool = False, shade: shades.Shade | None = None
) -> bytes:
    """Nodes one after another: header (u32 node, u32 count, u32 bytes a point, 4 bytes zero), then planes:
    u16×4 (xyz within the cell, widened by the scan's drift, intensity) and the others of ``schema.PLANES``,
    u8×4 each, and with a ``shade`` its own, last.  Little-endian.  With ``spread`` any first part of a node
    is an even sample of it.
    """
    cloud = job.cloud(scan)
    if max(wanted, default=0) >= len(cloud.nodes):
        raise NotFound(f"Scan {scan} has no node {max(wanted)}.", "Load the scene again.")
    nodes, ends, held, out = cloud.nodes[wanted], cloud.columns.ends, {}, []
    names = [name for name in (*schema.SHOWN, shade and shade.column) if name and cloud.has(name)]
    stride = schema.STRIDE + (4 if shade else 0)
    for k, node, block in zip(
        wanted, nodes, np.searchsorted(ends, nodes["start"], side="right").clip(0, len(ends) - 1).tolist()
    ):
        if block not in held:  # a node lies in one block
            held[block] = (
                int(ends[block - 1]) if block else 0,
                {name: cloud.columns.stretch(name, block) for name in names},
            )
        base, columns = held[block]
        start, count = int(node["start"]) - base, int(node["count"])
        values = {name: column[start : start + count] for name, column in columns.items()}
        if spread:
            order = _spread(count)
            values = {name: column[order] for name, column in values.items()}
        edge = cloud.size / 2.0 ** int(node["level"])
        corner = cloud.low + np.array([node["x"], node["y"], node["z"]], float) * edge - cloud.drift
        scale, first = 65535 / (edge + 2 * cloud.drift), np.zeros((count, 4), "<u2")
        place = values["position"] * (cloud.scale * scale)
        place += (cloud.offset - corner) * scale + 0.5
        first[:, :3] = np.clip(place, 0, 65535, out=place)
        if "intensity" in values:
            first[:, 3] = values["intensity"]
        if "shelf" in values:
            values["shelf"] = np.isin(values["shelf"], cloud.apart)
        out += [np.array([k, count, stride, 0], "<u4").tobytes(), first.tobytes()]
        out += [plane.tobytes() for plane in schema.planes(values, count)]
        if shade:
            out.append(shade.plane(values.get(shade.column), count).tobytes())
    return b"".join(out)


def roots(job: Job) -> bytes:
    """The coarsest points of every scan in one answer: for each u32 scan, u32 bytes, and its root as ``pack``
    gives it.
    """
    out = []
    for scan in job.scans():
        node = pack(job, scan.id, [0], spread=True)
        out += [np.array([scan.id, len(node)], "<u4").tobytes(), node]
    return b"".join(out)
