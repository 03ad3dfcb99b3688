"""The sheets: for each step its sentence, its forms and its results."""

import os

import numpy as np

from terrazza.core.classify import classes as class_names
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.errors import NotFound
from terrazza.operations.deliver.folders import called
from terrazza.operations.draw.beneath import words
from terrazza.operations.georeference.sightings import layout, places, target_warnings
from terrazza.operations.pieces.counting import class_counts, class_namer
from terrazza.operations.register.holding import blocks_of, holder
from terrazza.operations.register.judging import verdict
from terrazza.operations.register.looked_through import ADJUSTING, due
from terrazza.operations.register.statement import statement
from terrazza.operations.register.strips_told import strips_told
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine.base import all_operations, title
from terrazza.operations.spine.job import Job, covariance_of
from terrazza.web.contexts import inbox
from terrazza.web.contexts.forms import form

HALF, CLOSE_UP = (
    1.5,
    0.002,
)  # m of slab to either side of a double wall, and m a pixel of plan and slab that show it


def build(job: Job, step: str) -> dict:
    """Context of one step's sheet, with the name of its ``template``."""
    makers = {
        "import": _import,
        "register": _register,
        "georeference": _georeference,
        "clean": _clean,
        "colorize": _colorize,
        "classify": _classify,
        "draw": _draw,
        "deliver": _deliver,
    }
    if step not in makers:
        raise NotFound(f"There is no step “{step}”.", f"Steps are {', '.join(makers)}.")
    scans = [_scan(job, s) for s in job.scans()]
    return {
        "more": _more(job, step),
        "inbox_names": sorted(os.listdir(job.subfolder("inbox"))),
        "template": f"_sheet_{step}.html",
        "step": step,
        "job": job.row,
        "scans": scans,
        "points": sum(s["points"] for s in scans),
        "placed": sum(s["placed"] for s in scans),
        "georeferenced": job.georeferenced,
        **makers[step](job),
    }


# operations that a sheet shows in a place of their own, or that gestures and lists start
BY_HAND = frozenset(
    """import.files import.complete import.edit_scan import.walk import.remove_scan import.add_photo
    import.edit_photo register.automatic register.adjust register.set_pose register.cloud_fit
    register.like_points register.hold register.sketch
    register.double_walls register.looked_through register.leave_out register.tie register.choose
    georeference.targets georeference.control georeference.level georeference.bend georeference.match
    georeference.pick_target georeference.role georeference.drop_target georeference.name_target
    clean.outliers clean.outline
    clean.put_back clean.shelf clean.off_shelf colorize.photos colorize.take_off classify.ground
    classify.height_bands classify.example classify.drop_example draw.plan_slab draw.section draw.rename
    draw.line draw.move_corners
    deliver.e57 deliver.laz deliver.copc deliver.las
    deliver.xyz deliver.ptx deliver.pts deliver.ply deliver.dxf deliver.report deliver.measures
    deliver.pins deliver.handover""".split()
)
LISTED = 24  # lines of a drawing that the sheet lists one by one
MOVES = 8  # of the last step from class to class that are listed
FIRST = 3  # numbers of a form that are shown at once; the others on a touch


def _more(job: Job, step: str) -> list[dict]:
    """Forms of the step's other operations, made from their declarations."""
    out = []
    for operation in all_operations():
        if operation.step.lower() == step and operation.name not in BY_HAND:
            about = form(job, operation.name)
            names = [p["name"] for p in about["params"] if p["widget"] != "scans" and p["name"] != "within"]
            out.append(about | {"tries": operation.tries, "first": tuple(names[:FIRST])})
    return out


def _scan(job: Job, scan) -> dict:
    grid = job.get("frame", "", {}).get("covariances") or {}
    own = np.array(grid[str(scan.id)]) if str(scan.id) in grid else covariance_of(scan.pose_record)
    sigma = np.sqrt(np.maximum(np.diag(own), 0)) if own is not None else None
    pose = job.grid_pose(scan) if scan.pose is not None else None
    return {
        "id": scan.id,
        "name": scan.name,
        "points": scan.points,
        "placed": pose is not None,
        "fixed": bool(scan.pose_record.get("fixed")),
        "out": bool(job.get("left_out", scan.id)),
        "how": scan.pose_record.get("how", ""),
        "place": pose[:3, 3].tolist() if pose is not None else None,
        "heading_deg": float(np.degrees(np.arctan2(pose[1, 0], pose[0, 0]))) if pose is not None else 0.0,
        "sigma_mm": float(sigma[3:].max() * 1000) if sigma is not None else None,
        "sigma_mdeg": float(np.degrees(sigma[:3].max()) * 1000) if sigma is not None else None,
        "dropped": scan.record.get("dropped", 0),
        "grid": scan.record.get("grid"),
        "instrument": scan.record.get("instrument", ""),
        "file": scan.record["file"],
        "notes": scan.record.get("notes", ""),
        "block": scan.record.get("block", ""),
        "held": bool(job.get("held", scan.id)),
        "holder": holder(job, scan),
        "every": scan.record.get("taken", {}).get("every", 1),
        "timed": bool(job.get("column", f"{scan.id}/time")),
        "photo": any(p["scan"] == scan.id for p in job.facts("photo").values()),
        "coloured": bool(job.get("column", f"{scan.id}/photo_rgb")),
    }


