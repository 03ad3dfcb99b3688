"""ASTM E2807 (E57): look inside, stream points and photos out; ``Writer`` streams them in.

Coordinates, poses and images follow the standard: a scan's points are in its
own frame, its pose maps them to the file's frame, an image's pose maps the
camera to the file's frame.  Spherical coordinates are converted.
"""

import contextlib
import os
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from pye57 import libe57 as lib

from terrazza.core.geometry import rigid
from terrazza.errors import InputError
from terrazza.formats.contents import Contents, ImageInside, ScanInside
from terrazza.formats.e57_heads import (
    bounds_of,
    children,
    intensities_of,
    moment,
    number,
    pose_of,
    spread_of,
    text,
    tops_of,
    whole_numbers,
    zero_of,
)
from terrazza.formats.e57_writer import CARTESIAN, CHUNK, TIES, TIES_URI, Writer
from terrazza.formats.protocol import Format

__all__ = ["CARTESIAN", "Writer", "coordinates", "look", "read_image", "read_points"]


REPRESENTATIONS = (
    "sphericalRepresentation",
    "cylindricalRepresentation",
    "pinholeRepresentation",
    "visualReferenceRepresentation",
)
SPHERICAL = ("sphericalRange", "sphericalAzimuth", "sphericalElevation")
WANTED = (
    *CARTESIAN,
    *SPHERICAL,
    "cartesianInvalidState",
    "sphericalInvalidState",
    "intensity",
    "isIntensityInvalid",
    "colorRed",
    "colorGreen",
    "colorBlue",
    "isColorInvalid",
    "rowIndex",
    "columnIndex",
    "returnIndex",
    "timeStamp",
)
TAKEN = tuple(n for n in WANTED if n not in {"isIntensityInvalid", "isColorInvalid", "returnIndex"})
LENS = ("pixelWidth", "pixelHeight", "focalLength", "principalPointX", "principalPointY", "radius")
VERIFIED = 100  # per cent of the pages whose checksums are looked at


@contextlib.contextmanager
def _opened(path: str) -> Iterator[Any]:
    """The file open for reading; every failure of the library becomes one sentence about the file."""
    name = os.path.basename(path)
    if not os.path.exists(path):
        raise InputError(f"“{name}” is not there.", "Choose the file again.")
    if os.path.getsize(path) < 48:
        raise InputError(
            f"“{name}” is empty or cut off: an E57 file has at least 48 bytes.",
            "Copy it again from the instrument.",
        )
    image = None
    try:
        image = lib.ImageFile(str(path), "r", VERIFIED)
        yield image
    except (lib.E57Exception, RuntimeError) as error:
        first = str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
        raise InputError(
            f"“{name}” cannot be read as E57 ({first}).",
            "It may be damaged or cut off: copy it again from the instrument.",
        ) from error
    finally:
        if image is not None and image.isOpen():
            image.close()


def look(path: str) -> Contents:
    """Scans and images from the headers alone; InputError says what is wrong with a broken file.

    The same pose in every one of several scans (or the identity in a single one) counts as no pose.
    """
    found = Contents(path=str(path), format="E57", size=os.path.getsize(path) if os.path.exists(path) else 0)
    with _opened(path) as file:
        root = file.root()
        found.scans += [_scan_inside(file, i, scan) for i, scan in enumerate(children(root, "data3D"))]
        for i, image in enumerate(children(root, "images2D")):
            inside, note = _image_inside(i, image)
            if inside is None:
                found.notes.append(note)
            else:
                found.images.append(inside)
        found.ties = _ties(file, [s.guid for s in found.scans])
    if not found.scans:
        raise InputError(
            f"“{os.path.basename(path)}” holds no scans.", "It may hold images only; export the points again."
        )
    _forget_common_pose(found)
    return found


