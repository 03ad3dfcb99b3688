"""A sketch or map under the plan, and scans put about where the crew marked them on it."""

import os
from typing import Annotated

import numpy as np
from pydantic import Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.importing.photos import kept
from terrazza.operations.pieces.surfaces import pictures, surfaces
from terrazza.operations.register.moving import companions, move, told
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation
from terrazza.operations.spine.job import Job, Scan, plain
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table.naming import need_there

with later():
    from terrazza.core.register import like_points, plan_match
    from terrazza.core.register import sketch as core

HOW = "sketch"
NEIGHBOURS, NEAR = 3, 25.0  # placed scans against which one is placed, and how far off (m) they may be
MARGIN = 10.0  # m about the stations, where nothing says how large a picture is
FIRST = 4  # pairs of nearest scans that are tried where none is placed
ASTRAY = 3.0  # times ``off``: a placed scan farther from where the sketch has it is doubted

Known = Annotated[list[float], Field(min_length=4, max_length=4)]


class SketchParams(Params):
    picture: str = field(
        "Picture",
        "",
        help="PNG or JPEG in the inbox or at a path; empty: that of the sketch named below.",
        widget="file",
        role="read",
        max_length=500,
    )
    sketch: int = field("Sketch", 0, ge=0, help="Number of one laid before, to go on with; 0: a new one.")
    known: list[Known] = field(
        "Known places",
        list,
        help="Each: column and row in the picture (pixels from its upper left corner), and X or easting and "
        "Y or northing (m, in the grid where there is one). Two or more; marked scans that are placed count "
        "too.",
        max_length=100,
    )
    length: list[float] = field(
        "Known length",
        list,
        help="Column and row of both ends in the picture, and the metres between them.",
        max_length=5,
    )
    stations: list[Triple] = field(
        "Where scans stood",
        list,
        help="Each: number of the scan, column and row in the picture.",
        max_length=1000,
    )
    off: float = field(
        "Drawn to",
        2.0,
        unit="m",
        help="How far from the truth a place in the sketch may be.",
        ge=0.05,
        le=20,
    )


@operation
class Sketch(Operation):
    """Lays a sketch or map under the plan, by two known places, a length or scans that are placed, and places
    scans about where it has them: their headings are found from what they saw.
    """

    name, title, step = "register.sketch", "Sketch or map", "Register"
    then = "register.adjust"
    reads = frozenset({"scan", "frame", "standing", "sketch"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"sketch", "pose", "standing"})
    bound_to_place = True
    Params = SketchParams

    def run(self, job: Job, params: SketchParams, progress: Progress) -> Figures:
        record, number = _record(job, params)
        stations = {int(k): v for k, v in record["stations"].items()}
        for scan, column, row in params.stations:
            job.scan(int(scan))  # NotFound where there is none
            stations[int(scan)] = [column, row]
        laid, doubt = _laid(job, params, record, stations)
        record |= {"matrix": plain(laid.matrix), "stations": {str(k): v for k, v in stations.items()}}
        job.put("sketch", number, record)
        marked = [(s, laid.at(stations[s.id])[0]) for s in job.scans() if s.id in stations]
        rows = _Placing(job, params.off, {s.id: at for s, at in marked}, progress).rows(marked)
        doubt += [f"Scan {r['scan']}: {r['doubt']}" for r in rows if r["doubt"]]
        n, placed = Notation.of(job), sum(r["placed"] for r in rows)
        return {
            "says": f"{record['name']} under the plan, {n.length(laid.scale)} a pixel"
            + (f"; {placed} of {len(rows)} marked scans stand" if rows else ""),
            "sketch": number,
            "scale_m": laid.scale,
            "residuals_m": laid.residuals.tolist(),
            "stations": rows,
            "doubt": doubt,
        }


def _record(job: Job, params: SketchParams) -> tuple[dict, int]:
    """What is known of the sketch so far, and its number."""
    if bool(params.picture) == bool(params.sketch):
        raise ParamsError(
            "register.sketch needs either a picture or the number of a sketch.", "Give one of the two."
        )
    if params.sketch:
        return dict(need_there(job, "sketch", params.sketch)), params.sketch
    number = job.next_number("sketch")
    file, width, height = kept(job, params.picture, f"sketch.{number}")
    name = os.path.splitext(os.path.basename(params.picture))[0]
    return {
        "name": name,
        "file": file,
        "width": width,
        "height": height,
        "matrix": None,
        "stations": {},
    }, number


