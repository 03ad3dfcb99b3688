"""The demo's second day: five more set-ups on the estate, in a frame of that day, which see boards of the
first day again.  Four came with poses, one of them wrong; the fifth sees none of the others.
"""

import json
import os
import uuid

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.demo import drawn
from terrazza.demo import settegradini as estate
from terrazza.demo.survey import HEIGHT, HOUSE
from terrazza.formats import e57_writer
from terrazza.instruments.scanner import Setup, sweep

CLOUD = "settegradini-day-two.e57"
# (name, x, y), all on the floor of the house
STATIONS = [
    ("Lemon house west, again", -4.4, 11.2),
    ("Lemon house middle", 1.2, 10.4),
    ("Lemon house east, again", 7.6, 11.3),
    ("House terrace, again", -5.2, 2.6),
    ("Press room, again", 23.2, 10.7),
]
WRONG, SLIPPED = (
    2,
    np.array([0.31, -0.22, 0.0]),
)  # so far off (m) the third's pose was noted
ALONE = 4  # nobody noted where the fifth stood
EPOCH = 9


def poses(seed: int = 21) -> list[np.ndarray]:
    """True poses (4×4, scanner → scene) of the set-ups, upright to thousandths of a degree."""
    rng = np.random.default_rng(seed)
    out = []
    for _, x, y in STATIONS:
        lean = np.append(rng.normal(0, np.radians(0.003), 2), 0.0)
        turn = rigid.rotation_from(lean) @ rigid.about_z(rng.uniform(-np.pi, np.pi))
        out.append(rigid.make(turn, np.array([x, y, HOUSE + HEIGHT]) + rng.normal(0, [0.03, 0.03, 0.02])))
    return out


def build(folder: str, seed: int = 21, density: float = 1.0, progress: Progress = QUIET) -> None:
    """Write the scans, the crew's sketch and, under ``truth``, where they stood."""
    world, true, path = estate.build(), poses(seed), os.path.join(folder, CLOUD)
    day = rigid.inverse(rigid.make(np.eye(3), true[0][:3, 3]))  # the day's frame begins over its first set-up
    os.makedirs(os.path.join(folder, "truth"), exist_ok=True)
    setup = Setup(columns=int(1130 * density), rows=int(480 * density), bias=0.0002)
    with e57_writer.Writer(f"{path}.part", guid=_guid(seed, CLOUD)) as out:
        for k, ((name, *_), pose) in enumerate(zip(STATIONS, true)):
            progress.advance(float(k), float(len(STATIONS)))
            data = sweep(world, pose, setup, epoch=EPOCH, seed=seed * 100 + k)
            given = day @ pose
            if k == WRONG:
                given = rigid.make(given[:3, :3], given[:3, 3] + SLIPPED)
            xyz, bad = np.stack([data["x"], data["y"], data["z"]], 1), ~data["valid"]
            out.add_scan(
                name,
                [{**{c: data[c] for c in ("intensity", "row", "column")}, "xyz": xyz, "invalid": 2 * bad}],
                ["xyz", "intensity", "row", "column", "invalid"],
                guid=_guid(seed, name),
                pose=None if k == ALONE else given,
                grid=(setup.rows, setup.columns),
                scale=1e-5,
                bounds=(xyz[~bad].min(0), xyz[~bad].max(0)),
                instrument="Simulated tripod scanner",
            )
    drawn.sketch(os.path.join(folder, drawn.SKETCH), STATIONS, seed)
    os.replace(f"{path}.part", path)
    with open(os.path.join(folder, "truth", "second.json"), "w", encoding="utf-8") as file:
        json.dump({"poses": [p.tolist() for p in true], "names": [s[0] for s in STATIONS]}, file)


def _guid(seed: int, name: str) -> str:
    return "{" + str(uuid.uuid5(uuid.NAMESPACE_URL, f"settegradini/second/{seed}/{name}")).upper() + "}"
