"""From named values of text, PLY and PCD files to the columns of a scan, with what had to be repaired on the
way.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

ALIASES = {
    "x": {"x", "easting", "east", "e"},
    "y": {"y", "northing", "north", "n"},
    "z": {"z", "height", "elevation", "h"},
    "intensity": {"intensity", "i", "reflectance", "amplitude", "scalar_intensity"},
    "red": {"red", "r", "diffuse_red"},
    "green": {"green", "g", "diffuse_green"},
    "blue": {"blue", "b", "diffuse_blue"},
    "class": {"class", "classification"},
    "time": {"time", "gps_time", "gpstime", "timestamp", "t"},
}
SAMPLE = 20_000


def meaning(name: str) -> str:
    """Our name of a column headed ``name``; the heading itself, made plain, where it is none of ours."""
    plain = "_".join(name.strip().strip('"#/').lower().replace("-", " ").split())
    return next((ours for ours, words in ALIASES.items() if plain in words), plain)


@dataclass(frozen=True)
class Tones:
    """How intensity and colour are written: stored = (value + ``shift``) · ``gain``, colour 8-bit = value ·
    ``colour``.

    Whole numbers from 0 to 65,535 are kept as they are; other ranges are spread over them.
    """

    shift: float = 0.0
    gain: float = 1.0
    colour: float = 1.0

    @property
    def back(self) -> tuple[float, float] | None:
        """(gain, start) from what is stored back to the file's intensity; None where it is the same."""
        return None if (self.shift, self.gain) == (0.0, 1.0) else (1 / self.gain, -self.shift)


def tones(sample: dict[str, np.ndarray]) -> Tones:
    """The tones that a sample of the file's points shows."""
    shift, gain, colour = 0.0, 1.0, 1.0
    value = _finite(sample.get("intensity"))
    if len(value):
        low, high = float(value.min()), float(value.max())
        if low < 0:
            shift, gain = (
                (2048.0, 1.0) if low >= -2048 and high <= 2048 else (-low, 65535 / max(high - low, 1e-12))
            )
        elif high <= 1 and (value % 1).any():
            gain = 65535.0
        elif high > 65535:
            gain = 65535 / high
    light = np.concatenate([_finite(sample.get(c)) for c in ("red", "green", "blue")])
    if len(light):
        top = float(light.max())
        colour = 255.0 if top <= 1 and (light % 1).any() else 255 / 65535 if top > 255 else 1.0
    return Tones(shift, gain, colour)


def _finite(values: np.ndarray | None) -> np.ndarray:
    values = np.zeros(0) if values is None else np.asarray(values, float)
    return values[np.isfinite(values)]


def chunk(named: dict[str, np.ndarray], how: Tones, missing: bool = False) -> dict[str, Any]:
    """A chunk of a scan: ``xyz`` (n, 3) float64 in the file's unit, intensity u16, native_rgb u8, class u8,
    time f64, row and column u32 and ``extra.NAME`` where there, and ``repairs``: counts by code.

    Points without finite coordinates are left out, and with ``missing`` those at exactly 0, 0, 0 (no echo in
    gridded files).
    """
    xyz = np.stack([np.asarray(named[a], float) for a in "xyz"], 1)
    finite = np.isfinite(xyz).all(1)
    there = (xyz != 0).any(1) if missing else np.ones(len(xyz), bool)
    good = finite & there
    repairs = {"not_finite": int((~finite).sum()), "no_echo": int((finite & ~there).sum())}
    keep = (lambda a: np.asarray(a)) if good.all() else (lambda a: np.asarray(a)[good])
    out = {"xyz": keep(xyz)}
    if "intensity" in named:
        value = (keep(named["intensity"]).astype(float) + how.shift) * how.gain
        out["intensity"], repairs["intensity_range"] = _fitted(value, 65535, np.uint16)
    if {"red", "green", "blue"} <= set(named):
        value = np.stack([keep(named[c]).astype(float) for c in ("red", "green", "blue")], 1) * how.colour
        out["native_rgb"], repairs["colour_range"] = _fitted(value, 255, np.uint8)
    if "class" in named:
        out["class"], repairs["class_range"] = _fitted(keep(named["class"]).astype(float), 255, np.uint8)
    if "time" in named:
        out["time"] = keep(named["time"]).astype(np.float64)
    for name in ("row", "column"):
        if name in named:
            out[name] = keep(named[name]).astype(np.uint32)
    for name in sorted(set(named) - set(ALIASES) - {"row", "column"}):
        out[f"extra.{name}"] = keep(named[name])
    return out | {"repairs": {code: n for code, n in repairs.items() if n}}


def _fitted(value: np.ndarray, top: int, kind: type) -> tuple[np.ndarray, int]:
    """Rounded and kept within 0 to ``top``, and how many points had to be."""
    rounded = np.rint(np.nan_to_num(value, nan=0.0))
    wrong = ~((rounded >= 0) & (rounded <= top) & np.isfinite(value))
    return np.clip(rounded, 0, top).astype(kind), int(
        np.count_nonzero(wrong.any(-1) if wrong.ndim > 1 else wrong)
    )


def eight_bit(rgb16: np.ndarray, deep: bool) -> np.ndarray:
    """16-bit colour as 8-bit; files that only fill the low byte (against the standard; not ``deep``) are
    taken as they are. ``rgb16`` (n, 3) u16, (n, 3) u8.
    """
    return rgb16.astype("<u2", copy=False).view(np.uint8).reshape(*rgb16.shape, 2)[..., int(deep)]
