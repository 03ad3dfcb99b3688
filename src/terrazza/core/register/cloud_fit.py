"""Cloud fit: fine alignment of two scans by iterative closest point, point to plane, robust, wide to narrow.

Chen & Medioni 1992 (Image and Vision Computing 10:145) with Tukey's biweight, along the mean of both normals,
which is right on round surfaces, too (Rusinkiewicz 2019, ACM Transactions on Graphics 38:85, from memory).
A shift that no surface facing it holds is not followed: the noise of normals alone would make the fit slide
(the remapping of Zhang, Kaess and Singh 2016, ICRA, for one direction found by counting what faces it).
"""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.reach import Reach
from terrazza.core.register.surface import Lately, Surface
from terrazza.errors import InputError

SAMPLES = Lately(40)
WIDTHS = (0.50, 0.25, 0.12, 0.06, 0.03)
# cosine of a normal and a shift that it holds; the sum of weights of such normals below which the shift is
# not held
FACING, FEWEST_FACING = 0.35, 12.0
# cosine from which a normal that does not face a shift still tells of it, if both scans' own normals agree to
# within as much; and the sum of products of both cosines, weighted, from which such slopes hold it, at least
# and for each point: the noise of the two is independent, and its products cancel. Of 80 pairs (4,000 points)
# in simulated corridors, streets, storeys, shelves, cloisters and under bridges that nothing facing a shift
# holds two had more than 0.02, both right, and a street (16,000 points, begun 0.2 m off) 1.4, which is less
# than 0.0004 for each; on bare hills they have 0.8 to 10, 0.0012 and more for each
GENTLE, SLOPES, OF_EACH = 0.06, 0.8, 0.0008
FIRM = 0.03  # share of a fit's information in its weakest shift below which it may slide
# where nothing holds a fit: m along it that are looked at, the distance at which points lie on a surface
# there, how many such places are fitted, from what widths, and what is one place; by how much one has to be
# held (of 200 pairs in simulated streets, corridors, floors, rooms and crowds 60 came right, at 14 and more,
# and two wrong, at 14 and 14.5), and the share of the most from which two are about as good
SHIFTS, CAUGHT, PEAKS = np.arange(-0.32, 0.321, 0.02), 0.015, 3
CATCHING, ONE_CATCH, LEAST_CAUGHT, ABOUT_AS_MUCH = (0.06, 0.03), (0.02, np.radians(0.3)), 18.0, 0.5
# what faces a shift, of what lies nearer than ``ACROSS``, may lie scattered over so many m, and so many times
# the noise of all else, to hold it (of 330 pairs in fifteen simulated places eleven were 5 to 74 mm off along
# it, all of them beyond; so were twelve right ones)
SCATTERED, SCATTERED_TIMES, ACROSS = 0.017, 5.0, 0.06
DIRECTIONS = ("along X", "along Y", "in height", "tilt about X", "tilt about Y", "heading")


@dataclass
class Fit:
    """Result of a cloud fit: ``pose`` of b in a's frame.

    ``rms`` (m): of the point-to-plane distances of the used points; ``median`` (m) of their absolute values;
    ``overlap``: share of b's flat points with a partner in a; ``used``: number of point pairs;
    ``information`` (6×6): of (rotation about b's place, shift) in a's frame, per unit variance of one
    distance; ``centre``: that place; ``converged``: the last step was under 0.1 mm; ``free``: unit shifts
    (3,) in a's frame that nothing holds, along which the pose is where the fit began; ``scattered``: unit
    shifts, times how far (m) what faces them lies scattered along them: round corners, things that moved;
    ``sloping``: unit shifts that nothing faces and slopes hold.
    """

    pose: np.ndarray
    rms: float
    median: float
    overlap: float
    used: int
    information: np.ndarray
    centre: np.ndarray
    converged: bool
    free: tuple[np.ndarray, ...] = ()
    scattered: tuple[np.ndarray, ...] = ()
    sloping: tuple[np.ndarray, ...] = ()

    def hold(self) -> dict[str, float]:
        """How firmly each direction is held: share (0 to 1) of the used points that see it.

        Shifts: mean squared cosine between normals and the axis.  A free direction is near 0.
        """
        d = np.diag(self.information)[3:] / max(np.trace(self.information[3:, 3:]), 1e-12)
        weakest = np.linalg.eigvalsh(self.information[3:, 3:])[0] / max(
            np.trace(self.information[3:, 3:]), 1e-12
        )
        return {"x": float(d[0]), "y": float(d[1]), "z": float(d[2]), "weakest": float(weakest)}


