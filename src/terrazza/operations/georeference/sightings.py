"""Targets: found, put together where several scans saw one, and what is wrong with where they hang."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.fleet import few
from terrazza.later import later
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.georef import layout
    from terrazza.core.register import discs, sighted, spheres
    from terrazza.core.register import targets as checkerboards

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


def free_name(job: Job, scan: int, name: str, but: int = 0) -> str:
    """A target's name, trimmed; ParamsError where another target (than number ``but``) of the scan has it."""
    name = " ".join(name.split())
    for number, other in job.facts("target").items() if name else ():
        if other["scan"] == scan and other.get("name") == name and int(number) != but:
            raise ParamsError(
                f"In scan {scan}, target {number} is named “{name}” already.", "Choose another name."
            )
    return name


def places(job: Job) -> list[dict]:
    """Physical targets: sightings of placed scans within 0.1 m of each other, job frame, weighed by their
    sigmas.

    Rows of ``targets`` (numbers), ``centre`` (3, m, freed of the scans' range bias), ``sigma`` (m),
    ``spread`` (m, largest distance from the centre), ``name`` (empty where none of them has one).
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
                "name": next((t["name"] for _, t, _ in group if t.get("name")), ""),
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
