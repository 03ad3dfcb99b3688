"""Where a camera's picture shows a direction: the spherical, cylindrical and pinhole representations of ASTM
E2807 (8.4.10 to 8.4.12; formulas from memory), the last with a lens that bends (D. C. Brown, "Close-range
camera calibration", Photogrammetric Engineering 37, 1971; radial k1, k2, k3 and decentring p1, p2, from
memory).

Camera frames: spherical and cylindrical pictures look along +x in their middle with +z up, azimuth growing to
the left; a pinhole camera looks along -z with +x to the right and +y up.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.later import later

with later():
    from terrazza.core.color import lenses

CELLS = (180, 360)  # by which a picture is doubted: degrees around the camera's place
KINDS = {"spherical": 0, "cylindrical": 1, "pinhole": 2}


@dataclass(frozen=True)
class Camera:
    """``pixel`` are width and height of a pixel: radians for a spherical picture, radians and metres for a
    cylindrical one, metres for a pinhole one; ``principal`` (pixels), ``focal`` and ``radius`` (m) where the
    representation has them.  ``bends`` are k1, k2, p1, p2, k3 of a pinhole camera's lens, about its axis in
    units of the focal length, with y down.
    """

    kind: str
    width: int
    height: int
    pixel: tuple[float, float] = (0.0, 0.0)
    principal: tuple[float, float] = (0.0, 0.0)
    focal: float = 0.0
    radius: float = 0.0
    bends: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0, 0.0)

    @classmethod
    def of(cls, record: dict[str, Any]) -> "Camera":
        """From a photo's record; a spherical picture that tells no pixel size spans the full turn."""
        lens = record.get("lens") or {}
        width, height = record["width"], record["height"]
        pixel = (
            (lens.get("pixelWidth") or 2 * np.pi / width, lens.get("pixelHeight") or np.pi / height)
            if record["representation"] == "spherical"
            else (lens.get("pixelWidth", 0.0), lens.get("pixelHeight", 0.0))
        )
        return cls(
            record["representation"],
            width,
            height,
            pixel,
            (lens.get("principalPointX", width / 2), lens.get("principalPointY", height / 2)),
            lens.get("focalLength", 0.0),
            lens.get("radius", 0.0),
            tuple(lens.get(k, 0.0) for k in ("k1", "k2", "p1", "p2", "k3")),
        )

    @property
    def usable(self) -> bool:
        """Whether the picture says enough to be laid on points."""
        return (
            min(self.width, self.height) > 0
            and min(self.pixel) > 0
            and {"spherical": True, "cylindrical": self.radius > 0, "pinhole": self.focal > 0}.get(
                self.kind, False
            )
        )

    @property
    def numbers(self) -> np.ndarray:
        """(14,) what ``lenses.shown`` needs, in its order; the last is the farthest tangent from the axis at
        which the lens still shows outer things farther out.
        """
        return np.array(
            [
                KINDS[self.kind],
                self.width,
                self.height,
                *self.pixel,
                *self.principal,
                self.focal,
                self.radius,
                *self.bends,
                self._reach(),
            ]
        )

    def _reach(self) -> float:
        k1, k2, _, _, k3 = self.bends
        folds = np.roots([7 * k3, 5 * k2, 3 * k1, 1.0]) if any((k1, k2, k3)) else np.zeros(0)
        real = folds[(np.abs(folds.imag) < 1e-12) & (folds.real > 0)].real
        return float(np.sqrt(real.min())) if len(real) else np.inf

    @property
    def finest(self) -> float:
        """Angle (rad) that a pixel spans in the middle of the picture."""
        across = {"spherical": 1.0, "cylindrical": max(self.radius, 1e-9), "pinhole": max(self.focal, 1e-9)}
        return float(self.pixel[1] / across[self.kind])

    def pixels(self, xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Continuous column and row (0 in the middle of the first pixel) of points (n, 3, camera frame), and
        a mask of those inside the picture.
        """
        return lenses.all_shown(np.ascontiguousarray(xyz, dtype=np.float64).reshape(-1, 3), self.numbers)

    @property
    def turns(self) -> bool:
        """Whether the first column follows on the last."""
        return self.kind != "pinhole" and self.width * self.pixel[0] > 2 * np.pi - 1e-6