def weak_direction(information: np.ndarray) -> tuple[np.ndarray, float]:
    """The unit shift that the ties hold least, and its share of the whole (1/3 would be even).
    ``information`` (6, 6), shift (3,).
    """
    values, vectors = np.linalg.eigh(information[3:, 3:])
    return vectors[:, 0], float(values[0] / max(values.sum(), 1e-12))


def unheld(normals: np.ndarray, weight: np.ndarray, least: float) -> list[tuple[np.ndarray, float]]:
    """Unit shifts that no surface facing them holds, and by how much each is held: the weights of the
    ``normals`` (n, 3), or (n, 2) in plan, that face it, less than ``least``.

    The noise of the other normals alone would hold them, too, and wrongly.
    """
    out = []
    for direction in np.linalg.eigh((normals * weight[:, None]).T @ normals)[1].T[:2]:
        cosine = normals @ direction
        held = float((weight * cosine**2)[np.abs(cosine) > FACING].sum())
        if held < least:
            out.append((direction, held))
    return out


def _slopes(mine: np.ndarray, other: np.ndarray, weight: np.ndarray, direction: np.ndarray) -> float:
    """By how much slopes that hardly face a shift (3,) hold it: what is the same in both scans' own normals
    (n, 3), as the weights of what faces it.
    """
    a, b = mine @ direction, other @ direction
    gentle = (np.minimum(np.abs(a), np.abs(b)) > GENTLE) & (np.maximum(np.abs(a), np.abs(b)) < FACING)
    return float((weight * a * b)[gentle & (np.abs(a - b) < GENTLE)].sum())


