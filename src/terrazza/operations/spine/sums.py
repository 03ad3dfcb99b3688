"""Checksums of deliverables, in a list beside them that ``sha256sum --check`` reads."""

import hashlib
import os

from terrazza.files import whole

LIST = "sha256sums.txt"


def of(path: str) -> str:
    """SHA-256 of a file, in hexadecimal."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def enlist(path: str) -> str:
    """Put a file's checksum into the list of its folder, in place of an older one of it; returns it."""
    folder, name = os.path.split(os.path.abspath(path))
    listed, digest = os.path.join(folder, LIST), of(path)
    try:
        with open(listed, encoding="utf-8", errors="surrogateescape") as file:
            lines = file.read().splitlines()
    except FileNotFoundError:
        lines = []
    kept = [line for line in lines if line[66:] != name and line]
    with (
        whole(listed) as partial,
        open(partial, "w", encoding="utf-8", errors="surrogateescape", newline="\n") as out,
    ):
        out.write("".join(f"{line}\n" for line in (*kept, f"{digest}  {name}")))
    return digest


def enlist_all(folder: str) -> None:
    """Write the list of a folder with the checksums of all files in it and below."""
    found = sorted(
        os.path.relpath(os.path.join(where, name), folder).replace(os.sep, "/")
        for where, _, names in os.walk(folder)
        for name in names
        if name != LIST
    )
    path = os.path.join(folder, LIST)
    with open(path, "w", encoding="utf-8", errors="surrogateescape", newline="\n") as out:
        out.writelines(f"{of(os.path.join(folder, name))}  {name}\n" for name in found)