def _scan_inside(file: Any, index: int, scan: Any) -> ScanInside:
    proto = lib.StructureNode(scan["points"].prototype())
    columns = [n for n in WANTED if proto.isDefined(n)]
    grid = None
    if scan.isDefined("indexBounds"):
        b = scan["indexBounds"]
        grid = (
            int(number(b, "rowMaximum") - number(b, "rowMinimum")) + 1,
            int(number(b, "columnMaximum") - number(b, "columnMinimum")) + 1,
        )
        grid = grid if min(grid) > 1 else None
    toned = "intensity" in columns
    return ScanInside(
        index=index,
        name=text(scan, "name") or f"Scan {index + 1}",
        points=int(scan["points"].childCount()),
        guid=text(scan, "guid"),
        pose=pose_of(scan),
        columns=columns,
        grid=grid,
        instrument=" ".join(t for t in (text(scan, "sensorVendor"), text(scan, "sensorModel")) if t),
        bounds=bounds_of(scan),
        captured=moment(scan),
        intensity_as=spread_of(intensities_of(file, scan, proto)) if toned else None,
    )


def _image_inside(index: int, image: Any) -> tuple[ImageInside | None, str]:
    """What is told of an image, or None and why it is left out."""
    rep = next((r for r in REPRESENTATIONS if image.isDefined(r)), None)
    if rep is None:
        return None, f"Image {index + 1} has no representation and is left out."
    blob = next((b for b in ("jpegImage", "pngImage") if image[rep].isDefined(b)), None)
    if blob is None:
        return None, f"Image {index + 1} holds no JPEG or PNG data and is left out."
    inside = ImageInside(
        index=index,
        name=text(image, "name") or f"Image {index + 1}",
        representation=rep.removesuffix("Representation"),
        width=int(number(image[rep], "imageWidth")),
        height=int(number(image[rep], "imageHeight")),
        scan_guid=text(image, "associatedData3DGuid"),
        pose=pose_of(image),
        blob=blob,
        lens={k: number(image[rep], k) for k in LENS if image[rep].isDefined(k)},
    )
    return inside, ""


def _ties(file: Any, guids: list[str]) -> list[tuple[int, int]]:
    """Pairs of scans (indices) that the file says were tied to each other, where it has the extension for
    that.
    """
    if TIES_URI not in [file.extensionsUri(k) for k in range(file.extensionsCount())]:
        return []
    pairs = [
        (text(tie, f"{TIES}:first"), text(tie, f"{TIES}:second"))
        for tie in children(file.root(), f"{TIES}:ties")
    ]
    return [(guids.index(a), guids.index(b)) for a, b in pairs if a in guids and b in guids]


def _forget_common_pose(found: Contents) -> None:
    poses = [s.pose for s in found.scans]
    if any(p is None for p in poses):
        return
    same = all(np.allclose(p, poses[0], rtol=0, atol=1e-9) for p in poses)
    if (same and len(poses) > 1) or (
        len(poses) == 1 and np.allclose(poses[0], np.eye(4), rtol=0, atol=1e-12)
    ):
        common = rigid.inverse(poses[0])
        for scan in found.scans:
            scan.pose = None
        for image in found.images:
            image.pose = common @ image.pose if image.pose is not None else None
        if len(poses) > 1:
            found.notes.append("Every scan carries the same pose: none of them counts as posed.")


def coordinates(path: str, index: int) -> tuple[list[float], list[float]] | None:
    """Scale and offset (3, m) of a scan's cartesian coordinates, where they are stored as integers of 32 bits
    at most that say which points are invalid.
    """
    with _opened(path) as file:
        return whole_numbers(lib.StructureNode(children(file.root(), "data3D")[index]["points"].prototype()))


def _held(proto: Any, names: list[str], size: int, raw: bool) -> dict[str, np.ndarray]:
    """Buffers for the fields of a scan: small integers as they are, all else as float64."""
    out = {}
    for name in names:
        node = proto[name]
        small = isinstance(node, lib.IntegerNode) and node.minimum() >= 0
        kind = (
            np.longlong
            if raw and name in CARTESIAN
            else "u1"
            if small and node.maximum() < 256
            else "u2"
            if small and node.maximum() < 65536
            else "f8"
        )
        out[name] = np.empty(size, kind)
    return out


