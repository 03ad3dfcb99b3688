"""File formats: ``look`` finds the reader for a file by what it holds, not by its name alone."""

import importlib
import os
import pkgutil
from functools import lru_cache

from terrazza.errors import InputError
from terrazza.formats.contents import Contents
from terrazza.formats.protocol import Format

HEAD = 2048


@lru_cache
def known() -> tuple[Format, ...]:
    """Every format that a module of this package has, in the order in which they are asked."""
    found = []
    for module in pkgutil.iter_modules(__path__, f"{__name__}."):
        format = getattr(importlib.import_module(module.name), "FORMAT", None)
        if isinstance(format, Format):
            found.append(format)
    return tuple(sorted(found, key=lambda f: (f.turn, f.names)))


def named(name: str) -> Format:
    """The format that files of a kind (``Contents.format``) are read by; InputError for one that is none."""
    for format in known():
        if name in format.names:
            return format
    raise InputError(f"There is no format “{name}”.", f"Known are {listing()}.")


def listing() -> str:
    """The names of all formats, for a sentence."""
    return ", ".join(name for format in known() for name in format.names)


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
    for format in known():
        if start.startswith(format.signatures) or (format.claims and format.claims(start, name.lower())):
            found = format.look(path, columns) if format.mapped else format.look(path)
            found.mapped, found.shared = format.mapped, format.shared
            for inside in found.scans:
                inside.stationed = format.stationed(inside)
            return found
    raise InputError(f"“{name}” is neither {listing()}.", "Bring a file of one of these kinds.")


def is_text(start: bytes) -> bool:
    """Whether bytes are those of a text file: no control characters but tabs and line ends."""
    return not any(b < 32 and b not in (9, 10, 12, 13) for b in start)
