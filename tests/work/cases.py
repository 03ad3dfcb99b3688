"""One case of every operation, small enough to be killed and started again many times."""

import json

import numpy as np
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.operations.spine.base import find
from tests import scenes

TABLE = {
    "measure.take",
    "pins.put",
    "boxes.put",
    "table.keep_view",
    "table.notation",
    "table.take_away",
    "table.rename",
    "deliver.measures",
    "deliver.pins",
}
SMALL = TABLE | {
    "register.strips",
    "register.passes",
    "register.strip_differences",
    "register.walk",
    "surface.ground",
    "surface.contours",
    "surface.volume",
    "surface.rooms",
    "surface.unrolled",
    "deliver.report",
    "deliver.certificate",
    "deliver.handover",
    "deliver.paths",
    "pins.bring",
    "deliver.dxf",
    "draw.rename",
    "draw.plan_slabs",
    "draw.bring",
    "deliver.csv",
    "draw.plane_slab",
    "draw.section",
    "draw.sections",
    "draw.paint",
    "draw.line",
    "draw.layers",
    "draw.text",
    "draw.dimension",
    "draw.move_corners",
    "draw.reshape",
    "classify.name_class",
    "surface.deviation",
    "surface.deviation_sections",
    "surface.picture",
    "deliver.landxml",
    "deliver.sheet",
    "deliver.geojson",
    "register.choose",
    "register.looked_through",
    "register.like_points",
    "register.join",
    "import.job",
    "import.complete",
    "import.walk",
    "register.adjust",
    "register.double_walls",
    "register.automatic",
    "register.cloud_fit",
    "classify.ground",
    "clean.shelf",
    "clean.off_shelf",
    "clean.mixed_pixels",
    "clean.specks",
    "clean.moved_things",
    "clean.mirrors",
    "clean.surface",
    "classify.by_itself",
    "classify.by_place",
    "classify.by_size",
    "classify.change",
    "classify.rooms",
    "classify.open_air",
    "classify.example",
    "classify.drop_example",
    "classify.by_example",
    "deliver.las",
    "deliver.ply",
    "deliver.copc",
    "deliver.pts",
    "deliver.ptx",
}
WAY = np.c_[np.arange(10), np.linspace(1.5, 6, 10), np.full(10, 2.0), np.full(10, 1.6)]  # of the walk
LOOK = [[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0, 0], [0, 0, 0, 1]]
CASES = {
    "import.files": {"files": ["ROOM"]},
    "import.complete": {},
    "import.walk": {"scan": 4, "trajectory": "WALK"},
    "import.edit_scan": {"scan": 1, "name": "Other"},
    "import.add_photo": {"scan": 1, "picture": "PANORAMA"},
    "import.edit_photo": {"photo": "1-0", "turn_deg": 5},
    "import.remove_scan": {"scan": 8},
    "import.job": {"job": "Other", "scans": [1]},
    "register.automatic": {"scans": [1, 2, 3]},
    "register.adjust": {},
    "register.hold": {"scan": 1},
    "register.double_walls": {},
    "register.cloud_fit": {"scan": 2, "neighbour": 1},
    "register.like_points": {"scan": 2, "neighbour": 1, "pairs": "ALIKE"},
    "register.join": {"island": 2, "pose": np.eye(4).ravel().tolist()},
    "register.leave_out": {"scan": 3},
    "register.looked_through": {"who": "A. Topografa"},
    "register.tie": {"a": 1, "b": 2, "on": False},
    "register.strips": {"trajectory": "PATH", "scans": [5], "signs": "+ +"},
    "register.passes": {"trajectory": "PATH", "scans": [5], "signs": "+ +", "turns": "Turns"},
    "register.strip_differences": {"trajectory": "PATH", "scans": [5], "signs": "+ +"},
    "register.strip_control": {"control": "CONTROL"},
    "register.walk": {"scans": [4], "width": 0.3},
    "register.sketch": {
        "picture": "PANORAMA",
        "known": [[0, 0, 0, 0], [9, 9, 5, -5]],
        "stations": [[4, 5, 5]],
    },
    "register.choose": {"scan": 2, "alternative": 2},
    "register.set_pose": {"scan": 4, "x": 0, "y": 0, "z": 0, "heading_deg": 10},
    "georeference.control": {"control": "CONTROL"},
    "georeference.drop_target": {"target": 1},
    "georeference.name_target": {"target": 1, "name": "Cancello"},
    "georeference.level": {},
    "georeference.bend": {},
    "georeference.match": {"point": "L1", "target": 1},
    "georeference.pick_target": {"scan": 1, "x": 1.5, "y": 0, "z": 0},
    "georeference.role": {"point": "L1", "check": True},
    "georeference.targets": {"scans": [1, 2]},
    "georeference.crs": {"code": "EPSG:25832"},
    "georeference.heights": {"by": 1.0},
    "georeference.write_control": {},
    "clean.outliers": {"scans": [1, 2]},
    "clean.outline": {"view": LOOK, "polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]]},
    "boxes.around": {"view": LOOK, "polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]]},
    "clean.put_back": {"cut": "CUT"},
    "clean.mixed_pixels": {"scans": [1, 2]},
    "clean.specks": {"scans": [1, 2]},
    "clean.moved_things": {"scans": [1]},
    "clean.mirrors": {"scans": [1]},
    "clean.surface": {"patches": "FLOOR", "take": "within", "scans": [1, 2]},
    "clean.shelf": {"shelf": "Aside", "apart": False},
    "clean.off_shelf": {"shelf": "Aside"},
    "colorize.photos": {"scans": [1, 2]},
    "colorize.take_off": {"scans": [1]},
    "colorize.turn_photos": {"scans": [1]},
    "classify.ground": {"threshold": 0.1, "scans": [1]},
    "classify.height_bands": {},
    "classify.by_itself": {"what": "range", "high": 5, "to": 64, "scans": [1]},
    "classify.by_place": {"areas": [[[-9, -9], [9, -9], [9, 9]]], "to": 65, "scans": [1]},
    "classify.by_size": {"to": 66, "least": [0, 0, 0.5], "scans": [1]},
    "classify.rooms": {"scans": [1]},
    "classify.open_air": {"scans": [1]},
    "classify.example": {"view": LOOK, "polygon": [[-9, -9], [9, -9], [9, 9], [-9, 9]], "to": "6"},
    "classify.drop_example": {"example": 1},
    "classify.by_example": {"scans": [1]},
    "classify.change": {"pairs": [[1, 64]]},
    "draw.plan_slab": {},
    "draw.plan_slabs": {"every": 1.0},
    "draw.plane_slab": {"line": [[0.0, 0.0], [8.0, 0.0]]},
    "draw.rooms": {},
    "draw.sections": {"line": [[0.5, 2.0], [7.5, 2.0]], "every": 3, "thickness": 0.2},
    "draw.section": {"line": [[0.5, 2.0], [7.5, 2.0]], "thickness": 0.2},
    "surface.ground": {"classes": [0, 1, 2], "cell": 0.3, "scans": [1]},
    "surface.contours": {"step": 0.5},
    "surface.volume": {"outline": [[1, 1], [3, 1], [3, 3]], "below": "0", "above": "1"},
    "surface.deviation": {"reach": 0.05, "scans": [1]},
    "surface.deviation_sections": {"line": [[1, 2], [7, 2]], "every": 3, "reach": 0.05},
    "surface.flatness": {"at": "FLOOR", "path": "flat.csv"},
    "surface.rooms": {"outline": [[1, 1], [6, 1], [6, 5], [1, 5]], "height": 1.5, "path": "rooms.csv"},
    "surface.unrolled": {"axis": [[0, 3, 1.5], [8, 3, 1.5]], "radius": 3.0, "pixel": 0.1, "reach": 1.5},
    "surface.picture": {"pixel": 0.1, "box": [0, 0, 8, 6]},
    "draw.break_lines": {"at": "FLOOR", "heading_deg": 0, "corners": [[-0.5, 0], [0.5, 0]]},
    "draw.paint": {"at": "PLACE", "which": "all as bright", "reach": 4},
    "draw.rename": {"drawing": 1, "name": "A"},
    "draw.layers": {"path": "LAYERS"},
    "draw.dimension": {"at": [[0, 0, 0], [1, 0, 0], [3, 1, 0]]},
    "draw.text": {"text": "A", "at": [0, 0, 0]},
    "draw.line": {"at": [[0, 0, 0], [1, 0, 0], [1, 1, 0]], "closed": True},
    "draw.move_corners": {"drawing": 1, "line": 1, "at": [[0, 0, 0], [1, 0, 0]]},
    "draw.reshape": {"drawing": 1, "line": 1, "how": "copy", "shift": [0, 0, 1]},
    "classify.name_class": {"code": 70, "name": "Lemon"},
    "measure.take": {"points": [{"scan": 1, "at": [1, 2, 0]}, {"scan": 2, "at": [0, 1, 1]}]},
    "pins.put": {"points": [{"scan": 1, "at": [1, 2, 0]}]},
    "boxes.put": {"centre": [0, 0, 0], "size": [4, 5, 6], "name": "box 1"},
    "table.keep_view": {"name": "A", "address": "plan=1"},
    "table.notation": {},
    "table.take_away": {"kind": "box", "number": 1},
    "table.rename": {"kind": "box", "number": 1, "name": "B"},
    "draw.bring": {"path": "SHAPES"},
    "deliver.csv": {},
    "deliver.photos": {"scans": [1]},
    "deliver.views": {"scans": [1], "stops": False},
    "deliver.paths": {},
    "deliver.measures": {},
    "deliver.pins": {},
    "deliver.e57": {"scans": [1, 2]},
    "deliver.laz": {"spacing": 0.1, "scans": [1, 2]},
    "deliver.las": {"spacing": 0.2, "scans": [1]},
    "deliver.copc": {"spacing": 0.2, "scans": [1]},
    "deliver.ply": {"spacing": 0.2, "scans": [1]},
    "deliver.pts": {"spacing": 0.2, "scans": [1]},
    "deliver.ptx": {"scans": [1]},
    "deliver.xyz": {"classes": [2], "scans": [1]},
    "deliver.dxf": {},
    "deliver.sheet": {"drawing": 1},
    "deliver.landxml": {},
    "deliver.geojson": {},
    "deliver.report": {},
    "deliver.certificate": {},
    "deliver.handover": {"most": 5000},
    "pins.bring": {"path": "NOTES"},
}


def params_of(operation, job, field, folder):
    """The case's parameters with what this job has put in."""
    if operation == "import.files" and not (folder / "room.e57").exists():
        scenes.write_room(folder / "room.e57", posed=True, rows=60, columns=140)
    if operation in {"import.add_photo", "register.sketch"}:
        Image.new("RGB", (64, 32), "olive").save(folder / "pano.png")
    if operation == "draw.bring":
        shape = {"type": "LineString", "coordinates": [[0, 0, 1], [1, 0, 1]]}
        feature = {"type": "Feature", "properties": {}, "geometry": shape}
        whole = {"type": "FeatureCollection", "features": [feature]}
        (folder / "lines.geojson").write_text(json.dumps(whole))
    if operation == "draw.layers":
        (folder / "layers.csv").write_text("layer,for\nA,WALLS\n")
    text = (
        json.dumps(CASES[operation])
        .replace("LAYERS", str(folder / "layers.csv"))
        .replace("ROOM", str(folder / "room.e57"))
        .replace("SHAPES", str(folder / "lines.geojson"))
        .replace("PANORAMA", str(folder / "pano.png"))
        .replace("PATH", str(folder / "path.txt"))
        .replace("WALK", str(folder / "walk.txt"))
        .replace("NOTES", str(folder / "notes.csv"))
        .replace("CONTROL", str(field / "settegradini-control.csv"))
        .replace('"CUT"', next(iter(job.facts("cut")), "0"))
        .replace('"FLOOR"', json.dumps([_under(job)]))
        .replace('"PLACE"', json.dumps(_bright(job) if operation == "draw.paint" else 0))
        .replace('"ALIKE"', json.dumps(_alike(job) if operation == "register.like_points" else []))
    )
    return find(operation).check(json.loads(text)).model_dump()


def _under(job):
    """A place of the floor beside the first scan's station (grid, or job frame)."""
    xyz = job.cloud(1).at(job.cloud(1).sample(50_000))
    near = xyz[(np.abs(np.linalg.norm(xyz[:, :2], axis=1) - 2.0) < 0.3) & (xyz[:, 2] < -1.0)]
    pose = job.grid_pose(job.scan(1)) if job.scan(1).pose is not None else np.eye(4)
    return rigid.apply(pose, near[:1])[0].tolist()


def _bright(job):
    """A place of the floor that sends back much (grid, or job frame)."""
    cloud, pose = job.cloud(1), job.grid_pose(job.scan(1))
    index = cloud.sample(50_000)
    xyz, tone = cloud.at(index), cloud.pick("intensity", index)
    floor = (xyz[:, 2] < -1.0) & (np.abs(np.hypot(xyz[:, 0], xyz[:, 1]) - 1.5) < 0.3) & (tone > 30_000)
    return rigid.apply(pose, xyz[floor][:1])[0].tolist()


def _alike(job):
    """Two corners of the room, each in the frames of scans 2 and 1."""
    corners = np.array([[0.0, 0.0, 0.0], [8.0, 6.0, 3.0]])
    own = [rigid.apply(rigid.inverse(job.scan(k).pose), corners) for k in (2, 1)]
    return np.stack(own, 1).tolist()
