"""Targets of the scans: found, picked, put together where several scans saw one, and what is wrong with where
they hang.
"""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.fleet import few
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.job import Job, Scan
from terrazza.operations.surfaces import CloudPiece

checkerboards = later("terrazza.core.register.targets")
discs = later("terrazza.core.register.discs")
layout = later("terrazza.core.georef.layout")
sighted = later("terrazza.core.register.sighted")
spheres = later("terrazza.core.register.spheres")

SAME_PLACE = 0.10
FLOOR_SIGMA = 0.0002
REACH = 40.0  # m: targets beyond this are not looked for
KINDS = ("checkerboard", "sphere", "disc")


def _detect(args, progress: Progress) -> "list[sighted.Target]":
    piece, kinds, sizes, reach = args
    cloud = piece.open()
    if not cloud.has("row") or not cloud.has("intensity"):
        return []
    grid = sighted.Grid.of(
        cloud.values("row", 0).astype(np.int64),
        cloud.values("column", 0).astype(np.int64),
        cloud.xyz(),
        cloud.values("intensity", 0),
    )
    found: list = []
    for kind in kinds:
        look = {"checkerboard": checkerboards.checkerboards, "sphere": spheres.spheres, "disc": discs.discs}[
            kind
        ]
        size = sizes.get(kind) or None
        more = look(grid, size / 2 if size and kind == "sphere" else size, reach)
        found += [
            t
            for t in more
            if all(np.linalg.norm(t.centre - o.centre) > max(t.edge, o.edge) / 2 for o in found)
        ]  # one thing is one kind of target
    progress.advance(cloud.count, cloud.count)
    return found


def find_targets(
    job: Job,
    scans: list[Scan],
    progress: Progress,
    kinds: tuple[str, ...] = KINDS,
    sizes: dict[str, float] | None = None,
    reach: float = REACH,
) -> int:
    """Detect targets of ``kinds`` in the scans and put them as facts; those set by hand stay.  ``sizes`` (m)
    by kind: edge of a board, diameter of the others, where told.

    Returns how many are known then.
    """
    pieces = [(CloudPiece.of(job, s), kinds, sizes or {}, reach) for s in scans]
    results = job.fleet.map(
        _detect,
        pieces,
        [s.points for s in scans],
        progress,
        "Looking for targets",
        light=few([s.points for s in scans]),
    )
    chosen = {s.id for s in scans}
    for key, old in list(job.facts("target").items()):
        if old["scan"] in chosen and old.get("kind", KINDS[0]) in kinds and not old.get("by_hand"):
            job.put("target", key, None)
    number = job.next_number("target") - 1
    for scan, found in zip(scans, results):
        for target in found:
            number += 1
            job.put(
                "target",
                number,
                {
                    "scan": scan.id,
                    "kind": target.kind,
                    "centre": target.centre.tolist(),
                    "sigma": max(target.sigma, FLOOR_SIGMA),
                    "normal": target.normal.tolist(),
                    "range": target.range,
                    "incidence_deg": float(np.degrees(target.incidence)),
                    "fit": target.fit,
                    "points": target.points,
                    "edge": target.edge,
                    "dropped": False,
                },
                scan=scan.id,
            )
    return len(job.facts("target"))


def places(job: Job) -> list[dict]:
    """Physical targets: sightings of placed scans within 0.1 m of each other, job frame, weighed by their
    sigmas.

    Rows of ``targets`` (numbers), ``centre`` (3, m, freed of the scans' range bias), ``sigma`` (m),
    ``spread`` (m, largest distance from the centre).
    """
    scans = {s.id: s for s in job.scans(placed=True)}
    seen = []
    for key, t in job.facts("target").items():
        if t["scan"] in scans and not t["dropped"]:
            seen.append(
                (int(key), t, rigid.apply(scans[t["scan"]].pose, true_centre(t, scans[t["scan"]])[None])[0])
            )
    groups: list[list] = []
    for item in sorted(seen, key=lambda i: i[1]["sigma"]):
        near = next((g for g in groups if np.linalg.norm(g[0][2] - item[2]) < SAME_PLACE), None)
        groups.append([item]) if near is None else near.append(item)
    rows = []
    for group in groups:
        weight = np.array([1 / t["sigma"] ** 2 for _, t, _ in group])
        centre = sum(w * c for w, (_, _, c) in zip(weight, group)) / weight.sum()
        rows.append(
            {
                "targets": [k for k, _, _ in group],
                "centre": centre,
                "sigma": float(1 / np.sqrt(weight.sum())),
                "weights": (weight / weight.sum()).tolist(),
                "spread": float(max(np.linalg.norm(c - centre) for _, _, c in group)),
            }
        )
    return rows


