"""Turn photos onto what their scans saw."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.colorize import seeing
from terrazza.operations.colorize.photos import turned
from terrazza.operations.spine.base import Figures, Operation, Params, operation, scans_field
from terrazza.operations.spine.job import Job, plain


class TurnParams(Params):
    scans: list[int] = scans_field()


@operation
class TurnPhotos(Operation):
    """Turns photos so that their edges lie on those of their scans' intensity; a photo whose edges do not say
    where it looks stays as it is.
    """

    name, title, step = "colorize.turn_photos", "Turn photos", "Colorize"
    reads, writes = frozenset({"scan"}), frozenset({"photo"})
    Params = TurnParams

    def run(self, job: Job, params: TurnParams, progress: Progress) -> Figures:
        chosen = {s.id for s in job.need_scans(params.scans)}
        records = {k: p for k, p in job.facts("photo").items() if p["scan"] in chosen}
        with job.scratch() as folder:
            work = seeing.shots(job, records, folder, 0.0, True)
            if not work:
                raise StateError(
                    "None of these scans has a photo that can be laid on points.", "Choose scans with photos."
                )
            sizes = [max(s.piece.record.get("points", 1), 1) for s in work]
            ready = job.fleet.map(seeing.prepare, work, sizes, progress, "Comparing edges", light=True)
        turns = [turned(s, r) for s, r in zip(work, ready)]
        for shot, one, turn in zip(work, ready, turns):
            if turn["used"]:
                pose = shot.pose
                pose[:3, :3] = one.rotation.T
                job.put("photo", shot.key, shot.record | {"pose": plain(pose)}, scan=shot.record["scan"])
        moved = [t["turn_deg"] for t in turns if t["used"]]
        unclear = [t["name"] for t in turns if t["turn_deg"] is None]
        return {
            "says": f"{len(moved)} of {len(turns)} photos turned"
            + (f", by {np.median(moved):.2f}° in the median and {max(moved):.2f}° at most" if moved else ""),
            "turns": turns,
            "doubt": [
                f"The edges of “{name}” do not say where it looks: it stays as it is." for name in unclear
            ],
        }