def _laid(job: Job, params: SketchParams, record: dict, stations: dict) -> tuple["core.Laid", list[str]]:
    """The picture on the plan of the job frame, and what is doubted of it."""
    for column, row in [*(p[:2] for p in params.known), *stations.values(), *_ends(params)]:
        if not (0 <= column <= record["width"] and 0 <= row <= record["height"]):
            raise ParamsError(
                f"register.sketch: column {column:g}, row {row:g} lies outside the picture, which has "
                f"{record['width']} × {record['height']} pixels.",
                "Count pixels from its upper left corner.",
            )
    stand = [s for s in job.scans(placed=True) if s.id in stations]
    if params.known or not (params.length or record["matrix"]):
        pixels = [k[:2] for k in params.known] + [stations[s.id] for s in stand]
        places = [*_in_job(job, params.known)] + [s.pose[:2, 3] for s in stand]
        if len(params.known) > 1:  # scans stand in a sketch as well as somebody drew them
            pixels, places = pixels[: len(params.known)], places[: len(params.known)]
        if len(pixels) > 1:
            laid = core.lay(np.array(pixels, float), np.array(places))
            return laid, _misfits(laid, params.off, Notation.of(job))
        if pixels:
            raise ParamsError(
                "One known place does not say how large the picture is.",
                "Give a second one, mark a placed scan, or give a length.",
            )
    if params.length:
        if len(params.length) != 5 or params.length[4] <= 0:
            raise ParamsError(
                "A known length has five numbers: column and row of both ends, and metres.", "Give all five."
            )
        if stand:
            raise ParamsError(
                f"Scan {stand[0].id} is placed, and a length does not say how the picture is turned.",
                "Give two known places, or mark two placed scans.",
            )
        return core.by_length(np.array(params.length[:4]).reshape(2, 2), params.length[4]), []
    if record["matrix"]:
        matrix = np.array(record["matrix"])
        return core.Laid(matrix, float(np.hypot(*matrix[:, 0])), np.zeros(0)), []
    return _across(job, record), ["The sketch is not to scale yet: touch two known places, or give a length."]


def _ends(params: SketchParams) -> list[list[float]]:
    return [params.length[:2], params.length[2:4]] if len(params.length) == 5 else []


def _in_job(job: Job, known: list[list[float]]) -> np.ndarray:
    """Known places (n, 2) in the job frame, whose heights do not count."""
    at = np.array([[x, y, job.frame[2, 3]] for _, _, x, y in known]).reshape(-1, 3)
    return rigid.apply(rigid.inverse(job.frame), at)[:, :2]


def _misfits(laid: "core.Laid", off: float, n: Notation) -> list[str]:
    """What the known places say against each other."""
    if laid.mirrored:
        return ["The known places fit the picture far better mirrored: check them, and the order of X and Y."]
    worst = float(laid.residuals.max())
    if worst <= off:
        return []
    k = int(np.argmax(laid.residuals)) + 1
    return [f"Known place {k} lies {n.length(worst)} from where the others have it in the picture."]


def _across(job: Job, record: dict) -> "core.Laid":
    """A picture over all stations, for the time being."""
    at = np.array([s.pose[:2, 3] for s in job.scans(placed=True)] or np.zeros((1, 2)))
    low, high = at.min(0) - MARGIN, at.max(0) + MARGIN
    scale = float(max((high[0] - low[0]) / record["width"], (high[1] - low[1]) / record["height"]))
    corner = (low + high) / 2 + scale * np.array([-record["width"], record["height"]]) / 2
    return core.Laid(np.array([[scale, 0, corner[0]], [0, -scale, corner[1]]]), scale, np.zeros(0))


