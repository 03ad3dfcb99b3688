"""Bring in scans of another job."""

import os
import shutil

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.db.models import Job as Row
from terrazza.errors import NotFound, ParamsError, StateError
from terrazza.files import disk
from terrazza.later import later
from terrazza.operations.clean.taking import take_out
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan, plain
from terrazza.operations.spine.notation import Notation
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial as trees

COMMON = 0.25  # m: targets of two jobs nearer than this are one
AGREE_MM = 10.0  # beyond this the jobs do not share a frame to the millimetre
ALONE = frozenset({"cut", "shelf"})  # columns whose numbers mean something in their own job only


class JobParams(Params):
    job: str = field("Other job", help="Its number, or its name.")
    scans: list[int] = scans_field("Numbers in the other job; empty: all its placed scans.")
    block: str = field("Block", "", help="The block that they become here; empty: the other job's name.")


@operation
class ImportJob(Operation):
    """Brings scans of another job in beside these, where they stand there: as a block, in the frame that the
    jobs share, without registering; differences at common targets are told.
    """

    name, title, step = "import.job", "Scans of another job", "Import"
    reads = frozenset({"frame", "crs", "target"})
    writes = frozenset({"scan", "column", "pose", "photo", "cut", "target"})
    Params = JobParams

    def run(self, job: Job, params: JobParams, progress: Progress) -> Figures:
        other = Job(job.workspace, _row(job, params.job))
        scans = other.need_scans(params.scans, placed=True, why=" there")
        _need_one_frame(job, other)
        gaps = _differences(job, other)
        to_here = rigid.inverse(job.frame) @ other.frame
        block = (params.block or other.row.name).replace("/", "-")
        numbers = {}
        for done, scan in enumerate(scans):
            progress.advance(done, len(scans), f"Scan {scan.name}")
            numbers[scan.id] = _bring(job, other, scan, to_here, block)
        cut = _cuts(job, other, scans, numbers, progress)
        targets = _targets(job, other, numbers)
        n = Notation.of(job)
        worst = f", worst {n.residual(max(gaps.values()))}" if gaps else ""
        return {
            "says": f"{len(scans)} scans of “{other.row.name}” as block {block}; "
            f"{len(gaps) or 'no'} common target{'s' * (len(gaps) != 1)}{worst}",
            "scans": list(numbers.values()),
            "points": sum(s.points for s in scans),
            "targets": targets,
            "cut": cut,
            "residuals_mm": gaps,
            "doubt": _doubts(job, other, gaps, n),
        }


def _row(job: Job, named: str) -> Row:
    """The other job by number or name."""
    told = named.strip()
    found = list(Row.select().where((Row.name == told) | (Row.id == (int(told) if told.isdecimal() else -1))))
    found = [r for r in found if r.id != job.row.id]
    if not found:
        raise NotFound(f"There is no other job “{told}” in this workspace.", "Look at the list of jobs.")
    if len(found) > 1:
        raise ParamsError(f"{len(found)} jobs are named “{told}”.", "Give the number of one of them.")
    return found[0]


def _need_one_frame(job: Job, other: Job) -> None:
    """StateError where the jobs cannot share a frame: one is in a grid and the other is not, or in
    another.
    """
    if job.scans(placed=True) and job.georeferenced != other.georeferenced:
        which = job if job.georeferenced else other
        raise StateError(
            f"“{which.row.name}” is in a grid and the other job is not: they share no frame.",
            "Fit the other to control first.",
        )
    mine, theirs = ((j.get("crs") or {}).get("wkt") for j in (job, other))
    if mine and theirs and mine != theirs:
        names = [(j.get("crs") or {}).get("name", "?") for j in (job, other)]
        raise StateError(
            f"The jobs are in different coordinate systems: {names[0]} here, {names[1]} there.",
            "Bring one of them into the other's system first.",
        )


def _places(job: Job) -> tuple[list[str], np.ndarray]:
    """Names and places (n, 3, grid) of a job's targets, each once a sighting."""
    scans = {s.id: s for s in job.scans(placed=True)}
    seen = [(k, t) for k, t in job.facts("target").items() if not t["dropped"] and t["scan"] in scans]
    places = [rigid.apply(job.grid_pose(scans[t["scan"]]), np.array([t["centre"]]))[0] for _, t in seen]
    return [k for k, _ in seen], np.array(places).reshape(-1, 3)


