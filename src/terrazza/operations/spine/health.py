"""Is a job whole?  Every file, column, index and record looked at, and what is wrong said in words."""

import os
from pathlib import Path

import numpy as np

from terrazza.core.progress import QUIET, Progress
from terrazza.db.models import Change, Entry, Fact
from terrazza.files import checksum, named_by
from terrazza.operations.spine import fieldbook, files_named
from terrazza.operations.spine.facts import KINDS
from terrazza.operations.spine.job import Job, Scan
from terrazza.store import octree
from terrazza.store.schema import COLUMNS

SLACK = 1e-6


def check(job: Job, progress: Progress = QUIET) -> list[str]:
    """What is wrong with a job, a sentence each; empty where nothing is."""
    wrong = _files(job)
    scans = job.scans()
    for n, scan in enumerate(scans):
        progress.advance(n, len(scans), f"Checking {scan.name}")
        found = _blocks(job, scan)
        wrong += found or _tree(job, scan) + _cuts(job, scan)
        if scan.pose is not None and not _rigid(scan.pose):
            wrong.append(f"Scan {scan.id}: its pose is no rotation and shift.")
    return wrong + _records(job, {s.id for s in scans})


def _files(job: Job) -> list[str]:
    """Photos and arrays against their checksums, files that the field book needs for undo, and bytes that
    belong to nothing.
    """
    wrong, named = [], files_named.all_named(job.row)
    for folder, name in sorted(named):
        path = os.path.join(job.folder, folder, name)
        if not os.path.isfile(path):
            wrong.append(f"{folder}/{name} is missing.")
        elif folder in {"photos", "arrays"}:
            if checksum(Path(path).read_bytes() if folder == "photos" else np.load(path)) != named_by(name):
                wrong.append(f"{folder}/{name} has changed since it was written.")
    for folder, name in fieldbook.strays(job.workspace, job.row, named):
        wrong.append(f"{folder}/{name} belongs to nothing; the next run clears it away.")
    return wrong


def _blocks(job: Job, scan: Scan) -> list[str]:
    """Every block of every column: there, readable, as long as it should be, unchanged."""
    wrong, counts = [], scan.record["blocks"]
    if sum(counts) != scan.points:
        return [f"Scan {scan.id}: its record counts {scan.points:,} points, its blocks {sum(counts):,}."]
    for key, files in job.facts("column").items():
        number, _, column = key.partition("/")
        if int(number) != scan.id:
            continue
        if column != "nodes" and len(files) != len(counts):
            wrong.append(
                f"Scan {scan.id}: column “{column}” has {len(files)} blocks instead of {len(counts)}."
            )
            continue
        for k, name in enumerate(files):
            problem = _block(
                os.path.join(job.scan_folder(scan.id), name),
                name,
                column,
                counts[k] if column != "nodes" else None,
            )
            if problem:
                wrong.append(f"Scan {scan.id}: block {k + 1} of column “{column}” {problem}.")
    return wrong


def _block(path, name, column, count) -> str:
    try:
        values = np.load(path, allow_pickle=False)
    except (OSError, ValueError, EOFError):
        return "is missing or cannot be read" if not os.path.exists(path) else "is cut off or damaged"
    if count is not None and len(values) != count:
        return f"holds {len(values):,} values instead of {count:,}"
    known = COLUMNS.get(column)
    if known and (
        values.dtype.newbyteorder("=") != np.dtype(known.dtype)
        or values.shape[1:] != known.filled(0).shape[1:]
    ):
        return "is of another kind than it should be"
    return "" if checksum(values) == named_by(name) else "has changed since it was written"


def _tree(job: Job, scan: Scan) -> list[str]:
    """The index against the points: nodes tile the columns, every node has its parent, every point lies in
    its node's cell.
    """
    cloud = job.cloud(scan.id)
    nodes = cloud.nodes
    filled = np.sort(nodes[nodes["count"] > 0], order="start")
    ends = np.cumsum(filled["count"])
    if int(nodes["count"].sum()) != cloud.count or not np.array_equal(filled["start"], np.r_[0, ends[:-1]]):
        return [f"Scan {scan.id}: the nodes of its index do not tile its points."]
    up = octree.parents(nodes)
    if (nodes["level"][up[1:]] != nodes["level"][1:] - 1).any():
        return [f"Scan {scan.id}: a node of its index has no parent."]
    farthest = float(np.abs([cloud.low, cloud.low + cloud.size]).max())
    slack = SLACK + cloud.drift + 8 * np.finfo(float).eps * farthest
    corner, edge = octree.boxes(filled, cloud.low, cloud.size)
    for start, stop in cloud.blocks():
        xyz = cloud.xyz(start, stop)
        node = np.searchsorted(ends, np.arange(start, stop), side="right")
        if ((xyz < corner[node] - slack) | (xyz > corner[node] + edge[node][:, None] + slack)).any():
            return [f"Scan {scan.id}: points lie outside their nodes."]
    return []


def _cuts(job: Job, scan: Scan) -> list[str]:
    cloud, known = job.cloud(scan.id), {0} | {int(k) for k in job.facts("cut")}
    if not cloud.has("cut"):
        return []
    there = set().union(*(np.unique(cloud.read("cut", *b)).tolist() for b in cloud.blocks()))
    return [
        f"Scan {scan.id}: points are cut by entry {n}, which is no living cut." for n in sorted(there - known)
    ]


def _rigid(pose: np.ndarray) -> bool:
    turn = pose[:3, :3]
    return bool(
        np.isfinite(pose).all()
        and np.allclose(turn @ turn.T, np.eye(3), rtol=0, atol=1e-6)
        and np.linalg.det(turn) > 0
        and np.allclose(pose[3], [0, 0, 0, 1])
    )


def _records(job: Job, scans: set[int]) -> list[str]:
    """Facts against each other and against the field book."""
    wrong = []
    if differing := files_named.derived(job.row) ^ files_named.listed(job.row):
        folder, name, *_ = min(differing)
        wrong.append(f"The list of named files is wrong about {folder}/{name}.")
    entries = {e.number: e for e in Entry.select().where(Entry.job == job.row)}
    if sorted(entries) != list(range(1, len(entries) + 1)):
        wrong.append("The numbers of the field book have gaps.")
    for fact in Fact.select().where(Fact.job == job.row):
        if fact.entry and (fact.entry not in entries or entries[fact.entry].state != "done"):
            wrong.append(f"{fact.kind} {fact.key} comes from entry {fact.entry}, which is not living.")
        if fact.kind not in KINDS:
            wrong.append(f"{fact.kind} {fact.key} is of no kind that is known.")
        elif missing := KINDS[fact.kind].scans(fact.key, fact.value) - scans:
            wrong.append(
                f"{fact.kind} {fact.key} belongs to scan {min(missing)}, which the job does not have."
            )
    for change in Change.select().join(Entry).where((Entry.job == job.row) & (Entry.state == "done")):
        if change.before_entry and change.before_entry not in entries:
            wrong.append(
                f"Entry {change.entry.number} cannot be undone: it follows entry {change.before_entry}, "
                "which is missing."
            )
    return wrong
