"""Photos of places of ``tests.places``: every thing has a colour of its own with a fine grain; cameras of any
kind, anywhere, with exposures of their own; and what truly was before them.
"""

import io

import numpy as np
from numba import njit
from PIL import Image
from scipy.spatial.transform import Rotation

from terrazza.core.color.cameras import Camera
from terrazza.core.color.evening import stored
from terrazza.core.geometry import rigid
from terrazza.formats import e57_writer
from tests import beams
from tests.boxes import Place, cast


def arrays(place: Place) -> tuple:
    parts = [np.array([b[k] for b in place.boxes], float).reshape(-1, 3) for k in (0, 1)]
    more = zip((place.posts, place.balls, place.waves), (5, 4, 4))
    return (*parts, *(np.array(v, float).reshape(-1, n) for v, n in more))


def ranges(place: Place, origin, ways) -> np.ndarray:
    """Range (m) along unit ways (n, 3) from a place."""
    return cast(np.asarray(origin, float), np.ascontiguousarray(ways, float), *arrays(place))


def things(place: Place, at: np.ndarray) -> np.ndarray:
    """Which thing points (n, 3) on its surface belong to: the number of its box, post or ball; -1 ground."""
    low, high, posts, _, _ = arrays(place)
    return _things(np.ascontiguousarray(at, float), low, high, posts)


@njit(cache=True)
def _things(at, low, high, posts):
    out = np.full(len(at), -1)
    for i in range(len(at)):
        best = 0.03
        for k in range(len(low)):
            out2, inner = 0.0, np.inf
            for a in range(3):
                out2 += max(low[k, a] - at[i, a], at[i, a] - high[k, a], 0.0) ** 2
                inner = min(inner, at[i, a] - low[k, a], high[k, a] - at[i, a])
            away = np.sqrt(out2) if out2 > 0 else max(inner, 0.0)
            if away < best:
                best, out[i] = away, k
        for k in range(len(posts)):
            away = abs(np.hypot(at[i, 0] - posts[k, 0], at[i, 1] - posts[k, 1]) - posts[k, 2])
            if away < best and posts[k, 3] - 0.03 < at[i, 2] < posts[k, 4] + 0.03:
                best, out[i] = away, len(low) + k
    return out


def paint(place: Place, at: np.ndarray, seed: int = 0, grain: float = 0.08) -> np.ndarray:
    """Reflected light (n, 3; 0 to 1) of points: a colour a thing, tiles of 0.7 m with their own shade."""
    thing = things(place, at)
    palette = np.random.default_rng(seed).uniform(0.12, 0.75, (thing.max() + 2, 3))
    cell = np.floor(at / 0.7 + 0.003).astype(np.int64)
    shade = ((cell * np.array([73856093, 19349663, 83492791])).sum(1) % 97) / 97 - 0.5
    return np.clip(palette[thing] * (1 + 2 * grain * shade[:, None]), 0, 1)


def ways_of(camera: Camera) -> np.ndarray:
    """(height · width, 3) unit ways of a camera's pixels, in its frame; those of a lens that bends are found
    by fixed-point iteration.
    """
    row, column = np.mgrid[0 : camera.height, 0 : camera.width].reshape(2, -1) + 0.5
    if camera.kind == "pinhole":
        k1, k2, p1, p2, k3 = camera.bends
        u = (column - camera.principal[0]) * camera.pixel[0] / camera.focal
        v = (row - camera.principal[1]) * camera.pixel[1] / camera.focal
        a, b = u.copy(), v.copy()
        for _ in range(50):
            s = a * a + b * b
            radial = 1 + s * (k1 + s * (k2 + s * k3))
            a, b = (
                (u - 2 * p1 * a * b - p2 * (s + 2 * a * a)) / radial,
                (v - p1 * (s + 2 * b * b) - 2 * p2 * a * b) / radial,
            )
        ways = np.stack([a, -b, -np.ones(len(a))], 1)
    else:
        turn = (camera.width / 2 - column) * camera.pixel[0]
        up = (camera.height / 2 - row) * camera.pixel[1]
        ways = np.stack([np.cos(up) * np.cos(turn), np.cos(up) * np.sin(turn), np.sin(up)], 1)
    return ways / np.linalg.norm(ways, axis=1)[:, None]


