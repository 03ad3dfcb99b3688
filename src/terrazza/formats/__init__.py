"""File formats: ``look`` finds the reader for a file by what it holds, not by its name alone."""

import os

from terrazza.errors import InputError
from terrazza.formats.contents import Contents
from terrazza.later import later

e57 = later("terrazza.formats.e57")
las = later("terrazza.formats.las")
pcd = later("terrazza.formats.pcd")
ply = later("terrazza.formats.ply")
ptx = later("terrazza.formats.ptx")
text = later("terrazza.formats.text")

READERS = {
    "E57": e57,
    "LAS": las,
    "LAZ": las,
    "COPC": las,
    "PTX": ptx,
    "PTS": text,
    "text": text,
    "PLY": ply,
    "PCD": pcd,
}
MAPPED = ("PTS", "text")
KNOWN = "E57, LAS, LAZ, COPC, PTX, PTS, XYZ, CSV, PLY or PCD"
SIGNATURES = (
    (b"ASTM-E57", e57),
    (b"LASF", las),
    (b"ply\n", ply),
    (b"ply\r", ply),
    (b"# .PCD", pcd),
    (b"VERSION .7", pcd),
    (b"VERSION 0.7", pcd),
)
HEAD = 2048


def look(path: str, columns: tuple[str, ...] = ()) -> Contents:
    """Look inside a file without importing it; InputError where it cannot be read or is of no known kind.

    ``columns`` says what the columns of a text file are, where they are not to be found out.
    """
    name = os.path.basename(path)
    if os.path.isdir(path):
        raise InputError(f"“{name}” is a folder.", "Name the files in it.")
    try:
        with open(path, "rb") as f:
            start = f.read(HEAD)
    except FileNotFoundError as error:
        raise InputError(f"“{path}” is not there.", "Check the path.") from error
    except OSError as error:
        raise InputError(
            f"“{name}” cannot be opened ({error.strerror}).", "Check who may read it."
        ) from error
    if not start:
        raise InputError(f"“{name}” is empty.", "Copy it again from the instrument.")
    for signature, reader in SIGNATURES:
        if start.startswith(signature):
            return reader.look(path)
    if _is_text(start):
        return ptx.look(path) if ptx.looks_like(start) else text.look(path, columns)
    raise InputError(f"“{name}” is neither {KNOWN}.", "Bring a file of one of these kinds.")


def _is_text(start: bytes) -> bool:
    """Whether bytes are those of a text file: no control characters but tabs and line ends."""
    return not any(b < 32 and b not in (9, 10, 12, 13) for b in start)