def sample(surface: Surface, most: int = 16000, seed: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """Flat points of a scan spread evenly over space and direction: (points, normals); kept of the last few
    surfaces.
    """
    kept = SAMPLES.of(surface, dict)
    if (most, seed) not in kept:
        kept[most, seed] = _sampled(surface, most, seed)
    return kept[most, seed]


def _sampled(surface: Surface, most: int, seed: int) -> tuple[np.ndarray, np.ndarray]:
    index = np.flatnonzero(surface.flat)
    if len(index) > most:
        facing = np.argmax(np.abs(surface.normals[index]), axis=1)
        share = 1.0 / np.maximum(np.bincount(facing, minlength=3), 1)[facing]
        share = np.minimum(share / share.sum() * most, 1.0)
        index = index[np.random.default_rng(seed).random(len(index)) < share]
    return surface.xyz[index], surface.normals[index]


def fit(
    a: Surface,
    b: Surface,
    start: np.ndarray,
    widths: tuple[float, ...] = WIDTHS,
    rounds: int = 12,
    most: int = 16000,
) -> Fit:
    """Align b to a from the rough pose ``start`` (b to a), by at most ``most`` of b's points.

    Raises InputError where fewer than 100 point pairs lie within the widest search; the result tells by
    ``overlap`` and ``rms`` whether to believe it. ``start`` (4, 4).
    """
    points, normals = sample(b, most)
    if len(points) < 100 or a.flat.sum() < 100:
        raise InputError(
            "A scan has too few flat points for a cloud fit.", "Tie it by targets, or set it by numbers."
        )
    pose, moved = start.copy(), np.inf
    for width in widths:
        for _ in range(rounds):
            system = _system(a, points, normals, pose, width)
            if system is None:
                raise _too_little()
            gradient = system.gradient
            for free in system.free:
                gradient = gradient - free * (free @ gradient)
            solution = -np.linalg.pinv(system.hessian, rcond=1e-9, hermitian=True) @ gradient
            pose = rigid.step(pose, solution[:3], solution[3:], system.about)
            moved = float(np.linalg.norm(solution[3:]) + 5.0 * np.linalg.norm(solution[:3]))
            if moved < 0.02 * width * (0.2 if width == widths[-1] else 1.0):
                break
    system = _system(a, points, normals, pose, widths[-1])
    if system is None:  # the last step carried it away from the last pairs
        raise _too_little()
    distances, weights, free = system.distances, system.weights, tuple(f[3:] for f in system.free)
    good = weights > 0
    return Fit(
        pose,
        float(np.sqrt(np.mean(distances[good] ** 2))),
        float(np.median(np.abs(distances[good]))),
        len(distances) / len(points),
        int(good.sum()),
        system.hessian,
        system.about,
        moved < 1e-4 * 5,
        free,
        _scattered(system.normals, distances, weights, free),
        tuple(f[3:] for f in system.sloping),
    )


def _scattered(
    facing: np.ndarray, distances: np.ndarray, weights: np.ndarray, free: tuple[np.ndarray, ...]
) -> tuple[np.ndarray, ...]:
    """The weaker shifts, times how far (m) what faces them lies scattered along them, where that is too far
    to hold them; those that are ``free`` are left out.
    """
    away, out = np.abs(distances), []
    for direction in np.linalg.eigh((facing * weights[:, None]).T @ facing)[1].T[:2]:
        cosine = facing @ direction
        faces = np.abs(cosine) > FACING
        near = faces & (away < ACROSS)
        if near.sum() < FEWEST_FACING or faces.all() or any(abs(direction @ f) > 0.5 for f in free):
            continue
        along = distances[near] / cosine[near]
        spread = 1.4826 * float(np.median(np.abs(along - np.median(along))))
        if spread > max(SCATTERED, SCATTERED_TIMES * max(1.4826 * float(np.median(away[~faces])), 0.0008)):
            out.append(spread * direction)
    return tuple(out)


def caught(a: Surface, b: Surface, loose: Fit) -> Fit | None:
    """Along shifts that nothing holds where a fit ended, the one nearby where something does, such as jambs
    and the sides of things that both scans saw: they lie on each other to a millimetre there, while wrong
    shifts leave hardly any.  None where nothing is caught, or two shifts catch about as much.
    """
    found: list[tuple[float, Fit]] = []
    for free in loose.free:
        for shift in _likely_shifts(a, b, loose.pose, free):
            try:
                one = fit(a, b, rigid.make(np.eye(3), shift * free) @ loose.pose, CATCHING)
            except InputError:
                continue
            held = float(free @ one.information[3:, 3:] @ free)
            again = any(rigid.within(one.pose, other.pose, ONE_CATCH) for _, other in found)
            if held > LEAST_CAUGHT and not again and not any(abs(free @ f) > 0.5 for f in one.free):
                found.append((held, one))
    found.sort(key=lambda f: -f[0])
    if not found or len(found) > 1 and found[1][0] > ABOUT_AS_MUCH * found[0][0]:
        return None
    return found[0][1]


def _likely_shifts(a: Surface, b: Surface, pose: np.ndarray, free: np.ndarray) -> list[float]:
    """The shifts (m) of b along a direction ``free`` (3,) that lay most of what faces it on what faces it in
    a; ``pose`` (4, 4), b to a.
    """
    facing = lambda surface, turn: surface.flat & (np.abs(surface.normals @ turn.T @ free) > FACING)
    mine, other = facing(a, np.eye(3)), facing(b, pose[:3, :3])
    if min(mine.sum(), other.sum()) < FEWEST_FACING:
        return []
    base, base_normals = a.xyz[mine], a.normals[mine]
    tree, points = Reach(base, 2 * a.spacing), rigid.apply(pose, b.xyz[other])
    normals = b.normals[other] @ pose[:3, :3].T
    lain = np.zeros(len(SHIFTS))
    for k, shift in enumerate(SHIFTS):
        q = points + shift * free
        gap, index = tree.nearest(q, 2 * a.spacing)
        hit = np.isfinite(gap)
        n = base_normals[index[hit]]
        on = np.abs(np.einsum("ij,ij->i", n, q[hit] - base[index[hit]])) < CAUGHT
        on &= np.einsum("ij,ij->i", n, normals[hit]) > 0.85
        lain[k] = ((n[on] @ free) ** 2).sum()
    peaks = [
        k
        for k in np.argsort(-lain)[: 4 * PEAKS]
        if lain[k] > 0 and lain[k] == lain[max(k - 2, 0) : k + 3].max()
    ]
    return [float(SHIFTS[k]) for k in peaks[:PEAKS]]


def _too_little() -> InputError:
    return InputError(
        "The two scans have too little in common here for a cloud fit.",
        "Place the scan nearer by hand, or choose another neighbour.",
    )


def compare(
    a: Surface, b: Surface, pose: np.ndarray, width: float = 0.12, most: int = 16000
) -> tuple[float, float, int, float] | None:
    """How well surfaces lie on each other at a pose (b to a): RMS and median (m) of the distances that belong
    together, their number, and the share of partners within ``width`` (m) that do not.

    What moved is not misfit: distances beyond 4.685 robust deviations are counted, not averaged. None where
    they have too little in common. ``pose`` (4, 4).
    """
    points, normals = sample(b, most)
    system = _system(a, points, normals, pose, width) if len(points) >= 100 and a.flat.sum() >= 100 else None
    if system is None:
        return None
    away = np.abs(system.distances)
    matched = away <= max(4.685 * 1.4826 * np.median(away), 0.003)
    return (
        float(np.sqrt(np.mean(away[matched] ** 2))),
        float(np.median(away[matched])),
        int(matched.sum()),
        float(1 - matched.mean()),
    )


class _System(NamedTuple):
    """Normal equations of one round: 6×6, 6, reference place, distances (n,) m, weights and normals (n, 3) of
    the points with a partner, and the shifts (6,) that nothing holds and those that slopes alone do.
    """

    hessian: np.ndarray
    gradient: np.ndarray
    about: np.ndarray
    distances: np.ndarray
    weights: np.ndarray
    normals: np.ndarray
    free: list[np.ndarray]
    sloping: list[np.ndarray]


def _system(
    a: Surface,
    points: np.ndarray,
    normals: np.ndarray,
    pose: np.ndarray,
    width: float,
) -> _System | None:
    """That of a round from a ``pose`` (4, 4), of b's points and normals (n, 3) with partners within ``width``
    (m) in a; None where there are too few.

    What the noise of normals alone says of shifts that nothing faces is taken out of the 6×6.
    """
    base, base_normals = a.flats
    q = rigid.apply(pose, points)
    gap, index = a.nearest(q, max(width, 2.5 * a.spacing))
    hit = np.isfinite(gap)
    if hit.sum() < 100:
        return None
    q, index = q[hit], index[hit]
    n, other = base_normals[index], normals[hit] @ pose[:3, :3].T
    same = np.einsum("ij,ij->i", n, other) > 0.85
    q, n, other, p = q[same], n[same], other[same], base[index[same]]
    if len(q) < 100:
        return None
    # how far a surface that turns so much between two points may lie aside of both
    bent = np.linalg.norm(n - other, axis=1) * np.linalg.norm(q - p, axis=1) / 2
    each, n = (n, other), (n + other) / np.linalg.norm(n + other, axis=1, keepdims=True)
    distance = np.einsum("ij,ij->i", n, q - p)
    scale = max(1.4826 * np.median(np.abs(distance)), 0.0008)
    # never far under the width: where floor and ceiling already fit, most distances are small, and the walls
    # that do not would be thrown out
    reach = max(min(width, 4.685 * scale), 0.4 * width)
    weight = np.where(np.abs(distance) < reach, (1 - (distance / reach) ** 2) ** 2, 0.0)
    weight /= 1 + (bent / max(scale, 0.05 * width)) ** 2
    about = q.mean(0)
    jacobian = np.concatenate([np.cross(q - about, n), n], 1)
    weighted = jacobian * weight[:, None]
    hessian, free, sloping = weighted.T @ jacobian, [], []
    for direction, held in unheld(n, weight, FEWEST_FACING):
        shift = np.r_[np.zeros(3), direction]
        slopes = _slopes(*each, weight, direction)
        if slopes > max(SLOPES, OF_EACH * weight.sum()):  # by so much, without the noise of normals on top
            less = np.sqrt(min(1.0, (held + slopes) / (shift @ hessian @ shift)))
            scaled = np.eye(6) + (less - 1.0) * np.outer(shift, shift)
            hessian = scaled @ hessian @ scaled
            sloping.append(shift)
            continue
        across = np.eye(6) - np.outer(shift, shift)
        hessian = across @ hessian @ across + held * np.outer(shift, shift)
        free.append(shift)
    return _System(hessian, weighted.T @ distance, about, distance, weight, n, free, sloping)
