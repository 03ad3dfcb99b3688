"""What a ray through a view meets."""

from typing import Annotated

import numpy as np
from pydantic import BaseModel, Field

from terrazza.core.geometry import rigid
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.table.boxes import working_box
from terrazza.store import schema
from terrazza.web.contexts.scene import origin_of, shown

Number = Annotated[float, Field(allow_inf_nan=False)]
Pair, Triple, Four = (
    tuple[Number, Number],
    tuple[Number, Number, Number],
    tuple[Number, Number, Number, Number],
)
RINGS = (1.5, 3.0, 6.0, 10.0)


class Ray(BaseModel):
    """A pick: a ray in the scene's coordinates, how wide a pixel is on it (``width`` m, growing by ``slope``
    per metre), and what is switched off.
    """

    origin: Triple
    direction: Triple
    slope: float = Field(ge=0, le=1)
    width: float = Field(ge=0, le=1000)
    scans: list[int]
    hidden_classes: list[int] = []
    returns: int = Field(0, ge=0, le=15)  # flags of returns that are switched off
    slab: Pair | None = None
    wall: Four | None = None
    along: Four | None = None
    box: str = Field("", max_length=100)


def pick(job: Job, ray: Ray) -> dict | None:
    """The stored point that a ray means, from all points and not from those that happen to be drawn: within
    the smallest ring of pixels that holds any, the first.

    Grid coordinate, intensity, class, scan and colours; None where nothing is near.
    """
    box = working_box(job, ray.box)
    origin, direction = (
        np.array(ray.origin) + origin_of(job),
        np.array(ray.direction) / max(np.linalg.norm(ray.direction), 1e-12),
    )
    clouds = []
    for scan, pose in shown(job):
        if scan.id in ray.scans:
            cloud, back = job.cloud(scan.id), rigid.inverse(pose)
            own = rigid.apply(back, origin[None])[0], back[:3, :3] @ direction
            clouds.append(
                (scan, cloud, pose, own, cloud.along_ray(*own), _allowed(job, cloud, pose, ray, box))
            )
    for ring in RINGS:
        found = []
        for scan, cloud, pose, own, cells, allowed in clouds:
            hit = cloud.nearest_to_ray(*own, ray.slope * ring, ray.width * ring, allowed, cells)
            if hit:
                found.append((hit[1], scan, cloud, pose, hit[0]))
        if found:
            return told(job, *min(found, key=lambda f: f[0])[1:])
    return None


def _allowed(job: Job, cloud, pose, ray: Ray, box):
    """Mask of what may be picked of a stretch of points: what is neither cut nor switched off nor outside the
    slabs nor hidden by the box.
    """
    place = pose.copy()
    place[:3, 3] -= origin_of(job)

    def allowed(start, stop):
        mask = cloud.kept(start, stop)
        if ray.hidden_classes:
            mask &= ~np.isin(cloud.values("class", 0, start, stop), ray.hidden_classes)
        if ray.returns and cloud.has("returns"):
            mask &= schema.pulse_flags(cloud.read("returns", start, stop)) & ray.returns == 0
        if ray.slab or ray.wall or ray.along:
            q = rigid.apply(place, cloud.xyz(start, stop))
            if ray.slab:
                mask &= (q[:, 2] >= ray.slab[0]) & (q[:, 2] <= ray.slab[1])
            if ray.wall:
                mask &= np.abs(q[:, 0] * ray.wall[0] + q[:, 1] * ray.wall[1] - ray.wall[2]) <= ray.wall[3]
            if ray.along:
                way = q[:, 0] * ray.along[0] + q[:, 1] * ray.along[1]
                mask &= (way >= ray.along[2]) & (way <= ray.along[3])
        if box is not None:
            mask &= box.holds(rigid.apply(pose, cloud.xyz(start, stop)))
        return mask

    return allowed


def told(job: Job, scan: Scan, cloud, pose, at: int) -> dict:
    own = cloud.xyz(at, at + 1)
    value = lambda name: np.asarray(cloud.read(name, at, at + 1))[0].tolist() if cloud.has(name) else None
    code, intensity, back = value("class"), value("intensity"), scan.record.get("intensity_as")
    return {
        "scan": scan.id,
        "name": scan.name,
        "placed": scan.pose is not None,
        "index": at,
        "at": (rigid.apply(pose, own) if scan.pose is not None else own)[0].tolist(),
        "shown": rigid.apply(pose, own)[0].tolist(),
        "own": own[0].tolist(),
        "intensity": intensity,
        "intensity_raw": None if intensity is None else back[0] * intensity + back[1] if back else intensity,
        "class": code,
        "class_name": class_namer(job)(code) if code is not None else None,
        "native": value("native_rgb"),
        "photo": value("photo_rgb"),
        "cut": value("cut"),
        "range": float(np.linalg.norm(own)),
    }
