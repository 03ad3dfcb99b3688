"""Photos of scans by hand: bring one that did not come with the scan, turn it, rename it, take it away.

A flat picture's lens is told as calibrations tell it: focal length, principal point and D. C. Brown's k1, k2,
p1, p2 and k3 in pixels and units of the focal length.
"""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import NotFound, ParamsError
from terrazza.files import checksum, disk
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job, plain


def kept(job: Job, name: str, stem: str) -> tuple[str, int, int]:
    """Keep a picture of the inbox, or at a path, with the job: (the name it is kept under, width, height)."""
    path = job.input(name, "The picture")
    reading.need_file(path)
    ending, *size = reading.opened(path, os.path.basename(name))
    with open(path, "rb") as f:
        data = f.read()
    file = f"{stem}.{job.version}.{checksum(data)}.{ending}"
    disk.write_bytes(os.path.join(job.subfolder("photos"), file), data)
    disk.sync(job.subfolder("photos"))
    return file, *size


class AddPhotoParams(Params):
    scan: int = field("Scan", ge=1, widget="scan", help="Number of the scan from whose station it was taken.")
    picture: str = field(
        "Picture",
        help="In the inbox or at a path: a spherical picture, twice as wide as high, or a flat one "
        "whose focal "
        "length is given.",
        widget="file",
        role="read",
        max_length=500,
    )
    name: str = field("Name", "", help="Empty: the picture's.", max_length=120)
    turn_deg: float = field(
        "Turned",
        0.0,
        unit="°",
        ge=-360,
        le=360,
        help="Direction of the picture's middle, counter-clockwise from the scan's x axis.",
    )
    up: float = field(
        "Camera above the scanner",
        0.0,
        unit="m",
        ge=-5,
        le=20,
        help="How far over the scan's origin it was taken.",
    )
    along_x: float = field(
        "Camera along x",
        0.0,
        unit="m",
        ge=-20,
        le=20,
        help="How far from the scan's origin along its x axis.",
    )
    along_y: float = field(
        "Camera along y",
        0.0,
        unit="m",
        ge=-20,
        le=20,
        help="How far from the scan's origin along its y axis.",
    )
    tilt_deg: float = field("Tilted up", 0.0, unit="°", ge=-90, le=90, help="Of a flat picture's middle.")
    roll_deg: float = field(
        "Rolled",
        0.0,
        unit="°",
        ge=-180,
        le=180,
        help="Clockwise about the line of sight, as one looks along it.",
    )
    focal_px: float = field(
        "Focal length",
        0.0,
        unit="pixels",
        ge=0,
        le=1e6,
        help="Of a flat picture, in its own pixels; 0: the picture is spherical.",
    )
    principal: str = field(
        "Principal point",
        "",
        max_length=60,
        help="Column and row in pixels from the upper left corner, as “2011.3 1502.8”; empty: the middle.",
    )
    lens: str = field(
        "Lens",
        "",
        max_length=120,
        help="Distortion of a flat picture, as “k1 k2 p1 p2 k3”; empty: none.",
    )


def _flat(params: AddPhotoParams, width: int, height: int) -> dict:
    """What the record says of a flat picture's camera."""
    column, row = _numbers(params.principal, "principal", (2,)) or (width / 2, height / 2)
    bends = _numbers(params.lens, "lens", (1, 2, 4, 5))
    return {
        "pixelWidth": 1.0,
        "pixelHeight": 1.0,
        "focalLength": params.focal_px,
        "principalPointX": column,
        "principalPointY": row,
        **dict(zip(("k1", "k2", "p1", "p2", "k3"), bends)),
    }


def _numbers(text: str, name: str, counts: tuple[int, ...]) -> tuple[float, ...]:
    """Numbers of a text, none of an empty one."""
    try:
        numbers = tuple(float(v) for v in text.replace(",", " ").split())
    except ValueError:
        numbers = (np.nan,)
    if not numbers:
        return ()
    if len(numbers) not in counts or not np.isfinite(numbers).all():
        raise ParamsError(
            f"import.add_photo: “{text}” is not what {name} should be.",
            f"Give {' or '.join(map(str, counts))} numbers with spaces between them.",
        )
    return numbers