def read_points(
    path: str, index: int, chunk: int = CHUNK, raw: bool = False, every: int = 1
) -> Iterator[dict[str, np.ndarray]]:
    """Valid points of one scan in chunks, in the scan's own frame.

    Columns: ``xyz`` (n, 3) float64 m, or with ``raw`` and where ``coordinates`` gives a scale ``position``
    (n, 3) i32 as stored; where the file has them ``intensity`` u16 (its limits spread over 0 to 65535),
    ``native_rgb`` u8×3, ``row`` and ``column`` u32, ``time`` float64; and ``repairs``, counts by code of what
    was left out or brought within its range.  With ``every`` above 1 only each so-many-th valid point,
    without row, time and colour (unless it may be out of range), and of all valid ones ``seen``, how many,
    and ``low`` and ``high`` (3,), as stored.
    """
    with _opened(path) as file:
        scan = children(file.root(), "data3D")[index]
        cloud = scan["points"]
        if not cloud.childCount():
            return
        proto = lib.StructureNode(cloud.prototype())
        names = [n for n in TAKEN if proto.isDefined(n)]
        if every > 1:
            plain = all(
                isinstance(proto[n], lib.IntegerNode)
                and proto[n].minimum() >= 0
                and proto[n].maximum() == 255
                for n in names
                if n.startswith("color")
            )
            names = [
                n
                for n in names
                if n not in {"timeStamp", "rowIndex"} and not (plain and n.startswith("color"))
            ]
        if not set(CARTESIAN) <= set(names) and not set(SPHERICAL) <= set(names):
            raise InputError(
                f"Scan {index + 1} of “{os.path.basename(path)}” has neither cartesian nor spherical "
                "coordinates.",
                "Export it again.",
            )
        raw = raw and whole_numbers(proto) is not None
        held = _held(proto, names, chunk, raw)
        buffers = lib.VectorSourceDestBuffer()
        for n, a in held.items():
            buffers.append(lib.SourceDestBuffer(file, n, a, chunk, True, not (raw and n in CARTESIAN)))
        limits = intensities_of(file, scan, proto)
        tops = tops_of(file, scan, proto) if any(n.startswith("color") for n in names) else {}
        zero = zero_of(proto, raw)
        reader, seen = cloud.reader(buffers), 0
        try:
            while got := reader.read():
                out = _understood({n: a[:got] for n, a in held.items()}, limits, tops, zero, raw, every, seen)
                seen += out.get("seen", 0)
                yield out
        finally:
            reader.close()


