"""Colour points from photos."""

import numpy as np
from PIL import Image

from terrazza.core.color.cameras import Camera
from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import InputError, StateError
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.store.columns import write_block

projection = later("terrazza.core.color.projection")

SAMPLE = 4000
CHUNK = 500_000


class ColorizeParams(Params):
    scans: list[int] = scans_field()
    slack: float = field(
        "Depth slack",
        0.05,
        unit="m",
        help="A point this far behind what the camera's station saw still takes its colour.",
        ge=0.0,
        le=1,
    )
    neighbours: bool = field(
        "Photos of other stations too",
        True,
        help="Points that their own photo does not show take colour from others that see them.",
    )
    even: bool = field(
        "Even out brightness",
        True,
        help="One gain a photo, so that neighbouring stations agree where they see the same.",
    )


class _Photo:
    """One photo with the depth its own station saw, in the frame of the camera."""

    def __init__(self, job: Job, record: dict, scan):
        self.scan, self.pose, self.camera = scan, np.array(record["pose"]), Camera.of(record)
        try:
            with Image.open(job.own_file("photos", record["file"])) as image:
                self.image = np.asarray(image.convert("RGB"))
        except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
            raise InputError(
                f"The photo “{record['name']}” of scan {record['scan']} cannot be decoded.",
                "It is damaged: take it away under Import, or bring it again.",
            ) from error
        cloud, self.depth = job.cloud(scan.id), projection.DepthPicture()
        for start, stop in cloud.blocks():
            self.depth.add(projection.into_camera(self.pose, cloud.xyz(start, stop)))
        self.depth.close()

    def view(self, xyz: np.ndarray, scan) -> np.ndarray:
        """Points of any scan in this camera's frame."""
        if scan.id != self.scan.id:
            xyz = rigid.apply(rigid.inverse(self.scan.pose) @ scan.pose, xyz)
        return projection.into_camera(self.pose, xyz)

    def sees(self, seen: np.ndarray, slack: float) -> np.ndarray:
        """Mask of points (camera frame) that the picture shows with nothing before them."""
        return self.camera.pixels(seen)[2] & self.depth.sees(seen, slack)

    def colours(self, seen: np.ndarray) -> np.ndarray:
        return projection.sample(self.image, seen, self.camera).astype(float)


@operation
class Photos(Operation):
    """Gives points the colour of the station photos; a point takes colour only from a camera that saw it."""

    name, title, step = "colorize.photos", "Colorize from photos", "Colorize"
    reads, writes = frozenset({"scan", "pose", "photo"}), frozenset({"column"})
    Params = ColorizeParams

    def run(self, job: Job, params: ColorizeParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans)
        everywhere = {s.id: s for s in job.scans()}
        photos = []
        records = [p for p in job.facts("photo").values() if Camera.of(p).usable]
        if not records:
            raise StateError(
                "The job has no photos that can be laid on points.", "Import scans with their photos."
            )
        for n, record in enumerate(records):
            progress.advance(0.3 * n / len(records), 1.0, f"Reading photo {record['name']}")
            photos.append(_Photo(job, record, everywhere[record["scan"]]))
        gains = self._gains(job, photos, params.slack) if params.even else {}
        rows = []
        total = sum(s.points for s in scans)
        for scan in scans:
            rows.append(
                self._one(
                    job,
                    scan,
                    photos,
                    gains,
                    params,
                    Part(progress, 0.3, 1.0, total),
                    sum(r["points"] for r in rows),
                    total,
                )
            )
        coloured, total = sum(r["coloured"] for r in rows), sum(r["points"] for r in rows)
        return {
            "says": f"{coloured:,} of {total:,} points coloured ({coloured / total:.1%}) from "
            f"{len(photos)} photos",
            "coloured": coloured,
            "points": total,
            "photos": len(photos),
            "rows": rows,
            "gains": {photos[k].scan.name: g for k, g in gains.items()},
        }

    @staticmethod
    def _one(job, scan, photos, gains, params, progress, done, total):
        cloud = job.cloud(scan.id)
        own = sorted(
            (
                k
                for k, p in enumerate(photos)
                if p.scan.id == scan.id
                or (params.neighbours and scan.pose is not None and p.scan.pose is not None)
            ),
            key=lambda k: (
                0.0
                if photos[k].scan.id == scan.id
                else float(np.linalg.norm(photos[k].scan.pose[:3, 3] - scan.pose[:3, 3]))
            ),
        )
        files, coloured = [], 0
        for number, (first, last) in enumerate(cloud.blocks()):
            rgb = np.zeros((last - first, 3), np.uint8)
            for start in range(first, last, CHUNK):
                progress.advance(done + start, total, f"Colorizing {scan.name}")
                xyz = cloud.xyz(start, min(start + CHUNK, last))
                part, missing = rgb[start - first : start - first + CHUNK], np.arange(len(xyz))
                for k in own:
                    seen_from = photos[k].view(xyz[missing], scan)
                    sees = photos[k].sees(seen_from, params.slack)
                    colour = photos[k].colours(seen_from[sees]) * gains.get(k, 1.0)
                    part[missing[sees]] = np.clip(colour, 1, 255).astype(np.uint8)
                    missing = missing[~sees]
            coloured += int(rgb.any(1).sum())
            files.append(write_block(job.scan_folder(scan.id), "photo_rgb", number, rgb, job.version))
        job.put_column(scan.id, "photo_rgb", files)
        return {
            "scan": scan.id,
            "name": scan.name,
            "points": cloud.count,
            "coloured": coloured,
            "share": coloured / cloud.count,
        }

    @staticmethod
    def _gains(job, photos, slack):
        """One gain per photo (by index) from points that two photos both see."""
        means: dict[int, dict[int, tuple[float, float, float]]] = {}
        for a, one in enumerate(photos):
            if one.scan.pose is None:
                continue
            cloud = job.cloud(one.scan.id)
            xyz = cloud.at(cloud.sample(SAMPLE))
            mine = one.view(xyz, one.scan)
            for b, other in enumerate(photos):
                if b == a or other.scan.pose is None:
                    continue
                theirs = other.view(xyz, one.scan)
                both = one.sees(mine, slack) & other.sees(theirs, slack)
                if both.sum() < 100:
                    continue
                ca, cb = (p.colours(v[both]).mean(1) for p, v in ((one, mine), (other, theirs)))
                plain = (ca < 245) & (cb < 245)
                if plain.sum() >= 50:
                    means.setdefault(a, {})[b] = (
                        float(plain.sum()),
                        float(np.log(ca[plain]).mean()),
                        float(np.log(cb[plain]).mean()),
                    )
        return projection.exposure_gains(means)