def _camera_pose(params: AddPhotoParams) -> np.ndarray:
    """4×4 camera → scan; a flat picture's camera looks along -z with y up."""
    turn = rigid.about_z(np.radians(params.turn_deg))
    tilt, roll = np.radians(params.tilt_deg), np.radians(params.roll_deg)
    lean = np.array([[np.cos(tilt), 0, -np.sin(tilt)], [0, 1, 0], [np.sin(tilt), 0, np.cos(tilt)]])
    # about the line of sight, x: what is up goes to the right, -y
    lurch = np.array([[1, 0, 0], [0, np.cos(roll), -np.sin(roll)], [0, np.sin(roll), np.cos(roll)]])
    ahead = np.array([[0, 0, -1], [-1, 0, 0], [0, 1, 0]]) if params.focal_px else np.eye(3)
    return rigid.make(
        turn @ lean @ lurch @ ahead, np.array([params.along_x, params.along_y, params.up], float)
    )


@operation
class AddPhoto(Operation):
    """Gives a scan a photo that did not come with it: spherical, or flat with its lens."""

    name, title, step = "import.add_photo", "Add a photo to a scan", "Import"
    reads, writes = frozenset({"scan"}), frozenset({"photo"})
    Params = AddPhotoParams

    def run(self, job: Job, params: AddPhotoParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        number = job.next_photo(scan.id)
        file, width, height = kept(job, params.picture, f"photo.{scan.id}-{number}")
        if not params.focal_px and width != 2 * height:
            raise ParamsError(
                f"The picture has {width} × {height} pixels: a spherical one is twice as wide as high.",
                "Export it as an equirectangular panorama, or give the focal length of a flat one.",
            )
        name = params.name or os.path.splitext(os.path.basename(params.picture))[0]
        job.put(
            "photo",
            f"{scan.id}-{number}",
            {
                "scan": scan.id,
                "name": name,
                "file": file,
                "width": width,
                "height": height,
                "representation": "pinhole" if params.focal_px else "spherical",
                "lens": _flat(params, width, height) if params.focal_px else {},
                "pose": plain(_camera_pose(params)),
            },
            scan=scan.id,
        )
        return {"says": f"Photo “{name}” added to scan {scan.id}", "photo": f"{scan.id}-{number}"}


class EditPhotoParams(Params):
    photo: str = field("Photo", help="Scan and number, as listed, for example 3-0.", pattern=r"^\d+-\d+$")
    name: str = field("Name", "", help="Empty: unchanged.", max_length=120)
    turn_deg: float = field(
        "Turn by", 0.0, unit="°", ge=-360, le=360, help="Counter-clockwise about the vertical of its scan."
    )
    remove: bool = field(
        "Take it away",
        False,
        help="Undo puts it back; colours that points have from it stay until they are made anew.",
    )


@operation
class EditPhoto(Operation):
    """Renames, turns or takes away a photo of a scan."""

    name, title, step = "import.edit_photo", "Edit a photo of a scan", "Import"
    writes = frozenset({"photo"})
    Params = EditPhotoParams

    def run(self, job: Job, params: EditPhotoParams, progress: Progress) -> Figures:
        record = job.get("photo", params.photo)
        if record is None:
            raise NotFound(
                f"There is no photo {params.photo}.",
                f"The photos are {', '.join(job.facts('photo')) or 'none'}.",
            )
        if params.remove:
            job.put("photo", params.photo, None)
            return {
                "says": f"Photo “{record['name']}” taken away from scan {record['scan']}; undo puts it back"
            }
        if not (params.name or params.turn_deg):
            raise ParamsError(
                "import.edit_photo: nothing to change was given.", "Give a name or an angle, or take it away."
            )
        pose = np.array(record["pose"])
        pose[:3, :3] = rigid.about_z(np.radians(params.turn_deg)) @ pose[:3, :3]
        job.put(
            "photo",
            params.photo,
            record | {"name": params.name or record["name"], "pose": plain(pose)},
            scan=record["scan"],
        )
        return {
            "says": f"Photo {params.photo}: “{params.name or record['name']}”"
            + (f", turned by {params.turn_deg:g}°" if params.turn_deg else "")
        }
