"""Large scans for the other benchmarks, by the simulated instruments at a higher resolution, streamed to one
LAZ and one E57 file.

python benchmarks/big_files.py FOLDER MILLIONS [MILLIONS …]

Writes FOLDER/big-MILLIONS.laz and .e57: one scan from one station of the demo estate, swept again and again
with the azimuths between those of the sweep before, until it has that many points.
"""

import contextlib
import os
import sys

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.demo import settegradini as estate
from terrazza.demo.build import field_work
from terrazza.formats import e57_writer, las_writer
from terrazza.instruments.scanner import Setup, sweep

COLUMNS, ROWS = 4200, 1800


def sweeps(points: int):
    """Chunks of about seven million points until there are ``points`` of them."""
    world, pose, done, number = estate.build(), field_work().poses[4], 0, 0
    while done < points:
        share = (number * 0.6180339887498949) % 1.0
        turn = rigid.about_z(2 * np.pi / COLUMNS * share)
        lift = np.radians(150.0) / ROWS * ((number * 0.7548776662466927) % 1.0 - 0.5)
        setup = Setup(
            columns=COLUMNS, rows=ROWS, lowest=np.radians(-60.0) + lift, highest=np.radians(90.0) + lift
        )
        data = sweep(world, rigid.make(pose[:3, :3] @ turn, pose[:3, 3]), setup, epoch=4, seed=1000 + number)
        take = np.flatnonzero(data["valid"])[: points - done]
        xyz = np.stack([data["x"], data["y"], data["z"]], 1)[take] @ turn.T
        done, number = done + len(take), number + 1
        yield {
            "xyz": xyz,
            "intensity": data["intensity"][take],
            "native_rgb": data["rgb"][take],
            "rgb": data["rgb"][take],
            "class": np.zeros(len(take), np.uint8),
        }
        print(f"{done / 1e6:.1f} M points", flush=True)


def make(folder: str, millions: int) -> None:
    path = os.path.join(folder, f"big-{millions}")
    with contextlib.ExitStack() as stack:
        laz = stack.enter_context(las_writer.Writer(f"{path}.laz", 1e-4, np.zeros(3), colour=True))

        def both():
            for chunk in sweeps(millions * 1_000_000):
                for start in range(0, len(chunk["xyz"]), 1_000_000):
                    laz.write({k: v[start : start + 1_000_000] for k, v in chunk.items()})
                yield chunk

        out = stack.enter_context(e57_writer.Writer(f"{path}.e57"))
        out.add_scan(
            "Big", both(), ["xyz", "intensity", "native_rgb"], bounds=(np.full(3, -75.0), np.full(3, 75.0))
        )


if __name__ == "__main__":
    os.makedirs(sys.argv[1], exist_ok=True)
    for word in sys.argv[2:]:
        make(sys.argv[1], int(word))
