"""Pictures made from scans, kept in the job's pictures folder, which may be deleted at any time."""

import io
import os
from hashlib import sha1
from uuid import uuid4

import numpy as np
from PIL import Image

from terrazza.core.geometry.axes import Axes
from terrazza.errors import NotFound
from terrazza.formats import glimpse
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.job import Job
from terrazza.web.contexts import inbox
from terrazza.work.looking import Looker

WIDTH, HEIGHT = 360, 180


def _spherical(xyz: np.ndarray, value: np.ndarray) -> Image.Image:
    """A small panorama of ``value`` (n,), azimuth growing to the left, over the elevations that the scan has;
    paper where nothing is.
    """
    r = np.linalg.norm(xyz, axis=1)
    row = (
        ((np.pi / 2 - np.arcsin(np.clip(xyz[:, 2] / np.maximum(r, 1e-9), -1, 1))) * HEIGHT / np.pi)
        .astype(int)
        .clip(0, HEIGHT - 1)
    )
    column = ((np.pi - np.arctan2(xyz[:, 1], xyz[:, 0])) * WIDTH / (2 * np.pi)).astype(int) % WIDTH
    low, high = np.quantile(value, [0.02, 0.98]) if len(value) else (0, 1)
    tone = np.clip((value - low) / max(high - low, 1e-9), 0, 1)
    total, count = np.zeros(HEIGHT * WIDTH), np.zeros(HEIGHT * WIDTH)
    np.add.at(total, row * WIDTH + column, tone)
    np.add.at(count, row * WIDTH + column, 1)
    shade = np.where(count > 0, total / np.maximum(count, 1), np.nan).reshape(HEIGHT, WIDTH)
    ink, paper = np.array([29, 43, 42.0]), np.array([250, 246, 236.0])
    colour = ink + (paper - ink) * np.nan_to_num(shade, nan=1.0)[:, :, None]
    colour[np.isnan(shade)] = [236, 229, 214]
    filled = np.flatnonzero(~np.isnan(shade).all(1))
    return Image.fromarray(colour[: filled.max() + 1 if len(filled) else HEIGHT].astype(np.uint8))


def _from_above(xyz: np.ndarray) -> Image.Image:
    """A small plan for clouds that have no station: height as tone."""
    low, high = xyz.min(0), xyz.max(0)
    edge = max(float((high - low)[:2].max()), 1e-6)
    ij = ((xyz[:, :2] - low[:2]) / edge * (HEIGHT - 1)).astype(int)
    shade = np.full((HEIGHT, WIDTH), np.nan)
    shade[HEIGHT - 1 - ij[:, 1], ij[:, 0] + (WIDTH - HEIGHT) // 2] = (xyz[:, 2] - low[2]) / max(
        high[2] - low[2], 1e-9
    )
    colour = (
        np.array([44, 110, 143.0])
        + (np.array([233, 197, 59.0]) - [44, 110, 143]) * np.nan_to_num(shade)[:, :, None]
    )
    colour[np.isnan(shade)] = [236, 229, 214]
    return Image.fromarray(colour.astype(np.uint8))


def _kept(job: Job, name: str, make) -> str:
    path = os.path.join(job.subfolder("pictures"), name)
    if not os.path.exists(path):
        own = f"{path}.{uuid4().hex}"
        make().save(own, "PNG")
        os.replace(own, path)
    return path


def panorama(job: Job, number: int) -> str:
    """Path of a scan's thumbnail."""
    scan = job.scan(number)

    def make():
        cloud = job.cloud(number)
        index = cloud.sample(400_000)
        xyz = cloud.at(index)
        if not has_station(scan):
            return _from_above(xyz)
        return _spherical(
            xyz,
            cloud.pick("intensity", index).astype(float)
            if cloud.has("intensity")
            else -np.log(np.linalg.norm(xyz, axis=1) + 0.1),
        )

    made_of = sha1("|".join(job.get("column", f"{number}/position")).encode()).hexdigest()[:8]
    return _kept(job, f"scan-{number}-{made_of}.png", make)


def inside(job: Job, looker: Looker, file: str, index: int, axes: str) -> bytes:
    """PNG of the thumbnail of a scan in an inbox file: a panorama where the instrument was at its origin,
    else seen from above.
    """
    ask = inbox.ask_for(job, file, index)
    found = looker.ask(ask)
    if found is None or "error" in found:
        raise NotFound("Nobody has looked into this scan yet.", "Wait a moment.")
    held = glimpse.sample(ask)
    xyz = Axes.named(axes).turned(held["xyz"])
    tone = (
        held["intensity"].astype(float) if "intensity" in held else -np.log(np.linalg.norm(xyz, axis=1) + 0.1)
    )
    out = io.BytesIO()
    (_spherical(xyz, tone) if found["stationed"] else _from_above(xyz)).save(out, "PNG")
    return out.getvalue()


def target(job: Job, record: dict, side: int = 96) -> bytes:
    """PNG of the intensity around a target, seen square on."""
    cloud = job.cloud(record["scan"])
    centre, normal = np.array(record["centre"]), np.array(record["normal"])
    reach = 0.4
    xyz_index = cloud.inside(centre - reach, centre + reach)
    xyz = cloud.at(xyz_index) - centre
    value = cloud.pick("intensity", xyz_index).astype(float)
    e1 = np.cross([0, 0, 1.0], normal) if abs(normal[2]) < 0.99 else np.array([1.0, 0, 0])
    e1 /= np.linalg.norm(e1)
    e2 = np.cross(normal, e1)
    near = np.abs(xyz @ normal) < 0.05
    grid = np.stack(np.meshgrid(np.linspace(-0.32, 0.32, side), np.linspace(0.32, -0.32, side)), -1).reshape(
        -1, 2
    )
    image = np.full(side * side, 0.9)
    if near.sum() > 4:
        from scipy.spatial import cKDTree

        uv = np.stack([xyz[near] @ e1, xyz[near] @ e2], 1)
        distance, index = cKDTree(uv).query(grid)
        low, high = np.quantile(value[near], [0.02, 0.98])
        image = np.where(
            distance < 0.05, np.clip((value[near][index] - low) / max(high - low, 1e-9), 0, 1), 0.9
        )
    picture = np.repeat((image.reshape(side, side, 1) * 225 + 25).astype(np.uint8), 3, axis=2)
    picture[side // 2, side // 2 - 7 : side // 2 + 8] = picture[side // 2 - 7 : side // 2 + 8, side // 2] = [
        233,
        197,
        59,
    ]
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "PNG")
    return out.getvalue()
