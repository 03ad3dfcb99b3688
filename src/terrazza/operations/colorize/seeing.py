"""Photos made ready for laying on points: what each camera sees, how it is turned, its picture as plain
bytes; all as files of the run's scratch folder, so that no process holds more than what it works on.
"""

import os
from dataclasses import dataclass

import numpy as np
from PIL import Image

from terrazza.core.color.cameras import Camera
from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import InputError
from terrazza.later import later
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from scipy import ndimage

    from terrazza.core.color import seen, turning

DENSE = 1.15  # pixels of the range picture, in spacings of the scan
FINEST, COARSEST = np.radians(0.05), np.radians(0.5)
GREY = (0.299, 0.587, 0.114)
CHUNK = 2_000_000


@dataclass(frozen=True)
class Shot:
    """A photo as work for one process: its ``record`` (fact), ``file``, the scan's points, ``stem`` of the
    files that are made, ``step`` (rad) of its range picture, ``pointing`` (rad) where edges do not say
    better, whether to ``solve`` the turn.
    """

    key: str
    record: dict
    file: str
    piece: CloudPiece
    stem: str
    step: float
    pointing: float
    solve: bool

    @property
    def camera(self) -> Camera:
        return Camera.of(self.record)

    @property
    def pose(self) -> np.ndarray:
        return np.array(self.record["pose"], float).reshape(4, 4)

    def kept(self, what: str) -> np.ndarray:
        """A file of this photo, mapped: ``near``, ``clear`` or ``image``."""
        return np.load(f"{self.stem}-{what}.npy", mmap_mode="r")


@dataclass(frozen=True)
class Ready:
    """What was found of a photo: the ``rotation`` of scan's axes into the camera's frame, ``need`` and
    ``loose`` of ``seen.colours``, and the ``turn`` (None: not asked for).
    """

    rotation: np.ndarray
    need: int
    loose: bool
    turn: "turning.Turn | None"


def shots(job: Job, records: dict, folder: str, pointing: float, solve: bool) -> list[Shot]:
    """The photos of a job that can be laid on points."""
    scans = {s.id: s for s in job.scans()}
    out, steps = [], {}
    for key, record in records.items():
        if record["scan"] not in scans or not Camera.of(record).usable:
            continue
        scan = scans[record["scan"]]
        if scan.id not in steps:
            steps[scan.id] = _step(job, scan)
        out.append(
            Shot(
                key,
                record,
                job.own_file("photos", record["file"]),
                CloudPiece.of(job, scan),
                os.path.join(folder, f"photo-{key}"),
                steps[scan.id],
                pointing,
                solve,
            )
        )
    return out


def _step(job: Job, scan: Scan) -> float:
    frame = next(iter(range_pictures.frames(job, scan)), None)
    spacing = range_pictures.spacing(job, scan, frame) if frame else FINEST
    return float(np.clip(DENSE * spacing, FINEST, COARSEST))


def picture(record: dict, file: str) -> np.ndarray:
    """A photo's (height, width, 3) u8."""
    try:
        with Image.open(file) as image:
            return np.asarray(image.convert("RGB"))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise InputError(
            f"The photo “{record['name']}” of scan {record['scan']} cannot be decoded.",
            "It is damaged: take it away under Import, or bring it again.",
        ) from error


def prepare(shot: Shot, progress: Progress) -> Ready:
    """Make a photo's files; how long it takes is told by its scan's points."""
    image = picture(shot.record, shot.file)
    near, tones = _around(shot, progress)
    camera, turn = shot.camera, None
    if shot.solve:
        turn = turning.solve(near, tones, shot.step, _shower(image, camera, shot.pose), camera.finest)
    near = seen.close(near)
    known = turn is not None and turn.clear
    sigma = turn.sigma if known else shot.pointing
    rotation = shot.pose[:3, :3].T @ (turn.rotation.T if turn is not None and turn.worth else np.eye(3))
    need = int(np.ceil(seen.QUARTERS * min((camera.finest + 2 * sigma) / shot.step + 0.5, seen.FARTHEST - 2)))
    reach = need // seen.QUARTERS + 1
    clear = seen.clearances(seen.breaks(near), shot.step, reach)
    for what, values in (("near", near), ("clear", clear), ("image", image)):
        np.save(f"{shot.stem}-{what}.npy", values)
    return Ready(np.ascontiguousarray(rotation), need, bool(2 * sigma <= 1.5 * camera.finest), turn)


def _around(shot: Shot, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
    """Range and brightness around the camera's place, of its scan's kept points."""
    cloud = shot.piece.open()
    near = np.zeros(seen.shape(shot.step), np.float32)
    tones = np.zeros_like(near)
    for start, stop in cloud.blocks():
        kept = cloud.kept(start, stop)
        xyz = np.ascontiguousarray(cloud.xyz(start, stop)[kept], dtype=np.float64)
        seen.enter(xyz, brightness(cloud, start, stop)[kept], shot.pose[:3, 3], shot.step, near, tones)
        progress.advance(stop, cloud.count)
    return near, tones


def brightness(cloud: Cloud, start: int, stop: int) -> np.ndarray:
    """(n,) f32 by which edges are found: the root of the intensity, or what colours came with the scan."""
    if cloud.has("intensity"):
        return np.sqrt(np.maximum(np.asarray(cloud.read("intensity", start, stop), np.float32), 0))
    if cloud.has("native_rgb"):
        return (np.asarray(cloud.read("native_rgb", start, stop), np.float32) @ GREY).astype(np.float32)
    return np.zeros(stop - start, np.float32)


def _shower(image: np.ndarray, camera: Camera, pose: np.ndarray):
    """See ``turning.solve``: the photo's brightness in directions of the scan's axes."""
    grey = (image @ np.array(GREY, np.float32)).astype(np.float32)
    mode = ("nearest", "wrap" if camera.turns else "nearest")

    def show(ways: np.ndarray, level: float) -> np.ndarray:
        smooth = ndimage.gaussian_filter(grey, max(level / camera.finest / 2.3, 0.3), mode=mode)
        column, row, inside = camera.pixels(ways @ pose[:3, :3])
        at = [
            (row + 0.5) * image.shape[0] / camera.height - 0.5,
            (column + 0.5) * image.shape[1] / camera.width - 0.5,
        ]
        found = ndimage.map_coordinates(smooth, at, order=1, mode="grid-wrap" if camera.turns else "nearest")
        return np.where(inside, found, np.nan)

    return show


def _place(shot: Shot, pose: np.ndarray) -> np.ndarray:
    """4×4 from where ``pose`` maps from into the axes of the photo's scan, about the camera."""
    return rigid.make(np.eye(3), -shot.pose[:3, 3]) @ pose


def cells(shot: Shot, pose: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """See ``seen.cells``, of points as in ``look``."""
    return seen.cells(np.ascontiguousarray(xyz, dtype=np.float64), _place(shot, pose))


def look(
    shot: Shot, ready: Ready, own: bool, pose: np.ndarray, xyz: np.ndarray, slack: float, table, doubted
):
    """Colours of points (n, 3) that ``pose`` (4×4) maps into the frame of the photo's scan; see
    ``seen.colours``.
    """
    camera = shot.camera
    return seen.colours(
        np.ascontiguousarray(xyz, dtype=np.float64),
        _place(shot, pose),
        shot.kept("near"),
        shot.kept("clear"),
        shot.step,
        np.ascontiguousarray(ready.rotation),
        camera.numbers,
        shot.kept("image"),
        camera.turns,
        table,
        doubted,
        slack,
        own,
        float(np.linalg.norm(shot.pose[:3, 3])),
        ready.need,
        ready.loose,
    )
