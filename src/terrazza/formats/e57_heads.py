"""What an E57 file says of its scans before their points are read: poses, limits, bounds, intensities."""

from collections.abc import Callable
from typing import Any

import numpy as np
from pye57 import libe57 as lib

from terrazza.core.geometry import rigid
from terrazza.formats.e57_writer import CARTESIAN

PEEK = 50_000


def text(node: Any, key: str, default: str = "") -> str:
    return str(node[key].value()) if node.isDefined(key) else default


def number(node: Any, key: str, default: float = 0.0) -> float:
    return float(node[key].value()) if node.isDefined(key) else default


def pose_of(node: Any) -> np.ndarray | None:
    """4×4 of a node's pose, None where absent or without a usable rotation."""
    if not node.isDefined("pose"):
        return None
    p = node["pose"]
    q = (
        [number(p["rotation"], a, d) for a, d in zip("wxyz", (1, 0, 0, 0))]
        if p.isDefined("rotation")
        else [1, 0, 0, 0]
    )
    t = [number(p["translation"], a) for a in "xyz"] if p.isDefined("translation") else [0, 0, 0]
    try:
        return rigid.make(rigid.from_quaternion(q), t)
    except ValueError:
        return None


def moment(scan: Any) -> str:
    """When a scan began, in UTC to the second; the standard counts GPS seconds from 1980-01-06, which are 18
    s ahead of UTC since 2017.
    """
    seconds = number(scan["acquisitionStart"], "dateTimeValue") if scan.isDefined("acquisitionStart") else 0.0
    return (
        str(np.datetime64("1980-01-06T00:00:00") + np.timedelta64(int(seconds) - 18, "s")).replace("T", " ")
        if 0 < seconds < 4e9
        else ""
    )


def _limits(scan: Any, proto: Any) -> tuple[float, float] | None:
    """Lowest and highest intensity a scan declares: its limits, else the prototype's, else nothing."""
    if scan.isDefined("intensityLimits"):
        n = scan["intensityLimits"]
        low, high = number(n, "intensityMinimum"), number(n, "intensityMaximum")
        if high > low:
            return low, high
    if proto.isDefined("intensity"):
        n = proto["intensity"]
        if isinstance(n, lib.IntegerNode):
            return float(n.minimum()), float(n.maximum())
        if isinstance(n, lib.ScaledIntegerNode):
            return float(n.scaledMinimum()), float(n.scaledMaximum())
        if (
            isinstance(n, lib.FloatNode)
            and np.isfinite([n.minimum(), n.maximum()]).all()
            and abs(n.maximum()) < 1e30
        ):
            return float(n.minimum()), float(n.maximum())
    return None


def spread_of(limits: tuple[float, float]) -> tuple[float, float] | None:
    """(gain, start) from the 16 bits over which intensities are spread back to the file's; None where these
    are whole numbers of 16 bits.
    """
    low, high = limits
    return None if (low, high) == (0.0, 65535.0) else ((high - low) / 65535, low)


def _peeked(file: Any, scan: Any, names: list[str], enough: Callable[..., Any]) -> np.ndarray:
    """Finite values of some fields from a scan's beginning, read on until ``enough(values)`` or forty peeks
    are through.
    """
    held = {n: np.empty(PEEK, "f8") for n in names}
    buffers = lib.VectorSourceDestBuffer()
    for n, a in held.items():
        buffers.append(lib.SourceDestBuffer(file, n, a, PEEK, True, True))
    seen = np.zeros(0)
    if not scan["points"].childCount():
        return seen
    reader = scan["points"].reader(buffers)
    try:
        for _ in range(40):
            got = reader.read()
            if not got:
                break
            values = np.concatenate([a[:got] for a in held.values()])
            seen = np.concatenate([seen, values[np.isfinite(values)]])
            if enough(seen):
                break
    finally:
        reader.close()
    return seen


