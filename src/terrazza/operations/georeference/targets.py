"""Look for targets."""

from typing import Literal

from terrazza.core.progress import Progress
from terrazza.operations.georeference.sightings import KINDS, REACH, find_targets, target_warnings
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job


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
