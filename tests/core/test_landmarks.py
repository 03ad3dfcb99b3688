"""Trunks, poles and columns as landmarks: where they stand, and placements by them."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import landmarks, offers, plan_match, surface
from terrazza.core.register.landmarks import Landmarks
from terrazza.core.register.picture import Picture
from tests import places


def marks(at, upright=np.eye(4)):
    return Landmarks(upright, at[:, :2].copy(), at[:, 2].copy())


@pytest.mark.parametrize("lean", [0.0, 0.06])
@pytest.mark.parametrize(
    ("n", "kept", "line", "found"), [(20, 9, 1.0, True), (20, 3, 1.0, False), (14, 8, 0.0, False)]
)
def test_a_placement_is_what_most_landmarks_agree_on(n, kept, line, found, lean):
    """Of ``n`` landmarks another scan, leaning, sees ``kept`` and as many that the first does not; in a line
    they say nothing.
    """
    rng = np.random.default_rng(3)
    seen = np.c_[rng.uniform(-25, 25, (n, 2)) * [1, line], rng.uniform(-1, 1, n)]
    pose = rigid.make(rigid.about_z(2.1), np.array([7.0, -4.0, 0.6]))
    other = rigid.apply(rigid.inverse(pose), seen[:kept]) + rng.normal(0, [0.04, 0.04, 0.1], (kept, 3))
    other = np.r_[other, np.c_[rng.uniform(-25, 25, (n - kept, 2)) * [1, line], rng.uniform(-1, 1, n - kept)]]
    upright = rigid.make(rigid.rotation_from([lean, 0, 0]), np.zeros(3))
    at = landmarks.candidates(marks(seen), marks(other, upright))
    near = [p for p in at if rigid.difference(p, pose @ upright)[0] < 0.2]
    assert bool(near) == found and (not found or (at[0] is near[0] and len(at) <= landmarks.KEPT))


def test_scans_among_trees_find_each_other_by_trunks():
    rng = np.random.default_rng([8006, sum(map(ord, "terrain"))])
    place = places.WORLDS["terrain"](rng)
    sweeps = [places.scanned(place, "terrain", s, rng) for s in place.places[:2] + place.places[4:5]]
    truth, faces = [p for p, *_ in sweeps], [surface.prepare(xyz) for *_, xyz in sweeps]
    shapes = [plan_match.PlanShape(f) for f in faces]
    pictures = [Picture.of(xyz) for *_, xyz in sweeps]
    trunks = np.array(place.posts)[:, :2]
    for pose, face, shape in zip(truth, faces, shapes):
        found = Landmarks.of(face, shape)
        at = rigid.apply(pose @ rigid.inverse(found.upright), np.c_[found.xy, found.foot])
        off = np.linalg.norm(at[:, None, :2] - trunks, axis=2).min(1)
        assert 12 < len(at) <= landmarks.MOST and (off < 0.3).mean() > 0.7 and np.median(off) < 0.2
        assert np.median([z - place.ground(x, y) for x, y, z in at[off < 0.3]]) == pytest.approx(0.2, abs=0.3)
    for a, b in ((0, 1), (0, 2), (1, 2)):
        (best, *_) = offers.offers_of(faces, shapes, pictures, a, b)
        away = rigid.difference(best.fit.pose, rigid.inverse(truth[a]) @ truth[b])
        assert away[0] < 0.02 and away[1] < np.radians(0.2) and best.evidence > 3
