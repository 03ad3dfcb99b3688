"""The demo's flight: four drone strips over the terraces, as a cloud that does not know how its scanner was
turned, with a trajectory and measured heights beside it.
"""

import json
import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.demo import settegradini as estate
from terrazza.formats import las_writer
from terrazza.instruments.flier import fly, heights

CLOUD, PATH, CONTROL = (
    "settegradini-flight.laz",
    "settegradini-flight-path.txt",
    "settegradini-flight-heights.csv",
)
MOUNTING = np.radians([0.41, -0.27, 0.53])
LOW = 0.074  # m by which the path is told too low
UP = 34.0  # m, scene
WAYS = [((-38, 4, UP), (48, 4, UP)), ((48, -4, UP), (-38, -4, UP))]
WAYS += [((-8, 34, UP), (-8, -34, UP)), ((18, -34, UP), (18, 34, UP))]
MEASURED = [
    (-14, 4),
    (-4, 5),
    (12, 4),
    (28, 5),
    (-12, -5),
    (-4, -5),
    (14, -5),
    (24, -6),
    (-6, -12),
    (12, -12),
]


def build(folder: str, seed: int = 11) -> None:
    """Write cloud, trajectory, heights and, under ``truth``, what nobody told."""
    world, grid = estate.build(), estate.scene_to_grid()
    ways = [(np.array(a, float), np.array(b, float)) for a, b in WAYS]
    made = fly(world, ways, MOUNTING, LOW, seed)
    os.makedirs(os.path.join(folder, "truth"), exist_ok=True)
    offset = np.round(grid[:3, 3])
    chunk = {k: made[k] for k in ("intensity", "rgb", "time")} | {"xyz": rigid.apply(grid, made["xyz"])}
    with las_writer.Writer(os.path.join(folder, CLOUD), 1e-4, offset, colour=True, time=True) as out:
        out.write(chunk)
    _path(os.path.join(folder, PATH), made, grid)
    rng, places = np.random.default_rng(seed), np.array(MEASURED, float)
    measured = rigid.apply(grid, np.c_[places, heights(world, places)])
    measured += rng.normal(0, 0.003, measured.shape)
    with open(os.path.join(folder, CONTROL), "w", encoding="utf-8") as file:
        file.write("name,easting,northing,height\n")
        file.writelines(f"H{k},{e:.4f},{n:.4f},{h:.4f}\n" for k, (e, n, h) in enumerate(measured, 1))
    with open(os.path.join(folder, "truth", "flight.json"), "w", encoding="utf-8") as file:
        json.dump({"angles_mdeg": (np.degrees(MOUNTING) * 1000).tolist(), "low_m": LOW}, file)


def _path(path: str, made: dict, grid: np.ndarray) -> None:
    """The trajectory as its software writes it: headings clockwise from north."""
    xyz, angles = rigid.apply(grid, made["path_xyz"]), made["path_angles"]
    heading = (90.0 - np.degrees(angles[:, 2] + rigid.heading(grid))) % 360
    table = np.c_[made["path_time"], xyz, np.degrees(angles[:, 0]), -np.degrees(angles[:, 1]), heading]
    head = "GPSTime,Easting,Northing,Height,Roll,Pitch,Heading"
    np.savetxt(path, table, "%.6f", ",", header=head, comments="")
