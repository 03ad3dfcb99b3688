"""Where a camera's picture shows a direction: the spherical, cylindrical and pinhole representations of ASTM
E2807 (8.4.10 to 8.4.12; formulas from memory).

Camera frames: spherical and cylindrical pictures look along +x in their middle with +z up, azimuth growing to
the left; a pinhole camera looks along -z with +x to the right and +y up.
"""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Camera:
    """``pixel`` are width and height of a pixel: radians for a spherical picture, radians and metres for a
    cylindrical one, metres for a pinhole one; ``principal`` (pixels), ``focal`` and ``radius`` (m) where the
    representation has them.
    """

    kind: str
    width: int
    height: int
    pixel: tuple[float, float] = (0.0, 0.0)
    principal: tuple[float, float] = (0.0, 0.0)
    focal: float = 0.0
    radius: float = 0.0

    @classmethod
    def of(cls, record: dict) -> "Camera":
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

    def pixels(self, xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Continuous column and row (0 in the middle of the first pixel) of points (n, 3, camera frame), and
        a mask of those inside the picture.
        """
        x, y, z = np.asarray(xyz, float).T
        with np.errstate(divide="ignore", invalid="ignore"):
            if self.kind == "pinhole":
                ahead = -z
                column = self.principal[0] + x / ahead * self.focal / self.pixel[0]
                row = self.principal[1] - y / ahead * self.focal / self.pixel[1]
                front = ahead > 1e-9
            else:
                flat, front = np.hypot(x, y), np.ones(len(x), bool)
                column = self.width / 2 - np.arctan2(y, x) / self.pixel[0]
                row = (
                    self.height / 2 - np.arctan2(z, flat) / self.pixel[1]
                    if self.kind == "spherical"
                    else self.principal[1] - z / flat * self.radius / self.pixel[1]
                )
        inside = front & (column >= 0) & (column <= self.width) & (row >= 0) & (row <= self.height)
        return np.where(inside, column, 0) - 0.5, np.where(inside, row, 0) - 0.5, inside

    @property
    def turns(self) -> bool:
        """Whether the first column follows on the last."""
        return self.kind != "pinhole" and self.width * self.pixel[0] > 2 * np.pi - 1e-6
