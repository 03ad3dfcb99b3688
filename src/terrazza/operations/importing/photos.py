"""Photos of scans by hand: bring one that did not come with the scan, turn it, rename it, take it away."""

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
        help="A spherical picture, twice as wide as high, in the inbox or at a path.",
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


@operation
class AddPhoto(Operation):
    """Gives a scan a spherical photo that did not come with it."""

    name, title, step = "import.add_photo", "Add a photo to a scan", "Import"
    reads, writes = frozenset({"scan"}), frozenset({"photo"})
    Params = AddPhotoParams

    def run(self, job: Job, params: AddPhotoParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        number = job.next_photo(scan.id)
        file, width, height = kept(job, params.picture, f"photo.{scan.id}-{number}")
        if width != 2 * height:
            raise ParamsError(
                f"The picture has {width} × {height} pixels: a spherical one is twice as wide as high.",
                "Export it as an equirectangular panorama.",
            )
        name = params.name or os.path.splitext(os.path.basename(params.picture))[0]
        pose = rigid.make(rigid.about_z(np.radians(params.turn_deg)), np.array([0.0, 0.0, params.up]))
        job.put(
            "photo",
            f"{scan.id}-{number}",
            {
                "scan": scan.id,
                "name": name,
                "file": file,
                "width": width,
                "height": height,
                "representation": "spherical",
                "lens": {},
                "pose": plain(pose),
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
