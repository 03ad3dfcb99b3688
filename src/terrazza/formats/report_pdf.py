"""The blocks of a report as A4 pages; see ``report``."""

from collections.abc import Callable
from typing import Any

from reportlab.graphics.shapes import Circle, Drawing, Line, Polygon, Rect, String
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.platypus import (
    KeepTogether,
    PageBreak,
    Paragraph,
    SimpleDocTemplate,
    Spacer,
    Table,
    TableStyle,
)
from reportlab.platypus.doctemplate import IndexingFlowable
from reportlab.platypus.tableofcontents import TableOfContents

from terrazza.files import whole
from terrazza.formats import pdf_fonts as fonts
from terrazza.formats.report import (
    INK,
    LAKE,
    MM,
    RULE,
    TERRACOTTA,
    Bars,
    Break,
    Contents,
    Heading,
    Plan,
    Rows,
    Sign,
    Text,
    labels,
)

WIDE = 174 * mm
EDGE = 18 * mm


class Total(IndexingFlowable):
    """Takes no room; knows how many pages there are once they have been set twice."""

    def __init__(self):
        super().__init__()
        self.known, self.seen = 0, 0

    def notify(self, kind: str, page: int) -> None:
        if kind == "page":
            self.seen = page

    def beforeBuild(self) -> None:
        self.known, self.seen = self.seen, 0

    def isSatisfied(self) -> bool:
        return self.known == self.seen

    def wrap(self, *_: float) -> tuple[int, int]:
        return 0, 0

    def draw(self) -> None:
        """Nothing is to be seen of it."""


class Pages(SimpleDocTemplate):
    """Tells the contents on which page a chapter begins, and ``Total`` of every page."""

    def afterFlowable(self, flowable: Any) -> None:
        if getattr(flowable, "chapter", None):
            self.canv.bookmarkPage(flowable.chapter)
            self.canv.addOutlineEntry(flowable.plain, flowable.chapter)
            self.notify("TOCEntry", (0, fonts.marked(flowable.plain), self.page, flowable.chapter))

    def afterPage(self) -> None:
        self.notify("page", self.page)


def foot(title: str, total: Total) -> Callable[..., Any]:
    """What draws the foot of a page: the title, and which page of how many it is."""

    def draw(canvas: Any, document: "Pages") -> None:
        canvas.setFillColor(INK)
        canvas.setFont(fonts.face(title), 7.5)
        canvas.drawString(EDGE, 10 * mm, title)
        canvas.setFont(fonts.own(), 7.5)
        canvas.drawRightString(A4[0] - EDGE, 10 * mm, f"page {document.page} of {total.known}")

    return draw


def styles() -> dict[str, ParagraphStyle]:
    """Of paragraphs, cells and headings."""
    plain = ParagraphStyle("plain", fontName=fonts.own(), fontSize=9, leading=12.5, textColor=INK)
    cell = ParagraphStyle("cell", parent=plain, fontSize=7.6, leading=9.6)
    bold = fonts.own(bold=True)
    head = ParagraphStyle("h2", parent=plain, fontName=bold, fontSize=12.5, leading=16, keepWithNext=1)
    return {
        "plain": plain,
        "cell": cell,
        "right": ParagraphStyle("right", parent=cell, alignment=2),
        "head": ParagraphStyle("head", parent=cell, fontName=bold),
        "right head": ParagraphStyle("right head", parent=cell, fontName=bold, alignment=2),
        "1": ParagraphStyle("h1", parent=plain, fontName=bold, fontSize=18, leading=22, spaceAfter=4),
        "2": ParagraphStyle("h2", parent=head, spaceBefore=10, spaceAfter=3),
        "3": ParagraphStyle("h3", parent=head, fontSize=10, leading=13, spaceBefore=6, spaceAfter=2),
    }


def to_pdf(path: str, title: str, blocks: list[Any]) -> None:
    """Write the report as A4 pages; the file appears under its name only when whole."""
    style, number, total = styles(), 0, Total()
    flow = [total, Paragraph(fonts.marked(title, bold=True), style["1"])]
    for block in blocks:
        if isinstance(block, Heading):
            head = Paragraph(fonts.marked(block.text, bold=True), style[str(min(block.level, 3))])
            if block.level == 2:
                number += 1
                head.chapter, head.plain = f"c{number}", block.text
            flow.append(head)
        else:
            flow += SET[type(block)](block, style)
    with whole(path) as partial:
        about = {
            "pagesize": A4,
            "title": title,
            "author": "Terrazza",
            "leftMargin": EDGE,
            "rightMargin": EDGE,
        }
        pages = Pages(partial, topMargin=16 * mm, bottomMargin=EDGE, **about)
        below = foot(title, total)
        pages.multiBuild(flow, onFirstPage=below, onLaterPages=below)


def _text(block: Text, style: dict[str, Any]) -> list[Any]:
    return [Paragraph(fonts.marked(block.text), style["plain"])]


def _contents(block: Contents, style: dict[str, Any]) -> list[Any]:
    listed = TableOfContents(levelStyles=[style["plain"]], dotsMinLevel=0)
    return [listed, Spacer(1, 4 * mm)]