def target_warnings(job: Job) -> list[str]:
    """What is wrong with where targets hang and with single sightings, once scans are placed; in words with
    the number.
    """
    facts, scans = (
        {int(k): t for k, t in job.facts("target").items() if not t["dropped"]},
        {s.id: s for s in job.scans(placed=True)},
    )
    out = []
    if scans and facts:
        seen = places(job)
        turned = [
            job.frame[:3, :3]
            @ scans[facts[p["targets"][0]]["scan"]].pose[:3, :3]
            @ np.array(facts[p["targets"][0]].get("normal") or [1.0, 0, 0])
            for p in seen
        ]
        stations = np.array([job.grid_pose(s)[:3, 3] for s in scans.values()])
        out = layout.warnings(
            rigid.apply(job.frame, np.array([p["centre"] for p in seen]).reshape(-1, 3)),
            np.array(turned).reshape(-1, 3),
            stations,
        )
    poor = {
        k: why
        for k, t in facts.items()
        if (why := layout.poor(t.get("range") or 0.0, t.get("incidence_deg") or 0.0))
    }
    return out + (
        [
            f"{len(poor)} of {len(facts)} sightings are poor: "
            + ", ".join(f"T{k} {why}" for k, why in list(poor.items())[:5])
            + ("…" if len(poor) > 5 else "")
            + "."
        ]
        if poor
        else []
    )


def true_centre(target: dict, scan: Scan) -> np.ndarray:
    """Centre in the scan's frame without the set-up's estimated range bias."""
    centre = np.array(target["centre"])
    return centre * (1 - scan.pose_record.get("bias", 0.0) / max(np.linalg.norm(centre), 0.1))


class TargetsParams(Params):
    scans: list[int] = scans_field()
    kind: Literal["all kinds", "checkerboards", "spheres", "discs"] = field(
        "What to look for",
        "all kinds",
        help="Flat discs are lighter or darker than the plate or wall that they are on.",
    )
    board: float = field(
        "Board edge",
        0.0,
        unit="m",
        blank="any",
        help="Outer edge of the checkerboards, two by two fields; 0: any of 5 to 65 cm.",
        ge=0,
        le=3,
    )
    sphere: float = field(
        "Sphere diameter", 0.0, unit="m", blank="any", help="0: any of 6 to 40 cm.", ge=0, le=2
    )
    disc: float = field("Disc diameter", 0.0, unit="m", blank="any", help="0: any of 5 to 36 cm.", ge=0, le=2)
    reach: float = field(
        "Farthest target",
        REACH,
        unit="m",
        help="Targets beyond this are not looked for: too few points fall on them.",
        ge=1,
        le=200,
    )


@operation
class Targets(Operation):
    """Finds checkerboards, spheres and flat discs in structured scans and measures their centres."""

    name, title, step = "georeference.targets", "Find targets", "Georeference"
    reads, writes = frozenset({"scan"}), frozenset({"target"})
    Params = TargetsParams

    def run(self, job: Job, params: TargetsParams, progress: Progress) -> Figures:
        kinds = KINDS if params.kind == "all kinds" else (params.kind[:-1],)
        count = find_targets(
            job,
            job.need_scans(params.scans),
            progress,
            kinds,
            {"checkerboard": params.board, "sphere": params.sphere, "disc": params.disc},
            params.reach,
        )
        said = target_warnings(job)
        seen = [t.get("kind", KINDS[0]) for t in job.facts("target").values()]
        each = ", ".join(f"{n} {k}{'s' * (n != 1)}" for k in KINDS if (n := seen.count(k)))
        return {
            "says": f"{count} target sightings"
            + (f": {each}" if each else "")
            + (f"; {len(said)} warning{'s' * (len(said) != 1)}" if said else ""),
            "targets": count,
            "kinds": {k: seen.count(k) for k in KINDS},
            "warnings": said,
        }


class PickTargetParams(Params):
    scan: int = field("Scan", help="Its number.", ge=1, widget="scan")
    x: float = field("X", unit="m", help="In the scan's own frame.")
    y: float = field("Y", unit="m")
    z: float = field("Z", unit="m")


@operation
class PickTarget(Operation):
    """Takes a picked point of a scan as a target that the search missed."""

    name, title, step = "georeference.pick_target", "Pick a target", "Georeference"
    writes = frozenset({"target"})
    bound_to_place = True
    Params = PickTargetParams

    def run(self, job: Job, params: PickTargetParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        centre = np.array([params.x, params.y, params.z])
        number = job.next_number("target")
        job.put(
            "target",
            number,
            {
                "scan": scan.id,
                "centre": centre.tolist(),
                "sigma": 0.004,
                "normal": [0, 0, 1],
                "range": float(np.linalg.norm(centre)),
                "incidence_deg": 0.0,
                "fit": 0.0,
                "points": 1,
                "dropped": False,
                "by_hand": True,
            },
            scan=scan.id,
        )
        return {"says": f"Target {number} picked in scan {scan.id}", "target": number}
