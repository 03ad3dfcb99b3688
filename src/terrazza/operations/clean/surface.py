"""Take what lies beyond, within, behind or before a surface."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import InputError, ParamsError
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, within_field
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import Params, Triple, field, operation, scans_field, touched_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.table.touch import patch
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import shells
    from terrazza.core.measure import fits

REACHES = (0.08, 0.15, 0.3, 0.6)  # m: patches around touched points, the first that holds enough
FEWEST = 60  # points of a patch
ROUGH = 0.10  # m: what of a vault counts to find its line


class SurfaceParams(Params):
    scans: list[int] = scans_field("Empty: all placed scans.")
    within: str = within_field()
    kind: Literal["plane", "sphere", "cylinder", "file"] = field("Surface", "plane")
    patches: list[Triple] = touched_field(
        help="E, N, H (or in the job frame): one or more of a plane or a sphere, two or more along a "
        "cylinder; a vault that bends is followed from one to the next."
    )
    path: str = field(
        "File", "", role="read", help="With “file”: a surface of triangles (DXF, LandXML, OBJ, STL or PLY)."
    )
    tolerance: float = field("Tolerance", 0.02, unit="m", gt=0, le=100, help="What is nearer lies on it.")
    reach: float = field(
        "Reach", 1.0, unit="m", gt=0, le=1000, help="With “file”: what is farther is not judged."
    )
    take: Literal["beyond", "within", "behind", "before"] = field(
        "Take",
        "beyond",
        help="Beyond the tolerance on either side, within it, or beyond it behind or before the surface, as "
        "seen from the scans (inside a sphere or cylinder is before it).",
    )


@operation
class Surface(Filter):
    """Takes what lies off, on, behind or before a plane, sphere or cylinder through touched points, or a
    surface from a file: the shell of a vault alone, what stands before it, what was seen through a window.
    """

    name, title = "clean.surface", "Surface filter"
    reads = frozenset({"scan", "pose", "frame"})
    bound_to_place = True
    placed = True
    Params = SurfaceParams

    def judge(self, job: Job, scans: list[Scan], params: SurfaceParams, folder: str, progress: Progress):
        shell = found(job, params)
        origins = np.array([job.grid_pose(s)[:3, 3] for s in scans])
        sign = 1.0
        if params.kind in {"plane", "file"}:  # before is where most scans were taken from
            sides = shell.away(origins)
            sign = -1.0 if np.nansum(np.sign(sides)) < 0 else 1.0
        args = {s.id: job.grid_pose(s) for s in scans}
        return off_surface, args, (shell, params.tolerance, params.take, sign)


def found(job: Job, params: SurfaceParams):
    """The surface that parameters mean, in the grid (or job frame)."""
    if params.kind == "file":
        if not params.path:
            raise ParamsError("clean.surface: “file” needs a path.", "Choose a file with a surface.")
        shapes = reading.shapes(job.input(params.path, "The surface"))
        if not shapes.meshes:
            raise InputError(f"“{params.path}” holds no surface of triangles.", "Choose another file.")
        vertices = np.concatenate([m.vertices for m in shapes.meshes])
        steps = np.cumsum([0, *(len(m.vertices) for m in shapes.meshes)])
        faces = np.concatenate([m.triangles + n for m, n in zip(shapes.meshes, steps)])
        return shells.Triangles(vertices, faces, params.reach)
    touched = np.array(params.patches, float).reshape(-1, 3)
    least = {"plane": 1, "sphere": 1, "cylinder": 2}[params.kind]
    if len(touched) < least:
        raise ParamsError(
            f"clean.surface: a {params.kind} needs {least} touched point{'s' * (least > 1)} or more, got "
            f"{len(touched)}.",
            "Touch it where nothing stands before it.",
        )
    if params.kind == "cylinder":
        return _cylinder(job, touched)
    points = np.concatenate([_patch(job, t) for t in touched])
    fitted = fits.fit(params.kind, points, 0.002)
    if params.kind == "sphere":
        return shells.Sphere(fitted.centre, float(fitted.radius))
    normal = np.asarray(fitted.direction, float)
    return shells.Plane(normal, float(normal @ fitted.centre))


def _patch(job: Job, at: np.ndarray) -> np.ndarray:
    """Points around a touched one, in the first circle that holds enough."""
    points = np.zeros((0, 3))
    for reach in REACHES:
        points = patch(job, at, reach)
        if len(points) >= FEWEST:
            break
    if len(points) < 3:
        raise InputError(
            f"There is nothing within {REACHES[-1]:g} m of {', '.join(f'{v:.2f}' for v in at)}.",
            "Touch the surface itself.",
        )
    return points


def _cylinder(job: Job, touched: np.ndarray):
    """A vault along the touched points: its rough axis from what lies around them, then circles across."""
    way = touched[-1] - touched[0]
    length = float(np.linalg.norm(np.diff(touched, axis=0), axis=1).sum())
    if length < 0.2:
        raise ParamsError(
            "clean.surface: the points touched on a cylinder lie within 20 cm.", "Touch it at both ends too."
        )
    radius = _rough_radius(job, touched, way / np.linalg.norm(way))
    points = _around(job, touched, 2.2 * radius + 0.5)
    line = touched + _towards(points, touched, way / np.linalg.norm(way), radius)
    try:
        return shells.vault(points, line, max(ROUGH, 0.02 * radius))
    except ValueError as error:
        raise InputError(
            "No round thing runs along the touched points.", "Touch it at both ends and where it bends."
        ) from error


def _rough_radius(job: Job, touched: np.ndarray, way: np.ndarray) -> float:
    """Radius of the circle across at the first touched point, from what lies around it."""
    for reach in (0.5, 1.0, 2.0, 4.0, 8.0):
        points = patch(job, touched[0], reach)
        off = points - touched[0]
        flat = off[np.abs(off @ way) < max(0.15 * reach, 0.05)]
        if len(flat) < FEWEST:
            continue
        u, v = shells.across(way)
        ring = shells.ring(np.stack([flat @ u, flat @ v], 1), 0.03)
        if ring is not None and ring[1] < 1.5 * reach:
            return ring[1]
    raise InputError("No round thing lies around the first touched point.", "Touch it where it is clear.")


def _towards(points: np.ndarray, touched: np.ndarray, way: np.ndarray, radius: float) -> np.ndarray:
    """From the touched points to the axis (k, 3): of all directions across, the one in which a circle of that
    radius has most points on it.
    """
    u, v = shells.across(way)
    turns = np.radians(np.arange(0, 360, 3))
    out = []
    for at in touched:
        near = points[np.abs((points - at) @ way) < 0.5] - at
        flat = np.stack([near @ u, near @ v], 1)
        centres = radius * np.stack([np.cos(turns), np.sin(turns)], 1)
        on = [(np.abs(np.linalg.norm(flat - c, axis=1) - radius) < ROUGH).sum() for c in centres]
        best = centres[int(np.argmax(on))]
        out.append(best[0] * u + best[1] * v)
    return np.array(out)


def _around(job: Job, line: np.ndarray, reach: float, most: int = 400_000) -> np.ndarray:
    """(n, 3) an even share of the kept points near a line (grid or job frame)."""
    parts = []
    for scan in job.scans(placed=True):
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        low, high = line.min(0) - reach, line.max(0) + reach
        index = cloud.kept_of(cloud.inside(low, high, pose))
        parts.append(rigid.apply(pose, cloud.at(index[:: len(index) // most + 1])))
    return np.concatenate(parts) if parts else np.zeros((0, 3))


def off_surface(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """Mask of the points of a stretch that a surface filter takes."""
    shell, tolerance, take, sign = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    away = shell.away(xyz) * sign
    beside = shell.along(xyz) & ~np.isnan(away)
    with np.errstate(invalid="ignore"):
        mask = {
            "beyond": np.abs(away) > tolerance,
            "within": np.abs(away) <= tolerance,
            "behind": away < -tolerance,
            "before": away > tolerance,
        }[take]
    return mask & beside
