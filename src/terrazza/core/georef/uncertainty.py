"""How sure georeferenced poses are: the network's covariance and the targets' noise, carried through the
control fit.

The fit of the control is linearised: a wrong scan pose moves the targets seen in it,
these turn and shift the fitted frame, and the frame moves every scan.  Errors
that scan and frame share cancel where they should, because both stem from one joint covariance.
"""

import numpy as np

from terrazza.core.geometry import rigid


def grid_covariances(
    frame: np.ndarray,
    centres: np.ndarray,
    weights: np.ndarray,
    owners: np.ndarray,
    noise: np.ndarray,
    point: np.ndarray,
    poses: list[np.ndarray],
    joint: np.ndarray,
) -> np.ndarray:
    """(k, 6, 6) covariances of (rotation, shift) of each scan's pose in the grid.

    ``frame`` 4×4, job to grid.  Sightings (m): ``centres`` (m, 3) in the job frame, ``weights`` (m,) of each
    within its control point (they sum to one a point), ``owners`` (m,) the scan index or −1 for a scan
    outside ``joint``, ``point`` (m,) the control point's index.  ``noise`` (p, 3): variances of each control
    point's mismatch (targets and survey, grid axes).  ``poses`` scan to job; ``joint`` (6k, 6k): covariance
    of (rotation about the scan's place, shift) of all scans, job frame.
    """
    k, count = len(poses), int(point.max()) + 1
    turn = frame[:3, :3]
    place = np.array([p[:3, 3] for p in poses]) if k else np.zeros((0, 3))
    mean = np.zeros((count, 3))
    np.add.at(mean, point, centres * weights[:, None])
    grid = rigid.apply(frame, mean)
    centre = grid.mean(0)
    design = rigid.motion_of(grid - centre)
    solve = np.linalg.inv(design.T @ design) @ design.T
    by_scan = np.zeros((3 * count, 6 * k))  # grid error of each point's mean per unit of pose error
    for c, w, s, p in zip(centres, weights, owners, point):
        if s >= 0:
            by_scan[3 * p : 3 * p + 3, 6 * s : 6 * s + 6] += w * turn @ rigid.motion_of((c - place[s])[None])
    by_frame, by_noise = -solve @ by_scan, -solve
    out = np.empty((k, 6, 6))
    for s in range(k):
        lever = rigid.apply(frame, place[s : s + 1])[0] - centre
        carry = np.block([[np.eye(3), np.zeros((3, 3))], [-rigid.skew(lever), np.eye(3)]])
        own = np.zeros((6, 6 * k))
        own[:3, 6 * s : 6 * s + 3], own[3:, 6 * s + 3 : 6 * s + 6] = turn, turn
        total = carry @ by_frame + own
        part = carry @ by_noise
        out[s] = total @ joint @ total.T + (part * noise.ravel()) @ part.T
    return out
