"""Build the demo's field data: E57 files with photos, a control file, a walk through the lemon house, and the
truth kept beside.

Everything is drawn from one seed, so the same seed gives the same files.  The
application imports the files like anybody's; nothing in it reads
the folder ``truth``.
"""

import io
import json
import os
import shutil
import uuid
from dataclasses import dataclass, replace

import numpy as np
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.demo import outdoors, survey
from terrazza.demo import settegradini as estate
from terrazza.fleet import Local
from terrazza.formats import e57_writer, las_writer, trajectory
from terrazza.instruments.camera import photograph
from terrazza.instruments.scanner import Setup, sweep
from terrazza.instruments.walker import RINGS, walk

INDOORS = {0, 1, 2, 3, 7}
FILES = [("settegradini-house.e57", (0, 1, 2, 3)), ("settegradini-garden.e57", (4, 5, 6, 7))]
CONTROL_FILE = "settegradini-control.csv"
DESIGN_FILE = "settegradini-culvert-design.obj"
WALK_FILE, WALK_PATH = "settegradini-walk.laz", "settegradini-walk-path.txt"
CAMERA = rigid.make(np.eye(3), np.array([0.0, 0.0, 0.06]))


@dataclass(frozen=True)
class FieldWork:
    """What one seed makes of the eight set-ups: true poses (scanner to scene), errors, camera exposures."""

    poses: list[np.ndarray]
    setups: list[Setup]
    cameras: list[np.ndarray]
    exposures: list[float]


def field_work(seed: int = 7, density: float = 1.0) -> FieldWork:
    """Draw headings, residual tilts (thousandths of a degree) and range biases (tenths of a millimetre).

    ``density`` scales the number of rows and columns of the angular grids.
    """
    rng = np.random.default_rng(seed)
    poses, setups, cameras, exposures = [], [], [], []
    for k, (_, x, y, floor) in enumerate(survey.STATIONS):
        tilt = np.append(rng.normal(0, np.radians(0.003), 2), 0.0)
        turn = rigid.rotation_from(tilt) @ rigid.about_z(rng.uniform(-np.pi, np.pi))
        place = np.array([x, y, floor + survey.HEIGHT]) + rng.normal(0, [0.03, 0.03, 0.02])
        poses.append(rigid.make(turn, place))
        columns, rows = (1130, 480) if k in INDOORS else (1560, 660)
        setups.append(
            Setup(columns=int(columns * density), rows=int(rows * density), bias=float(rng.normal(0, 0.0003)))
        )
        cameras.append(rigid.make(rigid.about_z(rng.uniform(-np.pi, np.pi)), CAMERA[:3, 3]))
        exposures.append(float(rng.uniform(0.85, 1.2)))
    return FieldWork(poses, setups, cameras, exposures)


def build(
    folder: str,
    seed: int = 7,
    density: float = 1.0,
    progress: Progress = QUIET,
    photo_width: int = 4096,
    cores: int | None = None,
) -> None:
    """Write the field data into ``folder`` (replaced whole, so that a break leaves no half-built demo); the
    two files side by side over the cores.

    ``photo_width`` in pixels (twice the height); 0: no photos.
    """
    partial = f"{folder}.part"
    shutil.rmtree(partial, ignore_errors=True)
    os.makedirs(os.path.join(partial, "truth"))
    work = field_work(seed, density)
    pieces = [
        (partial, name, members, seed, density, photo_width) for name, members in [*FILES, (WALK_FILE, ())]
    ]
    *_, walked = Local(cores).map(
        _one_file, pieces, [max(float(len(p[2])), 0.4) for p in pieces], progress, "Scanning the estate"
    )
    _control(os.path.join(partial, CONTROL_FILE), seed)
    design(os.path.join(partial, DESIGN_FILE))
    truth = {
        "poses": [p.tolist() for p in work.poses],
        "scene_to_grid": estate.scene_to_grid().tolist(),
        "biases": [s.bias for s in work.setups],
        "boards": {n: c.tolist() for n, c in estate.board_centres().items()},
        "names": [s[0] for s in survey.STATIONS],
        "walk": walked,
    }
    with open(os.path.join(partial, "truth", "truth.json"), "w") as f:
        json.dump(truth, f, indent=1)
    shutil.rmtree(folder, ignore_errors=True)
    os.replace(partial, folder)


def _one_file(piece, progress: Progress) -> list | None:
    partial, name, members, seed, density, photo_width = piece
    if name == WALK_FILE:
        return _walk(partial, seed, density)
    world, work = estate.build(), field_work(seed, density)
    with e57_writer.Writer(os.path.join(partial, name), guid=_guid(seed, name)) as out:
        for done, k in enumerate(members):
            progress.advance(float(done), float(len(members)))
            _one_scan(
                out, partial, world, work, k, seed, photo_width, posed=name.startswith("settegradini-garden")
            )


