"""Small simulated truth for tests: a furnished room seen from several places, in pure numpy, with known
noise.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.formats import e57_writer
from tests.run import must

ROOM = (np.array([0.0, 0.0, 0.0]), np.array([8.0, 6.0, 3.0]))
BOXES = [
    (np.array([1.0, 4.2, 0.0]), np.array([2.2, 5.0, 0.9])),
    (np.array([5.5, 0.8, 0.0]), np.array([6.1, 2.4, 1.8])),
    (np.array([3.4, 5.5, 0.0]), np.array([4.4, 6.0, 2.2])),
    (np.array([6.9, 4.0, 0.0]), np.array([7.3, 4.4, 3.0])),
]
PLACES = [(2.0, 2.0, 1.5), (6.4, 3.2, 1.5), (4.0, 3.4, 1.4)]


def _slabs(origin, rays, low, high):
    with np.errstate(divide="ignore"):
        a, b = (low - origin) / rays, (high - origin) / rays
    return np.minimum(a, b).max(1), np.maximum(a, b).min(1)


def directions(rows: int, columns: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Unit rays (n, 3) of a full dome with their row and column."""
    row, column = (a.ravel() for a in np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij"))
    el, az = np.radians(-60) + np.radians(150) * (row + 0.5) / rows, 2 * np.pi * column / columns
    return np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], 1), row, column


def scan_room(
    pose: np.ndarray, rows: int = 150, columns: int = 360, noise: float = 0.002, seed: int = 0
) -> dict[str, np.ndarray]:
    """What a scanner at ``pose`` sees of the room: columns xyz (scanner frame), intensity, row, column."""
    rays, row, column = directions(rows, columns)
    world = rays @ pose[:3, :3].T
    _, far = _slabs(pose[:3, 3], world, *ROOM)
    distance = far
    for low, high in BOXES:
        near, out = _slabs(pose[:3, 3], world, low, high)
        distance = np.where((near < out) & (near > 0) & (near < distance), near, distance)
    rng = np.random.default_rng(seed)
    measured = distance + rng.normal(0, noise, len(distance))
    hit = rays * measured[:, None]
    checker = (np.floor(hit @ pose[:3, :3].T * 2 + 100).sum(1) % 2) * 20000
    return {
        "xyz": hit,
        "intensity": (20000 + checker).astype(np.uint16),
        "row": row.astype(np.uint32),
        "column": column.astype(np.uint32),
    }


def room_poses(seed: int = 5, tilt: float = np.radians(0.003)) -> list[np.ndarray]:
    """Poses at the three places with random headings and small tilts."""
    rng = np.random.default_rng(seed)
    return [
        rigid.make(
            rigid.rotation_from(np.append(rng.normal(0, tilt, 2), 0))
            @ rigid.about_z(rng.uniform(-np.pi, np.pi)),
            np.array(p),
        )
        for p in PLACES
    ]


def write_room(
    path, posed: bool = False, names=("Küche", "Saal, hinten", "Flur"), origin=np.zeros(3), **more
) -> list[np.ndarray]:
    """An E57 of the room's three scans, posed in a frame in which it lies at ``origin``; returns the true
    poses in the room.
    """
    poses = room_poses()
    with e57_writer.Writer(str(path)) as out:
        for k, (name, pose) in enumerate(zip(names, poses)):
            data = scan_room(pose, seed=k, **more)
            out.add_scan(
                name,
                [data],
                ["xyz", "intensity", "row", "column"],
                pose=rigid.make(pose[:3, :3], pose[:3, 3] + origin) if posed else None,
                grid=(more.get("rows", 150), more.get("columns", 360)),
            )
    return poses


def room_job(workspace: str, folder, **more):
    """A job of the room's three scans as they stand: (workspace, row)."""
    write_room(folder / "room.e57", posed=True, **more)
    row = queries.create_job(workspace, "Room")
    must(workspace, row, "import.files", files=[str(folder / "room.e57")])
    return workspace, row
