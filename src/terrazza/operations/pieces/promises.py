"""Bytes of a selection before it is written, and its lines of text."""

import io
import os

import numpy as np

from terrazza.core.progress import QUIET, Progress
from terrazza.formats import ply_writer, xyz
from terrazza.later import later
from terrazza.operations.pieces import thinning
from terrazza.operations.pieces.counting import named_classes
from terrazza.operations.pieces.parting import parts_of
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Selection
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import copc_tree, las_writer, ptx_writer

SAMPLE, SAMPLES = 10_000, 80
COPC_MORE = 1.04  # measured: points of a node are an even share of theirs, farther apart than in order
MARKS = {"space": " ", "comma": ",", "semicolon": ";", "tab": "\t"}


def statement(job: Job, form: str, params: PointParams, progress: Progress) -> dict:
    """What a deliverable would hold: points by class (exact; an estimate where it is thinned by spacing or
    cells), and its size (E57 exact to the page, LAZ and text from samples).
    """
    chosen = Selection(job, params, placed=form not in {"e57", "ptx"} or getattr(params, "merged", False))
    whole, share = chosen.points, 1.0
    if params.most and whole:
        share = min(params.most / whole, 1.0)
    elif (params.spacing or params.cell) and whole:
        poses = {s.id: job.grid_pose(s) for s in chosen.scans}
        likely, chosen.examples = thinning.likely(
            chosen.clouds, poses, chosen.allowed, params.spacing, params.cell
        )
        share = min(likely / whole, 1.0)
    size = BYTES[form](job, chosen, params, share)
    classes = chosen.by_class() if share == 1.0 else []
    return {
        "points": int(round(whole * share)),
        "exact": not (params.spacing or params.cell),
        "bytes": int(size),
        "classes": classes,
        "scans": len(chosen.scans),
        "cuts": chosen.cuts,
        "files": [os.path.basename(part.params.path) for part in parts_of(job, params)],
    }


def _e57_bytes(job, chosen, params, share):
    merged = params.merged
    total = 4096 + sum(
        os.path.getsize(os.path.join(job.folder, "photos", p["file"]))
        for p in job.facts("photo").values()
        if p["scan"] in chosen.clouds and not merged
    )
    for scan in chosen.scans:
        cloud = chosen.clouds[scan.id]
        deep = 2 if params.depth == "16 bit" else 1
        bits = 3 * 32 + 16 * cloud.has("intensity") + 24 * deep * bool(chosen.colours[scan.id])
        if scan.record.get("grid") and cloud.has("row") and not merged:
            bits += sum(int(np.ceil(np.log2(max(g, 2)))) for g in scan.record["grid"])
        total += chosen.of(scan) * share * bits / 8 * 1024 / 1020 + 3000 * (not merged)
    return total


def _laz_bytes(job, chosen, params, share):
    unit = chosen.target.unit
    layout = las_writer.Layout(
        params.scale / unit,
        tuple(np.round(np.mean(chosen.bounds(), axis=0) / unit)),
        any(chosen.colours.values()),
        any(c.has("time") for c in chosen.clouds.values()),
        not params.path.lower().endswith(".las"),
        named_classes(job),
    )
    header = layout.header(chosen.target.wkt)
    head = io.BytesIO()
    header.write_to(head)
    if not layout.packed:
        return head.tell() + chosen.points * share * header.point_format.size
    if share == 1.0 and chosen.points <= SAMPLE * SAMPLES:
        chunks = [chunk for portion in chosen.portions(SAMPLE * SAMPLES) for chunk in portion.chunks(QUIET)]
    else:
        number = {s.id: max(round(SAMPLES * chosen.of(s) / max(chosen.points, 1)), 2) for s in chosen.scans}
        chunks = [chunk for s in chosen.scans for chunk in chosen.samples(s, False, SAMPLE, number[s.id])]
    sampled = sum(len(c["rgb"]) for c in chunks)
    return (
        head.tell()
        + 8
        + chosen.points * share * len(layout.encoded(chunks, threads=True).data) / max(sampled, 1)
    )