def photograph(place: Place, pose, camera: Camera, gains=(1, 1, 1), seed: int = 0, passers: list = ()):
    """(height, width, 3) u8 of a camera at ``pose`` (4×4, camera to place); ``passers`` are boxes of somebody
    in red.
    """
    ways = ways_of(camera) @ pose[:3, :3].T
    r = ranges(place, pose[:3, 3], ways)
    light = np.full((len(r), 3), 0.9)
    hit = np.isfinite(r)
    light[hit] = paint(place, pose[:3, 3] + ways[hit] * r[hit, None], seed)
    if passers:
        light[ranges(Place(list(passers)), pose[:3, 3], ways) < r] = [0.6, 0.02, 0.02]
    values = np.rint(stored(light * np.array(gains))).astype(np.uint8)
    return values.reshape(camera.height, camera.width, 3)


def seen(place: Place, eye, at: np.ndarray) -> np.ndarray:
    """Mask of points (n, 3) on surfaces that are free to be seen from a place."""
    way = at - np.asarray(eye, float)
    r = np.linalg.norm(way, axis=1)
    return ranges(place, eye, way / r[:, None]) > r - 0.02


def field_work(path: str, place: Place, seed: int, scanner, wide: int, aside: float, turn: float):
    """Write an E57 of three posed scans with photos; the true poses of scans and cameras."""
    rng = np.random.default_rng(seed)
    camera = Camera("spherical", wide, wide // 2, (2 * np.pi / wide, 2 * np.pi / wide))
    poses, eyes = [], []
    with e57_writer.Writer(path) as out:
        for number, station in enumerate(place.places[:3]):
            pose = rigid.make(rigid.about_z(rng.uniform(-3, 3)), np.r_[station[:2], station[2] + 1.6])
            look = beams.look(place, pose[:3, 3], scanner, seed, first=True)
            row, column = np.nonzero(look.r > 0)
            xyz = (look.directions * look.r.reshape(-1, 1))[(look.r > 0).ravel()] @ pose[:3, :3]
            light = paint(place, rigid.apply(pose, xyz), seed) @ [0.2, 0.5, 0.3]
            data = {
                "xyz": xyz,
                "row": row.astype(np.uint32),
                "column": column.astype(np.uint32),
                "intensity": (40000 * (light + rng.normal(0, 0.02, len(light)))).clip(0, 65535).astype("u2"),
            }
            guid = f"scan-{number}"
            out.add_scan(guid, [data], list(data), pose=pose, grid=look.r.shape, guid=guid)
            told = rigid.make(rigid.about_z(rng.uniform(-3, 3)), rng.normal(0, aside, 3))
            true = told.copy()
            true[:3, :3] = Rotation.from_rotvec(np.radians(rng.normal(0, turn, 3))).as_matrix() @ told[:3, :3]
            passers = []
            if number == 0:
                way = place.places[1][:2] - np.array(place.places[0][:2])
                at = np.array(station[:2]) + way / np.linalg.norm(way) * 1.3
                passers = beams.person(*at, station[2])
            gains = rng.uniform(0.75, 1.3) * rng.uniform(0.93, 1.07, 3)
            picture = photograph(place, pose @ true, camera, gains, seed, passers)
            data = io.BytesIO()
            Image.fromarray(picture).save(data, "PNG", compress_level=1)
            out.add_image(data.getvalue(), "spherical", wide, wide // 2, guid, pose @ told, f"photo {number}")
            poses.append(pose)
            eyes.append((pose @ true)[:3, 3])
    return poses, eyes
