"""What a camera surely sees, how photos are turned and evened out, against simulated places and closed
forms.
"""

import numpy as np
import pytest
from scipy import ndimage, optimize
from scipy.spatial.transform import Rotation

from terrazza.core.color import evening, seen, turning
from terrazza.core.color.cameras import Camera
from terrazza.core.geometry import rigid
from tests import beams
from tests.photographed import paint, photograph
from tests.places import building, street

STEP = np.radians(0.3)
AS_STORED = np.repeat(np.arange(256, dtype=np.uint8)[:, None], 3, 1)
SPHERE = Camera("spherical", 1200, 600, (2 * np.pi / 1200, 2 * np.pi / 1200))
FLAT = Camera(
    "pinhole", 640, 480, (1.0, 1.0), (325.0, 236.0), 420.0, bends=(-0.21, 0.07, 0.0011, -0.0007, -0.012)
)


def picture(xyz, tone=None, origin=(0, 0, 0)):
    near = np.zeros(seen.shape(STEP), np.float32)
    tones = np.zeros_like(near)
    tone = np.zeros(len(xyz), np.float32) if tone is None else tone.astype(np.float32)
    seen.enter(np.ascontiguousarray(xyz, dtype=float), tone, np.array(origin, float), STEP, near, tones)
    return near, tones


def asked(
    xyz, near, image, own=True, aside=0.0, origin=(0, 0, 0), need=6, loose=False, camera=SPHERE, turn=None
):
    near = seen.close(near)
    place = np.eye(4)
    place[:3, 3] = -np.array(origin)
    return seen.colours(
        np.ascontiguousarray(xyz, dtype=float),
        place,
        near,
        seen.clearances(seen.breaks(near), STEP, 4),
        STEP,
        np.eye(3) if turn is None else turn,
        camera.numbers,
        image,
        camera.turns,
        AS_STORED,
        np.zeros(seen.CELLS, bool),
        0.05,
        own,
        aside,
        need,
        loose,
    )


def test_a_lens_bends_as_brown_says():
    """D. C. Brown 1971 (from memory), solved backwards by a general root finder: pixels come back."""
    row, column = np.meshgrid(np.linspace(5, 470, 7), np.linspace(5, 630, 7), indexing="ij")
    k1, k2, p1, p2, k3 = FLAT.bends

    def bent(v):
        a, b = v
        s = a * a + b * b
        radial = 1 + k1 * s + k2 * s**2 + k3 * s**3
        return a * radial + 2 * p1 * a * b + p2 * (s + 2 * a * a), b * radial + p1 * (
            s + 2 * b * b
        ) + 2 * p2 * a * b

    for c, r in zip(column.ravel(), row.ravel()):
        u, v = (c + 0.5 - 325) / 420, (r + 0.5 - 236) / 420
        a, b = optimize.fsolve(lambda x: np.subtract(bent(x), (u, v)), (u, v), xtol=1e-12)
        got = FLAT.pixels(np.array([[a, -b, -1.0]]) * 3)
        assert (
            got[2][0] and got[0][0] == pytest.approx(c, abs=1e-6) and got[1][0] == pytest.approx(r, abs=1e-6)
        )
    folded = np.tan(np.radians(80))
    assert not FLAT.pixels(np.array([[folded, 0, -1.0]]))[2][0], (
        "beyond where the lens folds nothing is shown"
    )


def plate(distance, half, spacing=0.003, height=None):
    y, z = np.meshgrid(np.arange(-half, half, spacing), np.arange(-(height or half), height or half, spacing))
    return np.stack([np.full(y.size, distance), y.ravel(), z.ravel()], 1)


def two_plates():
    """A red plate before a blue wall, and the picture of both."""
    front, wall = plate(3.0, 0.5), plate(5.0, 3.0, 0.008)
    hidden = (np.abs(wall[:, 1] / 5) < 0.5 / 3) & (np.abs(wall[:, 2] / 5) < 0.5 / 3)
    row, column = np.mgrid[0:600, 0:1200] + 0.5
    turn, up = np.pi - column * SPHERE.pixel[0], np.pi / 2 - row * SPHERE.pixel[1]
    y, z = np.tan(turn), np.tan(up) / np.cos(turn)
    image = np.zeros((600, 1200, 3), np.uint8)
    image[..., 2] = 200
    image[(np.abs(turn) < 1) & (np.abs(y) < 0.5 / 3) & (np.abs(z) < 0.5 / 3)] = [200, 0, 0]
    return front, wall, hidden, image


@pytest.mark.parametrize("aside_deg", [0.0, 0.25, 0.45])
def test_nothing_bleeds_across_a_silhouette(aside_deg):
    """A picture that points up to half a degree aside gives every point its own thing's colour."""
    front, wall, hidden, image = two_plates()
    near = picture(np.concatenate([front, wall[~hidden]]))[0]
    turn = rigid.about_z(np.radians(aside_deg))
    need = int(np.ceil(4 * (np.radians(0.3 + aside_deg) / STEP + 0.5)))
    for own, points, which in (
        (True, front, 0),
        (True, wall[~hidden], 2),
        (False, wall, 2),
        (False, front, 0),
    ):
        rgb, state = asked(points, near, image, own, need=need, turn=turn)
        lit = state == seen.SEEN
        assert (rgb[lit, which] > 180).all() and (rgb[lit, 2 - which] < 30).all()
        assert lit[~hidden if points is wall else slice(None)].mean() > (
            0.97 if own or points is front else 0.93
        )
        assert not (lit & hidden).any() if points is wall else True
    assert not asked(front + [-1.0, 0, 0], near, image, False)[1].any(), (
        "it was not there when the scan looked"
    )