def _everywhere(chosen: Selection, name: str) -> bool:
    """Whether all chosen scans have a column."""
    return all(c.has(name) for c in chosen.clouds.values())


def lines_of(chosen: Selection, params) -> xyz.Lines:
    """The lines that a text file of these points has."""
    return xyz.Lines(
        ("intensity",) * _everywhere(chosen, "intensity")
        + ("rgb",) * any(chosen.colours.values())
        + ("class",) * _everywhere(chosen, "class"),
        params.decimals,
        MARKS[params.delimiter],
    )


def _copc_bytes(job, chosen, params, share):
    """As LAZ, with what the hierarchy takes; nodes of many pack worse than chunks in order."""
    one = chosen.points * share <= copc_tree.LEAF
    return (1.0 if one else COPC_MORE) * _laz_bytes(job, chosen, params, share) + 350


def decimals_of(step: float) -> int:
    """Decimals (of metres) that show whole numbers of a step."""
    return max(int(np.ceil(-np.log10(step) - 1e-9)), 0)


def step_of(scale: float) -> float:
    """Smallest step (m) of coordinates that are written with these decimals."""
    return 10.0 ** -decimals_of(scale)


def counted_lines_of(chosen: Selection, params) -> xyz.CountedLines:
    """The lines that a PTS file of these points has."""
    columns = ("intensity",) + ("rgb",) * any(chosen.colours.values())
    return xyz.CountedLines(columns, decimals_of(params.scale), points=chosen.points)


def record_of(chosen: Selection, params) -> ply_writer.Record:
    """The record that a PLY file of these points has."""
    columns = tuple(n for n in ("intensity", "class") if _everywhere(chosen, n))
    colour = ("rgb",) * any(chosen.colours.values())
    return ply_writer.Record(columns + colour, params.scale, params.depth == "16 bit")


def _xyz_bytes(job, chosen, params, share):
    return _text_bytes(job, chosen, lines_of(chosen, params), share)


def _pts_bytes(job, chosen, params, share):
    return _text_bytes(job, chosen, counted_lines_of(chosen, params), share)


def _ply_bytes(job, chosen, params, share):
    record = record_of(chosen, params)
    return len(record.heading(chosen.points)) + chosen.points * share * record.kind.itemsize


def _ptx_bytes(job, chosen, params, share):
    cells = ptx_writer.Cells(
        any(chosen.colours.values()), decimals_of(params.scale), params.depth == "16 bit"
    )
    nothing, total = len(cells.text(np.zeros(1, cells.kind))), 0.0
    for scan in chosen.scans:
        if not chosen.of(scan):
            continue
        cloud, grid, written = chosen.clouds[scan.id], scan.record.get("grid"), chosen.of(scan) * share
        places = grid[0] * grid[1] if grid and cloud.has("row") else written
        lines = []
        for chunk in chosen.samples(scan, True, 1500, 8):
            table = np.zeros(len(chunk["xyz"]), cells.kind)
            cells.put(table, np.arange(len(table)), chunk)
            lines.append((len(cells.text(table)), len(table)))
        length = sum(t for t, _ in lines) / max(sum(n for _, n in lines), 1)
        total += 400 + written * length + max(places - written, 0) * nothing
    return total


def _text_bytes(job, chosen, lines, share):
    texts = [
        (len(lines.text(chunk)), len(chunk["xyz"]))
        for scan in chosen.scans
        for chunk in chosen.samples(scan, False, 1500, 8)
    ]
    return 40.0 + chosen.points * share * sum(t for t, _ in texts) / max(sum(n for _, n in texts), 1)


BYTES = {
    "e57": _e57_bytes,
    "laz": _laz_bytes,
    "las": _laz_bytes,
    "copc": _copc_bytes,
    "xyz": _xyz_bytes,
    "pts": _pts_bytes,
    "ply": _ply_bytes,
    "ptx": _ptx_bytes,
}