def _last(job: Job, name: str) -> dict | None:
    """Figures of the last living entry of an operation."""
    found = job.last_entries().get(name)
    return (found.figures | {"number": found.number}) if found else None


def _import(job: Job) -> dict:
    return {
        "inbox": inbox.build(job),
        "form": form(job, "import.files"),
        "complete": form(job, "import.complete"),
        "edit": form(job, "import.edit_scan"),
        "walk": form(job, "import.walk"),
        "remove": form(job, "import.remove_scan"),
        "photos": job.facts("photo"),
        "add_photo": form(job, "import.add_photo"),
        "edit_photo": form(job, "import.edit_photo"),
        "latest": _last(job, "import.files"),
    }


def _register(job: Job) -> dict:
    network = job.get("network") or {}
    return {
        "ties": list(job.facts("tie").values()),
        "rms_mm": network.get("rms_mm"),
        "verdict": verdict(network.get("rms_mm")),
        "automatic": form(job, "register.automatic"),
        "adjust": form(job, "register.adjust"),
        "set_pose": form(job, "register.set_pose"),
        "cloud_fit": form(job, "register.cloud_fit"),
        "doubted": _doubted(job),
        "revision": queries.revision(job.row.id),
        "double_walls": form(job, "register.double_walls"),
        "doubles": _doubles(job, network),
        "looked": "doubles" in network,
        "statement": statement(job),
        "due": due(job),
        "adjusted": _adjusted(job),
        "strips": strips_told(job),
        "sketch": form(job, "register.sketch"),
        "sketches": job.facts("sketch"),
        "looked_through": form(job, "register.looked_through"),
        "blocks": _blocks(job),
        "ties_off": {k for k, c in job.facts("tie_choice").items() if not c["on"]},
    }


def _blocks(job: Job) -> list[dict]:
    """Blocks, outer ones before those in them: name, how many scans, whether held."""
    count: dict[str, int] = {}
    for scan in job.scans():
        for name in blocks_of(scan):
            count[name] = count.get(name, 0) + 1
    return [{"name": n, "scans": k, "held": bool(job.get("held_block", n))} for n, k in sorted(count.items())]


def _adjusted(job: Job) -> dict | None:
    """What the last adjustment changed, as long as nothing was registered anew since."""
    last = max(
        (e for name, e in job.last_entries().items() if name in ADJUSTING),
        key=lambda e: e.number,
        default=None,
    )
    return last.figures if last and "moved" in (last.figures or {}) else None


def _doubles(job: Job, network: dict) -> list[dict]:
    """Double walls of scans that are here, each with the address of the view that shows it: a slab across it,
    colours by scan.
    """
    there, out = {s.id for s in job.scans(placed=True)}, []
    for d in network.get("doubles") or []:
        if {d["a"], d["b"]} <= there:
            at, across = (
                rigid.apply(job.frame, np.array([d["at"]]))[0],
                job.frame[:3, :3] @ np.array(d["normal"]),
            )
            flat = (
                across[:2] / np.linalg.norm(across[:2])
                if np.linalg.norm(across[:2]) > 0.3
                else np.array([1.0, 0.0])
            )
            ends = np.r_[at[:2] - HALF * flat, at[:2] + HALF * flat]
            words = {
                "plan": [*at[:2], CLOSE_UP],
                "space": [*at, 6, 0.6, 0.5],
                "slab": [*ends, HALF, at[2], CLOSE_UP, 0.1],
                "cut": [1, at[2], 0.05],
            }
            out.append(
                d
                | {
                    "look": ";".join(
                        f"{k}={','.join(f'{v:.4f}' for v in values)}" for k, values in words.items()
                    )
                    + ";colour=scan;plan-as=same"
                }
            )
    return out


def _doubted(job: Job) -> list[dict]:
    """Scans whose placement is not certain, with the places (x, y) of what there is to choose from."""
    names = {s.id: s.name for s in job.scans()}
    return [
        {
            "id": int(k),
            "name": names[int(k)],
            "doubt": v["doubt"],
            "island": v["island"],
            "stands": v["matrix"] is not None,
            "places": [(job.frame @ np.array(m))[:3, 3].tolist() for m in v["alternatives"]]
            if v["island"] in {1, None}
            else [],
        }
        for k, v in job.facts("standing").items()
        if v["doubt"] and int(k) in names
    ]


