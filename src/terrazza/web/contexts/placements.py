"""Pictures of what a doubted scan could be: where it would stand, in plan and in a slab, with what the others
saw where it looked through.
"""

import io

import numpy as np
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.errors import NotFound
from terrazza.operations.spine.job import Job

WIDTH, HEIGHT = 236, 160  # px, twice as many as it is shown with
REACH = 0.95, 3.0, 25.0  # share of its points within what is shown about the scan; least and most, m
SLAB, EYE = 0.15, 0.3  # m: half the thickness of a slab, and how far below the eye the plan is cut
SPACING = 0.02  # m between points
CELL = np.radians(1.0)  # of the directions in which the scan's own ranges are kept
THROUGH = 0.2  # m that it must have looked beyond a point of another, which then contradicts
PAPER, OTHERS, OWN, BOTH = (251, 249, 243), (44, 110, 143), (180, 81, 47), (29, 43, 42)
AGAINST = (233, 197, 59)  # what the scan looked through


def png(job: Job, number: int, alternative: int, how: str) -> bytes:
    """One picture (``how``: “plan” or “slab”) of a scan at one of the placements it has to choose from, by
    its place in the list from 1; NotFound where there is none.
    """
    standing = job.get("standing", number)
    offered = standing["alternatives"] if standing else []
    if not 1 <= alternative <= len(offered) or how not in {"plan", "slab"}:
        raise NotFound(f"Scan {number} has no placement {alternative}.", "Load the page again.")
    pose = job.frame @ np.array(offered[alternative - 1])
    cloud = job.cloud(number)
    ranges = np.linalg.norm(cloud.at(cloud.sample(200_000)), axis=1)
    wide = float(np.clip(np.quantile(ranges, REACH[0]), *REACH[1:]))
    others = [s for s in job.scans(placed=True) if s.id != number]
    turn = _towards(job, pose, others) if how == "slab" else 0.0
    view = rigid.make(rigid.about_z(-turn), np.zeros(3)) @ rigid.make(np.eye(3), -pose[:3, 3])
    half = np.array([wide, wide * HEIGHT / WIDTH if how == "plan" else SLAB, SLAB])
    middle = np.array([0, 0, -EYE])
    if how == "slab":
        half[2], middle = wide * HEIGHT / WIDTH, np.zeros(3)
    own = _cut(cloud, view @ pose, middle, half)
    theirs = [_cut(job.cloud(s.id), view @ job.grid_pose(s), middle, half) for s in others]
    their = np.concatenate([np.zeros((0, 3)), *theirs])
    farthest = _ranges(cloud)
    against = _through(farthest, rigid.apply(rigid.inverse(view @ pose), their))
    return _drawn(own, their, against, half, middle, how)


def _towards(job: Job, pose, others) -> float:
    """Direction in plan (rad) from a place to the nearest other station."""
    if not others:
        return 0.0
    off = np.array([job.grid_pose(s)[:2, 3] for s in others]) - pose[:2, 3]
    far = np.linalg.norm(off, axis=1)
    far[far < 1e-3] = np.inf  # one at the same place shows no direction
    east, north = off[far.argmin()]
    return float(np.arctan2(north, east))


def _cut(cloud, pose, middle, half) -> np.ndarray:
    """Kept points (n, 3) of a box in the view's frame."""
    index = cloud.kept_of(cloud.inside(middle - half, middle + half, pose, SPACING))
    return rigid.apply(pose, cloud.at(index))


def _ranges(cloud) -> np.ndarray:
    """The least range (m) that a scan has in each cell of its directions, 0 where it has none."""
    xyz = cloud.at(cloud.kept_of(cloud.sample(400_000)))
    rows, columns = int(np.pi / CELL), int(2 * np.pi / CELL)
    least = np.full(rows * columns, np.inf)
    np.minimum.at(least, _cell(xyz), np.linalg.norm(xyz, axis=1))
    return np.where(np.isfinite(least), least, 0.0)


def _cell(xyz: np.ndarray) -> np.ndarray:
    rows, columns = int(np.pi / CELL), int(2 * np.pi / CELL)
    up = np.arctan2(xyz[:, 2], np.hypot(xyz[:, 0], xyz[:, 1]))
    row = np.clip(((np.pi / 2 - up) / CELL).astype(int), 0, rows - 1)
    return row * columns + np.clip(
        ((np.arctan2(xyz[:, 1], xyz[:, 0]) + np.pi) / CELL).astype(int), 0, columns - 1
    )


def _through(farthest: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """Mask of the places (n, 3) in the scan's frame beyond which it saw something, all around them."""
    return farthest[_cell(xyz)] > np.linalg.norm(xyz, axis=1) + THROUGH


def _drawn(own, their, against, half, middle, how: str) -> bytes:
    axes = (0, 1) if how == "plan" else (0, 2)
    sheet = np.empty((HEIGHT, WIDTH, 3), np.uint8)
    sheet[:] = PAPER
    masks = [np.zeros((HEIGHT, WIDTH), bool) for _ in range(3)]
    for mask, xyz in zip(masks, (own, their, their[against])):
        at = (xyz - middle + half)[:, axes] / (2 * half[list(axes)])
        column = np.clip((at[:, 0] * WIDTH).astype(int), 0, WIDTH - 1)
        mask[np.clip(((1 - at[:, 1]) * HEIGHT).astype(int), 0, HEIGHT - 1), column] = True
    mine, other, wrong = (_grown(mask, wide) for mask, wide in zip(masks, (1, 1, 3)))
    for mask, colour in ((wrong, AGAINST), (other, OTHERS), (mine, OWN), (mine & other, BOTH)):
        sheet[mask] = colour
    middle_row = HEIGHT // 2
    sheet[middle_row - 4 : middle_row + 5, WIDTH // 2] = sheet[
        middle_row, WIDTH // 2 - 4 : WIDTH // 2 + 5
    ] = BOTH
    out = io.BytesIO()
    Image.fromarray(sheet).save(out, "PNG")
    return out.getvalue()


def _grown(mask: np.ndarray, wide: int) -> np.ndarray:
    """The mask and the pixels to the right of it and below, up to so many; around it from 2 on."""
    padded, first = np.pad(mask, wide), -wide if wide > 1 else 0
    rows, columns = mask.shape
    shifts = [(r, c) for r in range(first, wide + 1) for c in range(first, wide + 1)]
    return np.any(
        [padded[wide - r : wide - r + rows, wide - c : wide - c + columns] for r, c in shifts], axis=0
    )