def _differences(job: Job, other: Job) -> dict[str, float]:
    """By number of a target here, how far (mm) it lies from the same one there."""
    names, here = _places(job)
    _, there = _places(other)
    if not len(here) or not len(there):
        return {}
    gap, which = trees.cKDTree(there).query(here)
    best: dict[int, tuple[float, str]] = {}
    for name, d, k in zip(names, gap, which):
        if d < COMMON:
            best[int(k)] = min(best.get(int(k), (np.inf, "")), (float(d) * 1000, name))
    return {name: d for d, name in best.values()}


def _bring(job: Job, other: Job, scan: Scan, to_here: np.ndarray, block: str) -> int:
    """Enter one scan with copies of its files; its number here."""
    number, taken = job.next_number("scan"), {s.name for s in job.scans()}
    name = scan.name if scan.name not in taken else f"{scan.name} ({other.row.name})"
    while name in taken:
        name += "’"
    record = scan.record | {"name": name, "block": block, "posed": True}
    job.put("scan", number, record, scan=number)
    folder, origin = job.scan_folder(number), other.scan_folder(scan.id)
    os.makedirs(folder, exist_ok=True)
    for column, files in other.columns(scan.id).items():
        if column not in ALONE:
            for file in files:
                _copy(os.path.join(origin, file), os.path.join(folder, file))
            job.put_column(number, column, files)
    disk.sync(os.path.dirname(folder))
    place = {"matrix": plain(to_here @ scan.pose), "how": f"job {other.row.name}", "covariance": None}
    bias = float(scan.pose_record.get("bias") or 0.0)
    job.put("pose", number, place | {"bias": bias, "fixed": True}, scan=number)
    for key, photo in other.facts("photo").items():
        if photo["scan"] == scan.id:
            file = f"photo.{number}-{key.partition('-')[2]}.{job.version}.{photo['file'].split('.', 3)[-1]}"
            photos = job.subfolder("photos")
            _copy(os.path.join(other.folder, "photos", photo["file"]), os.path.join(photos, file))
            disk.sync(photos)
            mine = photo | {"scan": number, "file": file}
            job.put("photo", f"{number}-{key.partition('-')[2]}", mine, scan=number)
    return number


def _copy(source: str, target: str) -> None:
    shutil.copyfile(source, target)
    disk.sync(target)


def _cuts(job: Job, other: Job, scans: list[Scan], numbers: dict[int, int], progress: Progress) -> int | None:
    """What was taken out there becomes one cut here, which can be put back; its number, None without any."""
    cut_there = [s for s in scans if {"cut", "shelf"} & set(other.columns(s.id))]
    if not cut_there:
        return None
    pieces = {numbers[s.id]: CloudPiece.of(other, s) for s in cut_there}
    mine = [job.scan(numbers[s.id]) for s in cut_there]
    return take_out(job, mine, _gone, pieces, progress, "Bringing cuts along")["cut"]


def _gone(cloud: Cloud, start: int, stop: int, piece: CloudPiece, common) -> np.ndarray:
    return ~piece.open().kept(start, stop)


def _targets(job: Job, other: Job, numbers: dict[int, int]) -> int:
    """Bring the targets of the scans along; how many."""
    found = [t for t in other.facts("target").values() if t["scan"] in numbers]
    for target in found:
        mine = target | {"scan": numbers[target["scan"]]}
        job.put("target", job.next_number("target"), mine, scan=mine["scan"])
    return len(found)


def _doubts(job: Job, other: Job, gaps: dict[str, float], n: Notation) -> list[str]:
    """What is not certain of the frame that the jobs are said to share, in sentences."""
    out = []
    if not job.georeferenced and not other.georeferenced:
        out.append("Neither job is in a grid; that they share a frame is taken for granted.")
    if not gaps:
        out.append(f"No target of “{other.row.name}” lies within {n.length(COMMON)} of one of this job.")
    elif (rms := float(np.sqrt(np.mean(np.square(list(gaps.values())))))) > AGREE_MM:
        out.append(f"Common targets lie {n.residual(rms)} apart (RMS): the frames are not the same.")
    return out
