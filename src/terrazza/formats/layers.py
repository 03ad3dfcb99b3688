"""Layer tables of an office: text with a heading, a line a layer."""

import csv
import os
import re
from dataclasses import dataclass

from terrazza.errors import InputError

HEADINGS = {
    "name": {"layer", "name"},
    "of": {"for", "of", "what", "from"},
    "colour": {"colour", "color"},
    "line_type": {"line type", "linetype", "line_type"},
    "text_height": {"text height", "textheight", "text_height"},
}
LINE_TYPES = ("continuous", "dashed", "dotted", "dash-dot")
HOW = "It needs a heading: layer, and where wanted for, colour, line type, text height."


@dataclass(frozen=True)
class LayerRow:
    """The layer ``name``, and ``of`` whose lines go onto it (itself, where nothing is said); ``colour`` as
    #rrggbb, a number of DXF from 1 to 255, or nothing; ``line_type`` of ``LINE_TYPES`` or nothing;
    ``text_height`` in m or 0.
    """

    name: str
    of: str
    colour: str = ""
    line_type: str = ""
    text_height: float = 0.0


def read(path: str) -> list[LayerRow]:
    """The rows of a table; InputError names the line and what is wrong with it."""
    shown = os.path.basename(path)
    with open(path, encoding="utf-8-sig", errors="replace", newline="") as file:
        lines = [line for line in file.read().splitlines() if line.strip()]
    if len(lines) < 2:
        raise InputError(f"“{shown}” holds no layers.", HOW)
    mark = next((d for d in (";", "\t") if d in lines[0]), ",")
    head, *rows = ([cell.strip() for cell in row] for row in csv.reader(lines, delimiter=mark))
    place = {
        field: k for k, cell in enumerate(head) for field, words in HEADINGS.items() if cell.lower() in words
    }
    if "name" not in place:
        raise InputError(f"“{shown}” has no column of layers.", HOW)
    return [_row(row, place, f"“{shown}”, line {n}") for n, row in enumerate(rows, 2)]


def _row(cells: list[str], place: dict[str, int], where: str) -> LayerRow:
    told = {field: cells[k] for field, k in place.items() if k < len(cells)}
    name = told.get("name", "")
    if not name:
        raise InputError(f"{where}: there is no name of a layer.", "Give each line one.")
    colour, line_type = told.get("colour", "").lower(), told.get("line_type", "").lower()
    number = colour.isdecimal() and 1 <= int(colour) <= 255
    if colour and not number and not re.fullmatch(r"#[0-9a-f]{6}", colour):
        raise InputError(f"{where}: “{colour}” is no colour.", "Write #rrggbb or a number from 1 to 255.")
    if line_type and line_type not in LINE_TYPES:
        raise InputError(f"{where}: “{line_type}” is no line type.", f"Use {', '.join(LINE_TYPES)}.")
    height = told.get("text_height", "").replace(",", ".")
    try:
        tall = float(height or 0)
    except ValueError:
        tall = -1.0
    if not 0 <= tall < 1000:
        raise InputError(f"{where}: “{height}” is no height of text.", "Write metres, for example 0.25.")
    return LayerRow(name, told.get("of") or name, colour, line_type, tall)