def _georeference(job: Job) -> dict:
    groups = places(job) if job.facts("target") else []
    targets = [{"number": int(k), "name": "", **t} for k, t in job.facts("target").items()]
    targets.sort(
        key=lambda t: (
            t["dropped"],
            -layout.doubt(
                t["sigma"], t.get("fit") or 1.0, t.get("range") or 0.0, t.get("incidence_deg") or 0.0
            ),
        )
    )
    texts = inbox.build(job)["texts"]
    control = job.facts("control")
    role_values = {
        n: {"point": n, "check.there": "1"} | ({} if c["check"] else {"check": "on"})
        for n, c in control.items()
    }
    return {
        "frame": job.get("frame"),
        "role_values": role_values,
        "targets": targets,
        "groups": groups,
        "poor": target_warnings(job),
        "texts": texts,
        "find_targets": form(job, "georeference.targets"),
        "control_form": form(job, "georeference.control"),
        "level": form(job, "georeference.level"),
        "bend": form(job, "georeference.bend"),
        "crs": job.get("crs"),
        "demo_control": _demo_control(job),
    }


def _demo_control(job: Job) -> str:
    """Path of a control file that lies beside the imported files, where there is one."""
    last = job.entries("import.files")
    for folder in {os.path.dirname(p) for e in last for p in e.params.get("files", [])}:
        for name in (
            sorted(os.listdir(folder))
            if job.reaches(os.path.join(folder, "any")) and os.path.isdir(folder)
            else ()
        ):
            if name.lower().endswith(".csv"):
                return os.path.join(folder, name)
    return ""


def _clean(job: Job) -> dict:
    entries = {k: v.get("entry") or int(k) for k, v in job.facts("cut").items()}
    by = {n: name for name, n in queries.operations_of(job.row.id, list(entries.values()))}
    titles = {k: title(by[n]) if n in by else "" for k, n in entries.items()}
    cuts = [
        v | {"number": int(k), "entry": entries[k], "title": titles[k]} for k, v in job.facts("cut").items()
    ]
    latest = job.last_of_step("clean.")
    figures = (latest.figures | {"title": title(latest.operation)}) if latest else None
    return {
        "cuts": cuts,
        "outliers": form(job, "clean.outliers"),
        "latest": figures if figures and "by_range" in figures else None,
        "shelves": [{"number": int(k), **v} for k, v in job.facts("shelf").items()],
    }


def _colorize(job: Job) -> dict:
    return {
        "photos": list(job.facts("photo").values()),
        "form": form(job, "colorize.photos"),
        "latest": _last(job, "colorize.photos"),
    }


def _classify(job: Job) -> dict:
    name = class_namer(job)
    last = job.last_of_step("classify.", "classes")
    rows = (last.figures.get("classes") if last else None) or [
        r | {"before": r["points"], "after": r["points"]} for r in class_names.shares(class_counts(job), name)
    ]
    return {
        "classes": rows,
        "moved": (last.figures.get("moved") or [])[:MOVES] if last else [],
        "ground": form(job, "classify.ground"),
        "bands": form(job, "classify.height_bands"),
        "examples": [{"number": int(k), "of": name(v["code"]), **v} for k, v in job.facts("example").items()],
    }


def _drawing(number: int, drawing: dict) -> dict:
    """A drawing with its lines, where they are few, and what each layer holds of them."""
    layers: dict[str, dict] = {}
    for line in drawing["lines"]:
        layer = layers.setdefault(line["layer"], {"name": line["layer"], "lines": 0, "length": 0.0})
        layer["lines"] += 1
        layer["length"] += line["length"]
    listed = drawing["lines"] if len(drawing["lines"]) <= LISTED else []
    thickness = drawing.get("thickness")
    kind = "section" if drawing.get("course") else "front" if drawing.get("plane") else "plan"
    told = {"id": number, "kind": kind, "layers": list(layers.values()), "listed": listed}
    return drawing | told | {"thickness": thickness}


def _draw(job: Job) -> dict:
    return {
        "drawings": [_drawing(int(k), d) for k, d in job.facts("drawing").items()],
        "moved_beneath": words(job),
        "form": form(job, "draw.plan_slab"),
        "section": form(job, "draw.section"),
        "flat": _last(job, "surface.flatness"),
    }


def _deliver(job: Job) -> dict:
    delivered = job.facts("deliverable")
    stale = fieldbook.stale_files(job.row, delivered)
    files = [
        {"number": n, "name": called(path, d), "there": os.path.isfile(path), **d}
        | {"stale": stale.get(path, "")}
        for n, (path, d) in enumerate(delivered.items(), 1)
    ]
    codes = [r["code"] for r in class_names.shares(class_counts(job))] if job.scans() else []
    return {
        "files": files,
        "stale": any(f["stale"] and f["operation"].startswith("deliver.") for f in files),
        "codes": codes,
        "crs": job.get("crs"),
        "forms": {
            k: form(job, f"deliver.{k}")
            for k in ("e57", "laz", "copc", "las", "xyz", "ptx", "pts", "ply", "dxf", "report", "handover")
        },
        "drawn": bool(job.facts("drawing")),
    }
