"""How a job writes its figures: unit, decimals, marks and the order of coordinates, for pages and files
alike.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.operations.spine.job import Job
from terrazza.units import metres_per

SHORT = {"metre": "m", "millimetre": "mm", "international foot": "ft", "US survey foot": "ftUS", "inch": "in"}
MARKS = {"none": "", "thin space": "\u202f", "comma": ",", "point": ".", "apostrophe": "’"}


@dataclass(frozen=True)
class Notation:
    """Of a job; lengths are given in metres."""

    unit: str = "metre"
    decimals: int = 3
    decimal_mark: str = "point"
    thousands: str = "none"
    order: str = "E N H"

    @classmethod
    def of(cls, job: Job) -> "Notation":
        return job.once("notation", lambda: cls(**job.get("notation", "", {})))

    @property
    def short(self) -> str:
        return SHORT[self.unit]

    @property
    def plural(self) -> str:
        return (
            "inches"
            if self.unit == "inch"
            else self.unit.replace("foot", "feet")
            if "foot" in self.unit
            else f"{self.unit}s"
        )

    @property
    def metres(self) -> float:
        return metres_per(self.unit)

    @property
    def small_short(self) -> str:
        """Unit of residuals and standard deviations: millimetres, but the job's own where it counts in feet
        or inches.
        """
        return "mm" if self.unit in {"metre", "millimetre"} else self.short

    def small(self, millimetres: float, decimals: int = 1) -> str:
        """A residual as finely as so many ``decimals`` of a millimetre, without its unit."""
        per = 1.0 if self.small_short == "mm" else self.metres * 1000
        fine = decimals + round(np.log10(per))
        return self.number(round(float(millimetres) / per, fine) + 0.0, fine)  # no minus before a zero

    def number(self, value: float, decimals: int | None = None) -> str:
        """A plain number with the job's marks."""
        text = f"{value:,.{self.decimals if decimals is None else decimals}f}"
        return (
            text.replace(",", "\0")
            .replace(".", "," if self.decimal_mark == "comma" else ".")
            .replace("\0", MARKS[self.thousands])
        )

    def residual(self, millimetres: float, decimals: int = 1) -> str:
        """A residual as ``small`` writes it, with its unit."""
        return f"{self.small(millimetres, decimals)} {self.small_short}"

    def length(self, metres: float, square: bool = False) -> str:
        """A length, or with ``square`` an area, with its unit."""
        return (
            f"{self.number(metres / self.metres ** (2 if square else 1))} {self.short}{'²' if square else ''}"
        )

    def ordered(self, point) -> list[float]:
        """A coordinate triple in the job's order and unit."""
        e, n, h = np.asarray(point, float) / self.metres
        return [e, n, h] if self.order == "E N H" else [n, e, h]

    def named(self, east, north, height) -> list:
        """Three things that belong to the coordinates, in the job's order."""
        return [east, north, height] if self.order == "E N H" else [north, east, height]

    def coordinate(self, point) -> str:
        return "  ".join(self.number(v) for v in self.ordered(point))

    def about(self) -> dict:
        """For scripts: factor, short unit, decimals, marks and order."""
        return {
            "per_unit": self.metres,
            "unit": self.short,
            "decimals": self.decimals,
            "decimal": "," if self.decimal_mark == "comma" else ".",
            "thousands": MARKS[self.thousands],
            "order": self.order,
        }
