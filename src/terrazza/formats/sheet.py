"""A drawing on a sheet of paper at a true scale, as PDF: frame, grid crosses, north, scale bar, title
block.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from reportlab.lib import pagesizes
from reportlab.lib.colors import HexColor
from reportlab.lib.units import mm
from reportlab.pdfgen import canvas

from terrazza.files import whole
from terrazza.formats import pdf_fonts as fonts

if TYPE_CHECKING:
    pass


PAPERS = {name: getattr(pagesizes, name) for name in ("A4", "A3", "A2", "A1", "A0")}
SCALES = (10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 2500, 5000, 10_000, 25_000, 50_000)
MARGIN, BLOCK = 10 * mm, 24 * mm  # of the frame from the edge, and height of the title block
CROSS = 3 * mm
INK, SOFT, CLAY = HexColor("#1d2b2a"), HexColor("#8a8f86"), HexColor("#b4512f")
WIDTHS = {"ROOMS": 0.25, "WALLS": 0.5, "OPENINGS": 0.25}  # mm, common practice: what is cut is drawn thick
USUAL = 0.35


@dataclass
class Content:
    """Lines (vertices (n, 2) m, layer, closed, guessed) and texts (text, (2,) m, height m) in plan or laid
    flat.
    """

    lines: list[tuple[np.ndarray, str, bool, bool]]
    texts: list[tuple[str, np.ndarray, float]]

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        places = np.concatenate([line[0] for line in self.lines])
        return places.min(0), places.max(0)


def room_on(paper: str, landscape: bool) -> tuple[float, float]:
    """Width and height (points) of what a drawing may take on a paper."""
    wide, high = sorted(PAPERS[paper], reverse=landscape)
    return wide - 2 * MARGIN - 6 * mm, high - 2 * MARGIN - BLOCK - 6 * mm


def scale_for(content: Content, paper: str, landscape: bool) -> int | None:
    """The largest usual scale at which a drawing fits; None where none does."""
    size = content.bounds()[1] - content.bounds()[0]
    wide, high = room_on(paper, landscape)
    return next(
        (s for s in SCALES if size[0] * 1000 * mm / s <= wide and size[1] * 1000 * mm / s <= high), None
    )


def write(
    path: str, content: Content, paper: str, landscape: bool, scale: int, block: list[str], north: bool
) -> None:
    """Write the sheet; ``block`` are the lines of its title block, the first the title; ``north`` where up is
    north.
    """
    wide, high = sorted(PAPERS[paper], reverse=landscape)
    unit = 1000 * mm / scale  # points a metre
    with whole(path) as partial:
        pen = canvas.Canvas(partial, pagesize=(wide, high), invariant=True)
        pen.setTitle(block[0])
        at = around(pen, content, (wide, high), scale, block, north)
        for vertices, layer, closed, guessed in content.lines:
            _line(pen, at(vertices), layer, closed, guessed)
        for text, place, height in content.texts:
            _text(pen, text, at(place), max(height * unit, 1.8 * mm))
        pen.showPage()
        pen.save()


def around(
    pen: Any, content: Content, size: tuple[float, float], scale: int, block: list[str], north: bool
) -> Callable[..., Any]:
    """Draw what stands around a drawing (frame, grid, title block, scale bar, north) with a pen that draws as
    the canvas of a PDF does, in points; returns where a place (…, 2), m, lies on the sheet.
    """
    wide, high = size
    unit, (low, top) = 1000 * mm / scale, content.bounds()
    middle = np.array([wide / 2, (high + BLOCK) / 2])
    at = lambda p: middle + (np.asarray(p)[..., :2] - (low + top) / 2) * unit
    pen.setStrokeColor(INK)
    pen.setLineWidth(0.5 * mm)
    pen.rect(MARGIN, MARGIN, wide - 2 * MARGIN, high - 2 * MARGIN)
    _grid(pen, at, low, top, unit)
    _block(pen, wide, block, scale, unit)
    if north:
        _north(pen, wide, high)
    return at


def _grid(pen: Any, at: Callable[..., Any], low: np.ndarray, top: np.ndarray, unit: float) -> None:
    """Crosses at round coordinates, about 5 cm apart, with their coordinates at the edges."""
    step = next(
        s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000) if s * unit > 50 * mm or s == 5000
    )
    pen.setStrokeColor(SOFT)
    pen.setFillColor(SOFT)
    pen.setLineWidth(0.13 * mm)
    pen.setFont(fonts.own(), 6)
    along = [np.arange(np.ceil(a / step), np.floor(b / step) + 1) * step for a, b in zip(low, top)]
    for x in along[0]:
        for y in along[1]:
            px, py = at([x, y])
            pen.line(px - CROSS, py, px + CROSS, py)
            pen.line(px, py - CROSS, px, py + CROSS)
    for x in along[0]:
        pen.drawCentredString(at([x, low[1]])[0], at([x, low[1]])[1] - 4 * mm, f"{x + 0.0:,.10g}")
    for y in along[1]:
        pen.drawRightString(at([low[0], y])[0] - 1.5 * mm, at([low[0], y])[1] - 2, f"{y + 0.0:,.10g}")


def _line(pen: Any, p: np.ndarray, layer: str, closed: bool, guessed: bool) -> None:
    pen.setStrokeColor(CLAY if layer == "OPENINGS" else INK)
    pen.setLineWidth(WIDTHS.get(layer, USUAL) * mm)
    pen.setDash([2 * mm, 1 * mm] if guessed else [])
    way = pen.beginPath()
    way.moveTo(*p[0])
    for q in p[1:]:
        way.lineTo(*q)
    if closed:
        way.close()
    pen.drawPath(way)
    pen.setDash([])


def _text(pen: Any, text: str, place: tuple[float, float], size: float) -> None:
    pen.setFillColor(INK)
    pen.setFont(fonts.face(text), size)
    for k, row in enumerate(text.split("\n")):
        pen.drawCentredString(place[0], place[1] - 1.2 * k * size, row)


def _block(pen: Any, wide: float, block: list[str], scale: int, unit: float) -> None:
    """The title block along the lower edge: title, particulars, scale with a bar."""
    pen.setStrokeColor(INK)
    pen.setFillColor(INK)
    pen.setLineWidth(0.35 * mm)
    pen.line(MARGIN, MARGIN + BLOCK, wide - MARGIN, MARGIN + BLOCK)
    pen.setFont(fonts.face(block[0], bold=True), 12)
    pen.drawString(MARGIN + 4 * mm, MARGIN + BLOCK - 7 * mm, block[0])
    pen.setFont(fonts.face("".join(block[1:4])), 8)
    for k, row in enumerate(block[1:4]):
        pen.drawString(MARGIN + 4 * mm, MARGIN + BLOCK - (12 + 4 * k) * mm, row)
    bar = next(
        b
        for b in (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000)
        if b * unit > 25 * mm or b == 2000
    )
    right = wide - MARGIN - 6 * mm
    pen.setFont(fonts.own(bold=True), 10)
    pen.drawRightString(right, MARGIN + BLOCK - 7 * mm, f"1 : {scale:,}")
    pen.setLineWidth(0.5 * mm)
    pen.line(right - bar * unit, MARGIN + 8 * mm, right, MARGIN + 8 * mm)
    for x in (right - bar * unit, right):
        pen.line(x, MARGIN + 7 * mm, x, MARGIN + 9 * mm)
    pen.setFont(fonts.own(), 7)
    pen.drawRightString(right, MARGIN + 3.5 * mm, f"{bar:g} m")


def _north(pen: Any, wide: float, high: float) -> None:
    x, y = wide - MARGIN - 8 * mm, high - MARGIN - 18 * mm
    pen.setLineWidth(0.35 * mm)
    pen.line(x, y, x, y + 10 * mm)
    pen.line(x, y + 10 * mm, x - 1.6 * mm, y + 6.5 * mm)
    pen.line(x, y + 10 * mm, x + 1.6 * mm, y + 6.5 * mm)
    pen.setFont(fonts.own(bold=True), 9)
    pen.drawCentredString(x, y + 11.5 * mm, "N")