def _rows(block: Rows, style: dict[str, Any]) -> list[Any]:
    of = lambda k: style["right"] if k in block.numeric else style["cell"]
    bold = lambda k: style["right head" if k in block.numeric else "head"]
    heads = [[Paragraph(fonts.marked(c, bold=True), bold(k)) for k, c in enumerate(block.columns)]]
    heads = heads if any(block.columns) else []
    data = heads + [[Paragraph(fonts.marked(str(c)), of(k)) for k, c in enumerate(row)] for row in block.rows]
    if not data:
        return []
    table = Table(data, colWidths=widths(block), repeatRows=len(heads))
    table.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, colors.HexColor(RULE)),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 1.5),
                ("LEFTPADDING", (0, 0), (-1, -1), 2),
                ("RIGHTPADDING", (0, 0), (-1, -1), 4),
            ]
        )
    )
    return [table, Spacer(1, 2 * mm)]


def widths(block: Rows) -> list[float]:
    """Of columns, together ``WIDE``: as much as they need, long texts the less the longer they are."""
    size, pad = 7.6, 8.0
    need = [
        max(stringWidth(str(r[k]), fonts.face(str(r[k])), size) for r in [block.columns, *block.rows]) + pad
        for k in range(len(block.columns))
    ]
    left, wanting = WIDE, sorted(range(len(need)), key=lambda k: need[k])
    out = [0.0] * len(need)
    for done, k in enumerate(wanting):
        out[k] = min(need[k], left / (len(need) - done))
        left -= out[k]
    return [w + left * w / sum(out) for w in out]


def _string(x: float, y: float, text: str, size: float = 7, colour: str = INK, **more: str) -> String:
    return String(
        x, y, text, fontName=fonts.face(text), fontSize=size, fillColor=colors.HexColor(colour), **more
    )


def _bars(block: Bars, style: dict[str, Any]) -> list[Any]:
    wide, high, most = 120 * mm, 24 * mm, max(max(block.counts), 1)
    out, step = Drawing(wide + 10 * mm, high + 14 * mm), wide / len(block.counts)
    out.add(_string(0, high + 9 * mm, f"{block.title}, {block.unit}", 8))
    for k, count in enumerate(block.counts):
        tall = high * count / most
        out.add(
            Rect(
                4 * mm + k * step + 0.5,
                5 * mm,
                step - 1,
                tall,
                strokeWidth=0,
                strokeColor=None,
                fillColor=colors.HexColor(LAKE),
            )
        )
        if count:
            out.add(_string(4 * mm + (k + 0.5) * step, tall + 6 * mm, str(count), 6, textAnchor="middle"))
    for k, label in enumerate(labels(block)):
        out.add(_string(4 * mm + k * step, 2 * mm, label, 6, textAnchor="middle"))
    return [KeepTogether([out]), Spacer(1, 2 * mm)]


def _plan(plan: Plan, style: dict[str, Any]) -> list[Any]:
    low, high = plan.bounds()
    w, h = high - low
    s = mm / (plan.scale * MM)  # points of paper to a metre
    at = lambda p: ((p[0] - low[0]) * s, (p[1] - low[1]) * s)
    drawing = Drawing(max(w * s, 30 * mm), h * s)
    ink, lake, earth = (colors.HexColor(c) for c in (INK, LAKE, TERRACOTTA))
    for p in plan.points:
        x, y = at(p)
        drawing.add(Line(x, y, x + 0.4, y, strokeColor=ink, strokeWidth=0.5))
    for a, b, failed in plan.ties:
        line = Line(*at(a), *at(b), strokeColor=earth if failed else lake, strokeWidth=0.9)
        line.strokeDashArray = [3, 2] if failed else None
        drawing.add(line)
    for one in plan.ellipses:
        ring = [v for p in plan.ellipse(one) for v in at(p)]
        drawing.add(Polygon(ring, fillColor=None, strokeColor=earth, strokeWidth=0.7))
    for name, *p in plan.stations:
        x, y = at(p)
        corners = [x, y + 5, x + 4.5, y - 3, x - 4.5, y - 3]
        drawing.add(Polygon(corners, fillColor=colors.white, strokeColor=ink, strokeWidth=0.8))
        drawing.add(_string(x + 6, y + 2, name))
    for name, *p in plan.control:
        x, y = at(p)
        drawing.add(Circle(x, y, 3, fillColor=None, strokeColor=earth, strokeWidth=1))
        drawing.add(_string(x + 5, y - 7, name, colour=TERRACOTTA))
    bar = plan.bar(w)
    drawing.add(Line(8, 8, 8 + bar * s, 8, strokeColor=ink, strokeWidth=1.6))
    drawing.add(_string(8, 12, f"{bar:g} m"))
    x, y = w * s - 12, h * s - 34
    for a, b in (((x, y), (x, y + 24)), ((x, y + 24), (x - 4, y + 16)), ((x, y + 24), (x + 4, y + 16))):
        drawing.add(Line(*a, *b, strokeColor=ink, strokeWidth=1))
    drawing.add(_string(x, y + 26, "N", 8, textAnchor="middle"))
    return [drawing, Spacer(1, 3 * mm)]


def _sign(block: Sign, style: dict[str, Any]) -> list[Any]:
    lines = Table([[Paragraph(fonts.marked(w), style["cell"]) for w in block.words]])
    above = [("LINEABOVE", (k, 0), (k, 0), 0.6, colors.HexColor(INK)) for k in range(len(block.words))]
    lines.setStyle(TableStyle(above))
    return [Spacer(1, 16 * mm), lines]


SET = {
    Text: _text,
    Contents: _contents,
    Rows: _rows,
    Bars: _bars,
    Plan: _plan,
    Break: lambda block, style: [PageBreak()],
    Sign: _sign,
}