def _guid(seed: int, name: str) -> str:
    """The same for the same field work, so that the files are too."""
    return "{" + str(uuid.uuid5(uuid.NAMESPACE_URL, f"settegradini/{seed}/{name}")).upper() + "}"


def _one_scan(out, folder, world, work, k, seed, photo_width, posed):
    setup = work.setups[k]
    data = sweep(world, work.poses[k], setup, epoch=k, seed=seed * 100 + k)
    bad = ~data["valid"]
    columns = ["xyz", "intensity", "row", "column", "invalid"] + (["native_rgb"] if k < 4 else [])
    xyz = np.stack([data["x"], data["y"], data["z"]], 1)
    chunk = dict(
        xyz=xyz,
        intensity=data["intensity"],
        row=data["row"],
        column=data["column"],
        invalid=np.where(bad, 2, 0),
        native_rgb=data["rgb"],
    )
    name = survey.STATIONS[k][0]
    guid = out.add_scan(
        name,
        [chunk],
        columns,
        guid=_guid(seed, name),
        pose=np.eye(4) if posed else None,
        grid=(setup.rows, setup.columns),
        scale=1e-5,
        bounds=(xyz[~bad].min(0), xyz[~bad].max(0)),
        instrument="Simulated tripod scanner",
    )
    truth = {n: data[n][data["valid"]] for n in ("row", "column", "kind", "code", "moved", "clear")}
    np.savez(os.path.join(folder, "truth", f"scan{k + 1}.npz"), **truth)
    if photo_width:
        image = photograph(
            world, work.poses[k] @ work.cameras[k], k, work.exposures[k], photo_width, photo_width // 2
        )
        packed = io.BytesIO()
        Image.fromarray(image).save(packed, "JPEG", quality=88)
        out.add_image(
            packed.getvalue(),
            "spherical",
            image.shape[1],
            image.shape[0],
            scan_guid=guid,
            pose=work.cameras[k],
            name=f"{name} photo",
            guid=_guid(seed, f"{name} photo"),
        )


def _walk(folder: str, seed: int, density: float) -> list:
    """A walk through the lemon house into the store room, as LAZ with times and a text trajectory; returns
    its true pose, frame of the walk to scene.
    """
    made = walk(
        estate.build(),
        outdoors.walk_way(),
        speed=1.1,
        epoch=4,
        seed=seed * 100 + 50,
        setup=replace(RINGS, columns=int(RINGS.columns * density)),
    )
    with las_writer.Writer(os.path.join(folder, WALK_FILE), 1e-4, np.zeros(3), colour=True, time=True) as out:
        out.write({name: made[name] for name in ("xyz", "intensity", "rgb", "time")})
    trajectory.write(
        os.path.join(folder, WALK_PATH), made["path_time"], made["path_xyz"], made["path_heading"]
    )
    return made["pose"].tolist()


def _control(path: str, seed: int) -> None:
    """Six marks in the invented grid, surveyed to half a millimetre; heights are those of the mark on the
    ground.
    """
    rng = np.random.default_rng(seed + 1000)
    grid, centres = estate.scene_to_grid(), estate.board_centres()
    lines = ["# Settegradini local grid; metres", "point,easting,northing,height,target_height,role"]
    for n, (board, role, above) in enumerate(survey.CONTROL, 1):
        e, nn, h = rigid.apply(grid, centres[board][None])[0] + rng.normal(0, 0.0005, 3)
        lines.append(f"L{n},{e:.4f},{nn:.4f},{h - above:.4f},{above:.3f},{role}")
    with open(path, "w", encoding="utf-8") as f:
        f.write("\n".join(lines) + "\n")


def design(path: str, facets: int = 48) -> None:
    """The vault of the culvert as it was designed, as triangles in the grid."""
    (x, y, z), length, radius = outdoors.VAULT
    turn = np.linspace(0, np.pi, facets + 1)
    arch = np.c_[x + radius * np.cos(turn), np.full(facets + 1, y), z + radius * np.sin(turn)]
    corners = rigid.apply(estate.scene_to_grid(), np.r_[arch, arch + (0.0, length, 0.0)])
    with open(path, "w", encoding="utf-8") as f:
        f.write("# Culvert under the lower terrace, vault as designed; Settegradini local grid, metres\n")
        f.writelines(f"v {e:.4f} {n:.4f} {h:.4f}\n" for e, n, h in corners)
        for k in range(1, facets + 1):
            far = k + facets + 1
            f.write(f"f {k} {k + 1} {far + 1}\nf {k} {far + 1} {far}\n")