class _Placing:
    """Scans placed one after another, the next to what stands first."""

    def __init__(self, job: Job, off: float, at: dict[int, np.ndarray], progress: Progress):
        self.job, self.off, self.at = job, off, at  # at: places (2,) by scan
        self.asked = {s.id: s for s in job.scans() if s.id in at and s.pose is None}
        around = [s for s in job.scans(placed=True) if self._beside(s)] if self.asked else []
        scans = [*self.asked.values(), *around]
        self.poses = {s.id: s.pose for s in around}
        self.seen = dict(
            zip(
                (s.id for s in scans),
                zip(
                    surfaces(job, scans, Part(progress, 0.0, 0.3)),
                    pictures(job, scans, Part(progress, 0.3, 0.4)),
                ),
            )
        )
        self.shapes: dict[int, plan_match.PlanShape] = {}
        self.progress = Part(progress, 0.4, 1.0)

    def _beside(self, scan: Scan) -> bool:
        return any(np.hypot(*(scan.pose[:2, 3] - self.at[k])) < NEAR for k in self.asked)

    def rows(self, marked: list[tuple[Scan, np.ndarray]]) -> list[dict]:
        """What became of each marked scan."""
        rows = {s.id: self._stands(s, at) for s, at in marked if s.pose is not None}
        left = dict(self.asked)
        if left and not self.poses and not rows:
            rows |= self._first()
            left = {k: s for k, s in left.items() if k not in rows}
        while left:
            scan = left.pop(min(left, key=self._gap))
            self.progress.advance(len(rows), len(marked), f"Placing {scan.name}")
            came = scan.id in self.poses  # along with another of its island
            rows[scan.id] = self._stands(scan, self.at[scan.id]) if came else self._place(scan)
        return [rows[s.id] for s, _ in marked]

    def _gap(self, scan: int) -> float:
        """How far a scan is drawn from the nearest one that stands (m)."""
        apart = (np.hypot(*(p[:2, 3] - self.at[scan])) for p in self.poses.values())
        return float(min(apart, default=np.inf))

    def _stands(self, scan: Scan, at: np.ndarray) -> dict:
        """A scan that was placed before: the sketch is held against it."""
        off = float(np.hypot(*(self.poses.get(scan.id, scan.pose)[:2, 3] - at)))
        far = off > ASTRAY * self.off
        said = f"It stands {Notation.of(self.job).length(off)} from where the sketch has it."
        return {"scan": scan.id, "placed": True, "off_m": off, "doubt": said if far else ""}

    def _shape(self, scan: int) -> "plan_match.PlanShape":
        if scan not in self.shapes:
            self.shapes[scan] = plan_match.PlanShape(self.seen[scan][0])
        return self.shapes[scan]

    def _side(self, scans: list[int], poses: list[np.ndarray]) -> "like_points.Side":
        faces, views = zip(*(self.seen[k] for k in scans))
        return like_points.Side.of(poses, list(faces), list(views))

    def _place(self, scan: Scan) -> dict:
        """One scan placed against those nearest to it."""
        at, apart = self.at[scan.id], lambda k: float(np.hypot(*(self.poses[k][:2, 3] - self.at[scan.id])))
        near = sorted((k for k in self.poses if apart(k) < NEAR), key=apart)[:NEIGHBOURS]
        level = float(np.median([p[2, 3] for p in self.poses.values()])) if self.poses else 0.0
        rough = rigid.make(np.eye(3), np.array([*at, level]))
        if not near:
            return self._aside(scan, rough, "No scan that is placed stands near it.")
        found = core.place(
            self._side(near, [self.poses[k] for k in near]),
            [core.Neighbour(self.poses[k], self._shape(k)) for k in near],
            self._side([scan.id], [np.eye(4)]),
            self._shape(scan.id),
            rough[:3, 3],
            self.off,
        )
        if found.fit is None or found.failed:
            return self._aside(scan, rough, "What it saw fits nowhere near there to what its neighbours saw.")
        return self._put(scan, found.pose, told(self.job, found), found.rivals)

    def _put(self, scan: Scan, pose: np.ndarray, doubt: list[str], rivals=()) -> dict:
        """A scan put at a pose, with those that hang on it in an island of its own."""
        group, own = companions(self.job, scan)
        with_ = [[r @ p for r in rivals] for p in own]
        move(self.job, [self.job.scan(k) for k in group], [pose @ p for p in own], HOW, doubt, with_)
        if not doubt:
            self.poses |= {k: pose @ p for k, p in zip(group, own) if k in self.seen}
        off = float(np.hypot(*(pose[:2, 3] - self.at[scan.id])))
        return {"scan": scan.id, "placed": True, "off_m": off, "doubt": " ".join(doubt)}

    def _aside(self, scan: Scan, rough: np.ndarray, why: str) -> dict:
        """A scan of which only its place in the sketch is known: not placed, but it may be chosen there."""
        doubt = f"{why} Only its place in the sketch is known, not its heading."
        standing = {"island": None, "matrix": None, "doubt": doubt, "alternatives": [plain(rough)]}
        self.job.put("standing", scan.id, standing, scan=scan.id)
        return {"scan": scan.id, "placed": False, "off_m": None, "doubt": doubt}

    def _first(self) -> dict[int, dict]:
        """Where none stands yet: two of the nearest, whose headings are found from each other and from the
        line between them; none where no two fit.
        """
        apart = lambda a, b: float(np.hypot(*(self.at[a] - self.at[b])))
        numbers = list(self.asked)
        pairs = sorted(((a, b) for a in numbers for b in numbers if a < b), key=lambda p: apart(*p))
        for a, b in pairs[:FIRST]:
            starts = core.first_two(self._shape(a), self._shape(b), apart(a, b), self.off)
            if not starts:
                continue
            sides = [self._side([k], [np.eye(4)]) for k in (a, b)]
            found = like_points.place(*sides, starts[: 2 * FIRST])
            if found.fit is None or told(self.job, found):
                continue
            way, line = self.at[b] - self.at[a], found.pose[:2, 3]
            turn = np.arctan2(way[1], way[0]) - np.arctan2(line[1], line[0])
            pose = rigid.make(rigid.about_z(turn), np.array([*self.at[a], 0.0]))
            return {k: self._put(self.asked[k], p, []) for k, p in ((a, pose), (b, pose @ found.pose))}
        return {}
