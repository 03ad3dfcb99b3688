"""A drawing on a sheet of paper at a true scale, as DXF R2010: the drawing in its place, the
sheet as a layout in mm with a viewport.
"""

from collections.abc import Sequence
from typing import Any

import numpy as np
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth

from terrazza.files import whole
from terrazza.formats import dxf, sheet
from terrazza.formats import pdf_fonts as fonts

LAYER, VIEW = "SHEET", "SHEET-VIEW"
CAPITALS = 0.72  # of the size of a font, which DXF counts by its capitals
WEIGHTS = (13, 18, 25, 35, 50, 70)  # hundredths of mm that DXF knows and that are used


class Pen:
    """Draws as the canvas of a PDF does, in points, into a layout in mm."""

    def __init__(self, layout: Any):
        self.layout, self.how, self.size = layout, {"layer": LAYER}, 3.0

    def setStrokeColor(self, colour: Any) -> None:
        self.how["true_color"] = int(colour.hexval(), 16)

    setFillColor = setStrokeColor

    def setLineWidth(self, width: float) -> None:
        wanted = 100 * width / mm
        self.how["lineweight"] = min(WEIGHTS, key=lambda w: abs(w - wanted))

    def setFont(self, _name: str, size: float) -> None:
        self.size = size

    def line(self, x0: float, y0: float, x1: float, y1: float) -> None:
        """From place to place."""
        self.layout.add_line((x0 / mm, y0 / mm), (x1 / mm, y1 / mm), dxfattribs=dict(self.how))

    def rect(self, x: float, y: float, wide: float, high: float) -> None:
        """A rectangle from its lower left corner."""
        corners = np.array([[x, y], [x + wide, y], [x + wide, y + high], [x, y + high]]) / mm
        self.layout.add_lwpolyline(corners.tolist(), close=True, dxfattribs=dict(self.how))

    def drawString(self, x: float, y: float, text: str) -> None:
        how = {k: v for k, v in self.how.items() if k != "lineweight"} | {"insert": (x / mm, y / mm)}
        self.layout.add_text(text, height=CAPITALS * self.size / mm, dxfattribs=how)

    def drawCentredString(self, x: float, y: float, text: str) -> None:
        self.drawString(x - stringWidth(text, fonts.face(text), self.size) / 2, y, text)

    def drawRightString(self, x: float, y: float, text: str) -> None:
        self.drawString(x - stringWidth(text, fonts.face(text), self.size), y, text)


def write(
    path: str,
    drawn: tuple[list[dict[str, Any]], list[dict[str, Any]]],
    layers: dict[str, dict[str, Any]],
    content: sheet.Content,
    paper: str,
    landscape: bool,
    scale: int,
    block: Sequence[str],
    north: bool,
) -> None:
    """Write the sheet: ``drawn`` are lines and texts as ``dxf.write`` takes them, the rest as
    ``sheet.write``.
    """
    document = dxf.drawn(*drawn, layers)
    for name in (LAYER, VIEW):
        document.layers.add(name, color=7)
    document.layers.get(VIEW).off()  # the viewport shows, its edge does not
    wide, high = sorted(sheet.PAPERS[paper], reverse=landscape)
    layout = document.layouts.new(f"{paper} 1-{scale}")
    layout.page_setup(size=(wide / mm, high / mm), margins=(0, 0, 0, 0), units="mm", scale=(1, 1))
    at = sheet.around(Pen(layout), content, (wide, high), scale, list(block), north)
    low, top = content.bounds()
    middle, inner = (low + top) / 2, np.array(sheet.room_on(paper, landscape)) / mm
    layout.add_viewport(
        center=tuple(at(middle) / mm),
        size=tuple(inner),
        view_center_point=tuple(middle),
        view_height=inner[1] * scale / 1000,
        dxfattribs={"layer": VIEW},
    )
    document.layouts.set_active_layout(layout.name)
    with whole(path) as partial:
        document.saveas(partial)
