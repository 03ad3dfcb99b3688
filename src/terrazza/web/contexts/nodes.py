"""The tree of nodes and the nodes in binary."""

from math import gcd

import numpy as np

from terrazza.errors import NotFound
from terrazza.operations.spine.job import Job
from terrazza.store import octree


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


def pack(job: Job, scan: int, wanted: list[int], spread: bool = False) -> bytes:
    """Nodes one after another: header (u32 node, u32 count, 8 bytes zero), then planes u16×4 (xyz within the
    cell, intensity), u8×4 (native colour, class), u8×4 (photo colour, flags: 1 cut).  Little-endian.  With
    ``spread`` any first part of a node is an even sample of it.
    """
    cloud = job.cloud(scan)
    if max(wanted, default=0) >= len(cloud.nodes):
        raise NotFound(f"Scan {scan} has no node {max(wanted)}.", "Load the scene again.")
    nodes, ends, held, out = cloud.nodes[wanted], cloud.columns.ends, {}, []
    for k, node, block in zip(
        wanted, nodes, np.searchsorted(ends, nodes["start"], side="right").clip(0, len(ends) - 1).tolist()
    ):
        if block not in held:  # a node lies in one block
            held[block] = (
                int(ends[block - 1]) if block else 0,
                {
                    name: cloud.columns.stretch(name, block)
                    for name in ("position", "intensity", "class", "native_rgb", "photo_rgb", "cut")
                    if cloud.has(name)
                },
            )
        base, columns = held[block]
        start, count = int(node["start"]) - base, int(node["count"])
        values = {name: column[start : start + count] for name, column in columns.items()}
        if spread:
            order = _spread(count)
            values = {name: column[order] for name, column in values.items()}
        edge = cloud.size / 2.0 ** int(node["level"])
        scale, corner = 65535 / edge, cloud.low + np.array([node["x"], node["y"], node["z"]], float) * edge
        first, second, third = (
            np.zeros((count, 4), "<u2"),
            np.zeros((count, 4), np.uint8),
            np.zeros((count, 4), np.uint8),
        )
        place = values["position"] * (cloud.scale * scale)
        place += (cloud.offset - corner) * scale + 0.5
        first[:, :3] = np.clip(place, 0, 65535, out=place)
        for name, plane, where in (
            ("intensity", first, 3),
            ("class", second, 3),
            ("native_rgb", second, slice(0, 3)),
            ("photo_rgb", third, slice(0, 3)),
        ):
            if name in values:
                plane[:, where] = values[name]
        if "cut" in values:
            third[:, 3] = values["cut"] != 0
        out += [
            np.array([k, count, 0, 0], "<u4").tobytes(),
            first.tobytes(),
            second.tobytes(),
            third.tobytes(),
        ]
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
