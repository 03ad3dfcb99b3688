"""Length units and their factors to metres.

The international foot is 0.3048 m exactly (1959 notice); the US survey foot is
1200/3937 m exactly (NIST SP 811, appendix B).  They differ by 2 parts per
million, which is metres on state-plane coordinates, so nothing here ever maps
the bare word "foot" or "ft" to one of them.
"""

from fractions import Fraction

from terrazza.errors import ParamsError

FACTORS: dict[str, Fraction] = {
    "metre": Fraction(1),
    "millimetre": Fraction(1, 1000),
    "international foot": Fraction(3048, 10000),
    "US survey foot": Fraction(1200, 3937),
    "inch": Fraction(254, 10000),
}


def metres_per(unit: str) -> float:
    """Metres in one ``unit``; ParamsError names the units known, and asks which foot is meant."""
    if unit in FACTORS:
        return float(FACTORS[unit])
    if unit.strip().lower() in {"foot", "feet", "ft"}:
        raise ParamsError(
            f"“{unit}” may be the international foot or the US survey foot; they differ by 2 ppm.",
            "Say which: “international foot” or “US survey foot”.",
        )
    raise ParamsError(f"The unit “{unit}” is not known.", f"Use one of: {', '.join(FACTORS)}.")
