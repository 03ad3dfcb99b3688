"""Deliver photos with the poses of their cameras."""

import os
import shutil
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.deliver.folders import Folder, made
from terrazza.operations.deliver.listing import table
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job

with later():
    from PIL import Image as images
    from scipy.spatial import transform

    from terrazza.core.color import cameras, flat

LIST = "photos.csv"
HEAD = (
    "file scan name kind width height X Y Z qw qx qy qz pixel_width pixel_height principal_x principal_y "
    "focal k1 k2 p1 p2 k3".split()
)
MOST = 8192  # pixels of a flat view


class PhotosParams(Params):
    path: str = field(
        "Folder", "photos", role="write", help="A folder; relative paths land in the job's deliverables."
    )
    scans: list[int] = scans_field("Empty: all with photos.")
    form: Literal["as taken", "flat"] = field(
        "Form", "as taken", help="Flat: views without bends are cut out of them, all around."
    )
    angle_deg: float = field("Flat views see", 90.0, unit="°", ge=10, le=150, help="Across and up.")
    pixels: int = field("Flat views have", 0, blank="as the photo", ge=0, le=MOST, help="Pixels a side.")


@operation
class DeliverPhotos(Operation):
    """Writes the photos as files, as taken or as flat views cut out of them, with a list of their cameras:
    place in the grid, turn as a quaternion (camera to grid), lens.
    """

    name, title, step = "deliver.photos", "Photos", "Deliver"
    reads = frozenset({"scan", "pose", "frame", "photo"})
    writes = frozenset({"deliverable"})
    Params = PhotosParams

    def run(self, job: Job, params: PhotosParams, progress: Progress) -> Figures:
        chosen = {s.id: s for s in job.need_scans(params.scans)}
        photos = [p for p in job.facts("photo").values() if p["scan"] in chosen]
        if not photos:
            raise StateError("These scans have no photos.", "Import photos, or choose other scans.")
        rows: list[list] = []
        with made(job, params.path, LIST, "photos") as folder:
            for k, photo in enumerate(photos):
                progress.advance(k, len(photos), photo["name"])
                scan = chosen[photo["scan"]]
                pose = np.array(photo["pose"])
                if scan.pose is not None:
                    pose = job.grid_pose(scan) @ pose
                stem = f"{photo['scan']}-{k + 1}"
                source = job.own_file("photos", photo["file"])
                if params.form == "as taken":
                    rows.append(_taken(folder, stem, source, scan.name, photo, pose))
                else:
                    rows += _cut(folder, stem, source, scan.name, photo, pose, params)
            table(folder.file(LIST), HEAD, rows)
        unplaced = sum(chosen[p["scan"]].pose is None for p in photos)
        doubts = [f"{unplaced} photos belong to scans without a place; theirs is that of the scan."]
        return {
            "says": f"{len(rows)} pictures of {len(photos)} photos, {folder.size / 1e6:.1f} MB",
            "path": folder.path,
            "pictures": len(rows),
            "bytes": folder.size,
            "doubt": doubts if unplaced else [],
        }


def _row(name: str, scan: str, photo: dict, camera, pose: np.ndarray) -> list:
    x, y, z, w = transform.Rotation.from_matrix(pose[:3, :3]).as_quat()
    turn = np.array([w, x, y, z]) * (-1 if w < 0 else 1)
    place = [f"{v:.4f}" for v in pose[:3, 3]]
    lens = [*camera.pixel, *camera.principal, camera.focal, *camera.bends]
    return [
        name,
        scan,
        photo["name"],
        camera.kind,
        camera.width,
        camera.height,
        *place,
        *(f"{v:.9f}" for v in turn),
        *(f"{v:.10g}" for v in lens),
    ]


def _taken(folder: Folder, stem: str, source: str, scan: str, photo: dict, pose: np.ndarray) -> list:
    name = f"{stem}{os.path.splitext(photo['file'])[1]}"
    shutil.copyfile(source, folder.file(name))
    return _row(name, scan, photo, cameras.Camera.of(photo), pose)


def _cut(folder: Folder, stem: str, source: str, scan: str, photo: dict, pose, params: PhotosParams) -> list:
    """Flat views out of one photo, of those directions that it holds half and more of."""
    camera, angle = cameras.Camera.of(photo), np.radians(params.angle_deg)
    if not camera.usable:
        raise StateError(
            f"“{photo['name']}” does not say how its camera sees.", "Deliver the photos as taken."
        )
    size = params.pixels or min(int(round(2 * np.tan(angle / 2) / camera.finest)), MOST)
    picture = np.asarray(images.open(source).convert("RGB"))
    views, out = flat.pinhole(size, angle), []
    for number, turn in enumerate(_turns(camera.kind, angle), 1):
        seen, share = flat.cut(picture, camera, views, turn)
        if share < 0.5:
            continue
        name = f"{stem}-{number:02d}.jpg"
        images.fromarray(seen).save(folder.file(name), quality=92)
        out.append(_row(name, scan, photo, views, pose @ rigid.make(turn, np.zeros(3))))
    return out


def _turns(kind: str, angle: float) -> list[np.ndarray]:
    """Where flat views look: all around, up and down, or as the photo itself where that is flat."""
    if kind == "pinhole":
        return [np.eye(3)]
    around = int(np.ceil(2 * np.pi / angle - 1e-9))
    level = [flat.looking(-k * 2 * np.pi / around, 0.0) for k in range(around)]
    return [*level, flat.looking(0.0, np.pi / 2), flat.looking(0.0, -np.pi / 2)]