def intensities_of(file: Any, scan: Any, proto: Any) -> tuple[float, float]:
    """Lowest and highest intensity: as declared, or of undeclared floating numbers the natural range that a
    look at the first ones suggests.
    """
    declared = _limits(scan, proto)
    if declared or not proto.isDefined("intensity"):
        return declared or (0.0, 1.0)
    seen = _peeked(file, scan, ["intensity"], lambda v: len(v) >= PEEK and np.ptp(v) > 0)
    low, high = (float(seen.min()), float(seen.max())) if len(seen) else (0.0, 1.0)
    if low < 0:
        return (-2048.0, 2047.0) if low >= -2048 and high <= 2047 else (low, max(high, low + 1e-9))
    return 0.0, next((top for top in (1.0, 4095.0, 65535.0) if high <= top), high)


def tops_of(file: Any, scan: Any, proto: Any) -> dict[str, float]:
    """What full light is in each colour field: of whole numbers their largest, of floating ones 1, 255 or
    65,535 as limits or the first values show.
    """
    names = [n for n in ("colorRed", "colorGreen", "colorBlue") if proto.isDefined(n)]
    kinds = {n: proto[n] for n in names}
    out = {n: max(float(k.maximum()), 1.0) for n, k in kinds.items() if isinstance(k, lib.IntegerNode)}
    out |= {
        n: float(k.scaledMaximum())
        for n, k in kinds.items()
        if isinstance(k, lib.ScaledIntegerNode) and k.scaledMaximum() > 0
    }
    rest = [n for n in names if n not in out]
    if not rest:
        return out
    limits = scan["colorLimits"] if scan.isDefined("colorLimits") else None
    said = (
        max((number(limits, f"{n}Maximum") for n in rest), default=0.0)
        if limits is not None
        else max(float(kinds[n].maximum()) for n in rest)
    )
    if not 0 < said < 1e6:
        seen = _peeked(file, scan, rest, lambda v: ((v > 0) & (v != 1)).any())
        said = float(seen.max()) if len(seen) and seen.max() > 0 else 255.0
    return out | dict.fromkeys(rest, next(top for top in (1.0, 255.0, 65535.0, said) if said <= top))


def bounds_of(scan: Any) -> tuple[np.ndarray, np.ndarray] | None:
    """Lowest and highest coordinates that a scan declares, from cartesian bounds or else the largest range;
    None where it says nothing sensible.
    """
    if scan.isDefined("cartesianBounds"):
        n = scan["cartesianBounds"]
        low, high = (np.array([number(n, f"{a}{m}", np.nan) for a in "xyz"]) for m in ("Minimum", "Maximum"))
    elif scan.isDefined("sphericalBounds"):
        high = np.full(3, number(scan["sphericalBounds"], "rangeMaximum", np.nan))
        low = -high
    else:
        return None
    return (
        (low, high)
        if np.isfinite([low, high]).all() and (high >= low).all() and np.abs([low, high]).max() < 1e8
        else None
    )


def children(root: Any, key: str) -> list[Any]:
    if not root.isDefined(key):
        return []
    node = root[key]
    return [node[i] for i in range(node.childCount())]


def whole_numbers(proto: Any) -> tuple[list[float], list[float]] | None:
    nodes = [proto[n] if proto.isDefined(n) else None for n in CARTESIAN]
    if not all(
        isinstance(n, lib.ScaledIntegerNode)
        and n.minimum() >= -(2**31)
        and n.maximum() < 2**31
        and n.scale() > 0
        for n in nodes
    ):
        return None
    return [n.scale() for n in nodes], [n.offset() for n in nodes]


def zero_of(proto: Any, raw: bool) -> list[tuple[float, float]]:
    """The values that stand for the scanner's own place in each coordinate, lowest and highest; whole numbers
    may miss it by half a step.
    """
    scaled = whole_numbers(proto)
    if scaled is None:
        return [(0.0, 0.0)] * 3
    return [
        (z, z) if raw else ((z * s + o) - 1e-9 * s, (z * s + o) + 1e-9 * s)
        for s, o in zip(*scaled)
        for z in [float(np.rint(-o / s))]
    ]