def test_a_camera_beside_the_scanner_sees_other_shadows():
    front, wall, hidden, image = two_plates()
    origin = np.array([0.0, 0.4, 0.0])
    near = picture(np.concatenate([front, wall[~hidden]]), origin=origin)[0]
    shifted = (wall - origin) * (3 / 5) + origin
    behind = (np.abs(shifted[:, 1]) < 0.49) & (np.abs(shifted[:, 2]) < 0.49) & ~hidden
    free = (np.abs(shifted[:, 1]) > 0.55) | (np.abs(shifted[:, 2]) > 0.55)
    state = asked(wall, near, image, True, 0.4, origin)[1]
    assert behind.sum() > 500 and (state[behind] == seen.HIDDEN).mean() > 0.99
    assert (state[free & ~hidden] == seen.SEEN).mean() > 0.97


@pytest.mark.parametrize("loose", [False, True])
def test_wires_take_a_pixel_only_where_the_picture_is_sure(loose):
    wire = np.c_[np.full(4000, 3.0), np.full(4000, 0.001), np.linspace(-1, 1, 4000)]
    front, wall, _, image = two_plates()
    state = asked(wire, picture(np.concatenate([wire, wall]))[0], image, loose=loose)[1]
    assert (state == (seen.SEEN if loose else seen.UNSURE)).mean() > 0.95


@pytest.mark.parametrize("make", [lambda rng: building(rng, False), street], ids=["building", "street"])
def test_the_turn_of_a_photo_comes_from_edges(make):
    rng = np.random.default_rng(3)
    place = make(rng)
    pose = rigid.make(rigid.about_z(0.7), np.r_[place.places[0][:2], place.places[0][2] + 1.6])
    look = beams.look(place, pose[:3, 3], beams.Scanner(rows=450, columns=1150), 1, first=True)
    there = (look.r > 0).ravel()
    xyz = (look.directions * look.r.reshape(-1, 1))[there] @ pose[:3, :3]
    light = paint(place, rigid.apply(pose, xyz)) @ [0.2, 0.5, 0.3]
    near, tones = picture(xyz, light + rng.normal(0, 0.02, len(light)))
    true = Rotation.from_rotvec(np.radians([0.5, -0.3, 0.9])).as_matrix()
    grey = photograph(place, pose @ rigid.make(true, np.zeros(3)), SPHERE) @ [0.3, 0.6, 0.1]

    def shown(image):
        def show(ways, level):
            column, row, inside = SPHERE.pixels(ways)
            smooth = ndimage.gaussian_filter(image, max(level / SPHERE.finest / 2.3, 0.3))
            return np.where(
                inside, ndimage.map_coordinates(smooth, [row, column], order=1, mode="nearest"), np.nan
            )

        return show

    got = turning.solve(near, tones, STEP, shown(grey), SPHERE.finest)
    off = Rotation.from_matrix(got.rotation @ true.T).magnitude()
    assert got.clear and got.worth and off < 3 * got.sigma and off < np.radians(0.1)
    assert got.after > 0.6 > got.before
    other = turning.solve(near, tones, STEP, shown(np.roll(grey[::-1], 300, 1)), SPHERE.finest)
    assert not other.clear, "a picture of something else says nothing"
    blank = turning.solve(near, 0 * tones, STEP, shown(0 * grey), SPHERE.finest)
    assert not blank.clear and np.allclose(blank.rotation, np.eye(3))


@pytest.mark.parametrize("curve", [True, False])
def test_photos_are_evened_where_they_see_the_same(curve):
    rng = np.random.default_rng(4)
    light = rng.uniform(0.05, 0.5, (6000, 3))
    true = rng.uniform(0.7, 1.4, (4, 3))
    photo = np.stack([rng.permutation(4)[:3] for _ in range(6000)])
    photo[rng.random(photo.shape) < 0.2] = -1
    if curve:
        value = evening.stored(light[:, None] * true[photo])
    else:
        value = evening.stored(light)[:, None] * true[photo]
    value = value + rng.normal(0, 2, value.shape)
    value[:300, 0] = 230  # something shone
    rgb = np.clip(np.rint(value), 0, 255).astype(np.uint8)
    got = evening.even(rgb, photo, 4)
    product = got.gains * true
    assert got.curve == curve and got.pairs == 6
    assert np.abs(product / product.mean(0) - 1).max() < 0.01
    assert got.before > 10 and got.after < 1.0
    alone = evening.even(rgb[:, :1], photo[:, :1], 4)
    assert (alone.gains == 1).all() and alone.after == 0 == alone.pairs


def test_who_stands_before_one_camera_alone_is_told():
    rgb = np.full((400, 4, 3), 90, np.uint8) + np.random.default_rng(5).integers(0, 6, (400, 4, 3)).astype(
        np.uint8
    )
    there = np.ones((400, 4), bool)
    rgb[:100, 0] = [200, 30, 30]
    there[300:, 2:] = False
    got = evening.strangers(rgb, there)
    assert (got[:100, 0] == 1).all() and (got[:100, 1:] == 0).all() and (got[100:300] == 0).all()
    assert (got[300:] == -1).all(), "two cannot tell"
    rgb[:100, 1] = [30, 200, 30]
    rgb[:100, 2] = [30, 30, 200]
    assert (evening.strangers(rgb, there)[:100] == -1).all(), "where none agree nobody is the stranger"
    odd, plain = np.zeros(seen.CELLS, int), np.ones(seen.CELLS, int)
    odd[80:110, 358:], odd[80:110, :4], odd[20, 200] = 3, 3, 1
    found = evening.passers(odd, plain)
    assert (
        found[80:110, 0].all() and found[90, 359] and found[90, 357] and found[90, 4] and not found[20, 200]
    )
    assert found.sum() == 32 * 8
