"""The faces of PDF pages: our own for Latin script, another for signs and scripts that it lacks."""

import html
import os
import re
from functools import cache

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont

import terrazza

FOLDER = os.path.join(os.path.dirname(terrazza.__file__), "web", "static", "vendor")
OWN, OTHER = "atkinson-next", "dejavu-sans"


@cache
def _registered(name: str) -> TTFont:
    font = TTFont(name, os.path.join(FOLDER, f"{name}.ttf"))
    pdfmetrics.registerFont(font)
    return font


def _named(stem: str, bold: bool) -> str:
    name = f"{stem}-{700 if bold else 400}"
    _registered(name)
    return name


def own(bold: bool = False) -> str:
    """The name of our face, registered."""
    return _named(OWN, bold)


def face(text: str, bold: bool = False) -> str:
    """The name of a face, registered, that has all signs of a text, where one of them has."""
    there = _registered(own(bold)).face.charToGlyph
    return own(bold) if all(ord(c) in there or c == "\n" for c in text) else _named(OTHER, bold)


@cache
def _lacking(bold: bool) -> re.Pattern[str]:
    there = _registered(own(bold)).face.charToGlyph
    known = "".join(re.escape(chr(c)) for c in sorted(there))
    return re.compile(f"[^{known}\\n\\t]+")


def marked(text: str, bold: bool = False) -> str:
    """A text as mark-up of paragraphs, its signs that our face lacks in the other."""
    out, at = [], 0
    for found in _lacking(bold).finditer(text):
        out.append(html.escape(text[at : found.start()]))
        out.append(f'<font name="{_named(OTHER, bold)}">{html.escape(found.group())}</font>')
        at = found.end()
    return "".join([*out, html.escape(text[at:])])
