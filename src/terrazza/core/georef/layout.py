"""Whether targets lie so that control can hold a job by them, and which sightings to look at first.  Limits
are common practice, no source.
"""

import numpy as np

# across a line of targets over along it; extent of the targets over that of the stations and all they saw
# targets from
LINE, BUNCHED = 0.06, 0.25
LEVEL = 0.9  # upright share of a normal from which a target lies on a floor or a ceiling
FAR, STEEP = 30.0, 60.0  # m and degrees beyond which a sighting is poor


def warnings(places: np.ndarray, normals: np.ndarray, stations: np.ndarray) -> list[str]:
    """What is wrong with where targets hang: ``places`` (n, 3, m) of physical targets with ``normals`` (n,
    3), and the ``stations`` (k, 3, m) of the job, all in one frame that stands upright.
    """
    n = len(places)
    if n < 3:
        return [
            f"Only {n} target{'s' * (n != 1)} {'were' if n != 1 else 'was'} found: a fit to control needs "
            "three, and four to show which one is wrong."
        ]
    out, about = [], places - places.mean(0)
    spread = np.linalg.svd(about, compute_uv=False)
    if spread[1] < LINE * spread[0]:
        out.append(
            f"The {n} targets lie in a line ({np.ptp(about @ np.linalg.svd(about)[2][1]):.2f} m across it), "
            "so the tilt about it is open. Add one away from it."
        )
    extent, job = (
        np.linalg.norm(np.ptp(places[:, :2], axis=0)),
        np.linalg.norm(np.ptp(stations[:, :2], axis=0)),
    )
    if extent < BUNCHED * job:
        out.append(
            f"The {n} targets lie within {extent:.1f} m of each other, the stations spread over {job:.1f} m: "
            "what is far from them turns with the targets' errors. Add some at the ends."
        )
    if (np.abs(normals[:, 2]) > LEVEL).all():
        out.append(
            f"All {n} targets lie on the floor or the ceiling: they are seen at a grazing angle from afar. "
            "Hang some on walls."
        )
    return out


def poor(distance: float, incidence_deg: float) -> str:
    """Why a sighting is poor, in words; empty where it is not."""
    return (
        f"seen from {distance:.0f} m"
        if distance > FAR
        else f"seen at {incidence_deg:.0f}°"
        if incidence_deg > STEEP
        else ""
    )


def doubt(sigma: float, fit: float, distance: float, incidence_deg: float) -> float:
    """How much a sighting asks to be looked at, for sorting: its σ (mm), more where it fits its pattern badly
    (``fit`` under 1), from far away or at a steep angle.
    """
    return (
        1000
        * sigma
        * (1 + 4 * max(0.0, 1 - fit))
        * (1 + (distance / FAR) ** 2)
        * (1 + (incidence_deg / STEEP) ** 4)
    )