def _understood(
    held: dict[str, np.ndarray],
    limits: tuple[float, float] | None,
    tops: dict[str, float],
    zero: Sequence[tuple[float, float]] = ((0.0, 0.0),) * 3,
    raw: bool = False,
    every: int = 1,
    seen: int = 0,
) -> dict[str, dict[str, int] | int | np.ndarray]:
    if set(CARTESIAN) <= set(held):
        places = [held[n] for n in CARTESIAN]
    else:
        r, az, el = (held[n] for n in SPHERICAL)
        places = [r * np.cos(el) * np.cos(az), r * np.cos(el) * np.sin(az), r * np.sin(el)]
    good = np.ones(len(places[0]), bool)
    for a in [] if raw else places:
        good &= np.isfinite(a)
    repairs = {"not_finite": len(good) - int(np.count_nonzero(good))}
    states = [held[state] for state in ("cartesianInvalidState", "sphericalInvalidState") if state in held]
    for state in states:
        good &= state == 0
    repairs["invalid"] = len(good) - int(np.count_nonzero(good)) - repairs["not_finite"]
    nowhere = (
        good & (places[0] >= zero[0][0]) & (places[0] <= zero[0][1])
    )  # at the scanner itself: no instrument measures that
    if nowhere.any():
        nowhere &= np.logical_and.reduce(
            [(a >= low) & (a <= high) for a, (low, high) in zip(places[1:], zero[1:])]
        )
        repairs["no_echo"] = int(np.count_nonzero(nowhere))
        good &= ~nowhere
    out, valid = {}, np.flatnonzero(good)
    whole = len(valid) == len(good)
    if every > 1:
        out["seen"] = len(valid)
        if len(valid):
            out["low"], out["high"] = (
                np.array([of(a if whole else a[valid]) for a in places]) for of in (np.min, np.max)
            )
        valid, whole = valid[-seen % every :: every], False
    keep = (lambda a: a.copy()) if whole else (lambda a: a[valid])
    out["position" if raw else "xyz"] = np.stack(
        [a if whole else a[valid] for a in places],
        1,
        dtype=np.int32 if raw else None,
        casting="unsafe" if raw else "same_kind",
    )
    if "intensity" in held:
        out["intensity"], repairs["intensity_range"] = _tones(held["intensity"], keep, good, limits)
    if "colorRed" in held:
        out["native_rgb"], repairs["colour_range"] = _colours(held, keep, good, tops)
    for n, k in (("rowIndex", "row"), ("columnIndex", "column")):
        if n in held:
            out[k] = keep(held[n]).astype(np.uint32)
    if "timeStamp" in held:
        out["time"] = keep(held["timeStamp"])
    return out | {"repairs": {code: n for code, n in repairs.items() if n}}


def _tones(
    held: np.ndarray, keep: Callable[..., Any], good: np.ndarray, limits: tuple[float, float]
) -> tuple[np.ndarray, int]:
    """Intensities (m,) u16 of the good ones, and how many were out of their limits."""
    value, (low, high) = keep(held), limits
    if value.dtype == np.uint16 and (low, high) == (0.0, 65535.0):
        return value, 0
    slack = 1.5 * (high - low) / 65535
    beyond = int(np.count_nonzero(((held < low - slack) | (held > high + slack)) & good))
    share = np.nan_to_num((value.astype(float) - low) / (high - low))
    return np.clip(np.rint(share * 65535), 0, 65535).astype(np.uint16), beyond


def _colours(
    held: dict[str, Any], keep: Callable[..., Any], good: np.ndarray, tops: dict[str, Any]
) -> tuple[np.ndarray, int]:
    """Colours (m, 3) u8 of the good ones, and how many were out of their limits."""
    tones = {n: 255.0 / tops[n] for n in ("colorRed", "colorGreen", "colorBlue")}
    plain = {n: held[n].dtype == np.uint8 and f == 1 for n, f in tones.items()}
    beyond = 0
    if not all(plain.values()):
        within = [(held[n] * f >= -0.5) & (held[n] * f <= 255.5) for n, f in tones.items()]
        beyond = int(np.count_nonzero(~np.logical_and.reduce(within) & good))
    parts = [
        keep(held[n])
        if plain[n]
        else np.clip(np.nan_to_num(np.rint(keep(held[n]) * f)), 0, 255).astype(np.uint8)
        for n, f in tones.items()
    ]
    return np.stack(parts, 1), beyond


def read_image(path: str, image: ImageInside) -> bytes:
    """The encoded bytes (JPEG or PNG) of one image."""
    with _opened(path) as file:
        node = children(file.root(), "images2D")[image.index][f"{image.representation}Representation"][
            image.blob
        ]
        data = np.empty(node.byteCount(), np.uint8)
        node.read(data, 0, data.size)
        return data.tobytes()


FORMAT = Format(
    names=("E57",),
    look=look,
    signatures=(b"ASTM-E57",),
    read_points=read_points,
    coordinates=coordinates,
    read_image=read_image,
    stationed=lambda inside: True,
    sparse=True,
)
