"""Bring in notes as pins."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.table.naming import free_name

with later():
    from terrazza.formats import notes

FAR = 50.0  # m from any scan: a place in another frame, most likely
MOST = 5000


class NotesParams(Params):
    path: str = field(
        "File",
        widget="file",
        role="read",
        help="GeoJSON points or CSV with x, y, z (in the grid or job frame), text, author, time; as "
        "saved in a "
        "handover folder.",
    )


@operation
class BringNotes(Operation):
    """Brings notes of a client or of the field crew in as pins, with author and time."""

    name, title, step = "pins.bring", "Bring in notes", "Table"
    reads, writes = frozenset({"scan", "pose", "frame"}), frozenset({"pin"})
    Params = NotesParams

    def run(self, job: Job, params: NotesParams, progress: Progress) -> Figures:
        scans = job.need_scans(placed=True, why=", so notes have no place to go to")
        found = notes.read(job.input(params.path, "The file of notes"))
        if len(found) > MOST:
            raise StateError(f"The file holds {len(found):,} notes.", f"Bring {MOST:,} at most.")
        poses = {s.id: job.grid_pose(s) for s in scans}
        far, first = 0, job.next_number("pin")
        for number, note in enumerate(found, first):
            at = np.array(note.at)
            scan = min(poses, key=lambda k: np.linalg.norm(poses[k][:3, 3] - at))
            far += bool(np.linalg.norm(poses[scan][:3, 3] - at) > _reach(job, scan) + FAR)
            own = rigid.apply(rigid.inverse(poses[scan]), at[None])[0]
            said = " · ".join(v for v in (note.author, note.time) if v)
            link = note.link if note.link.lower().startswith(("http://", "https://")) else ""
            pin = {
                "name": note.name[:100] or free_name(job, "pin", number),
                "text": "\n".join(v for v in (note.text, said) if v)[:4000],
                "link": link[:1000],
                "measure": 0,
                "point": {"scan": scan, "at": own.tolist()},
                "picture": "",
            }
            job.put("pin", number, pin)
        doubt = [f"{far} notes lie far from all scans: are they in another frame?"] if far else []
        return {"says": f"{len(found)} notes brought in as pins", "pins": len(found), "doubt": doubt}


def _reach(job: Job, scan: int) -> float:
    return float(np.abs(np.array(job.scan(scan).record["bounds"])).max())
