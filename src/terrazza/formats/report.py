"""A report as blocks (headings, paragraphs, tables, a plan) and its two renderings: HTML and PDF."""

import html
from dataclasses import dataclass, field

import numpy as np
from reportlab.graphics.shapes import Circle, Drawing, Line, Polygon, String
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from terrazza.files import whole

INK, PAPER, TERRACOTTA, LAKE, RULE = "#1d2b2a", "#f5f1e8", "#b4532f", "#2f6d8c", "#cfc6b2"


@dataclass
class Heading:
    text: str
    level: int = 2


@dataclass
class Text:
    text: str


@dataclass
class Rows:
    """A table; ``numeric`` names the columns set flush right."""

    columns: list[str]
    rows: list[list[str]]
    numeric: set[int] = field(default_factory=set)


@dataclass
class Plan:
    """A drawn plan in metres: ``walls`` polylines, ``ties`` (a, b, failed), ``stations`` (name, x, y),
    ``control`` (name, x, y).
    """

    walls: list[np.ndarray] = field(default_factory=list)
    ties: list[tuple] = field(default_factory=list)
    stations: list[tuple] = field(default_factory=list)
    control: list[tuple] = field(default_factory=list)
    points: np.ndarray = field(default_factory=lambda: np.zeros((0, 2)))

    def bounds(self):
        places = (
            [np.atleast_2d(w)[:, :2] for w in self.walls]
            + [np.array([s[1:3]]) for s in self.stations + self.control]
            + ([self.points] if len(self.points) else [])
        )
        xy = np.concatenate(places) if places else np.zeros((1, 2))
        low, high = (
            np.percentile(xy, 0.5, axis=0) if len(xy) > 500 else xy.min(0),
            np.percentile(xy, 99.5, axis=0) if len(xy) > 500 else xy.max(0),
        )
        pad = max(1.0, 0.05 * float((high - low).max()))
        return low - pad, high + pad

    def bar(self, width: float) -> float:
        """A round scale-bar length (m) of about a fifth of ``width`` (m)."""
        power = 10.0 ** np.floor(np.log10(max(width / 5, 1e-3)))
        return float(max(f for f in (1, 2, 5, 10) if f * power <= width / 5 * 1.0001) * power)


def to_html(title: str, blocks: list) -> str:
    """The report as one self-contained page."""
    parts = [
        f"<!doctype html><html lang=en><meta charset=utf-8><title>{html.escape(title)}</title><style>"
        "body{font:15px/1.5 'Atkinson Hyperlegible "
        f"Next',Verdana,sans-serif;color:{INK};background:{PAPER};max-width:60rem;margin:2rem "
        "auto;padding:0 1rem}"
        "table{border-collapse:collapse;width:100%;margin:.5rem 0 1.5rem}th,td{padding:.25rem "
        f".5rem;border-bottom:1px solid {RULE};text-align:left;vertical-align:top}}"
        "td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}svg{width:100%;height:auto;background:#fffdf8}h1{margin-bottom:0}</style>",
        f"<h1>{html.escape(title)}</h1>",
    ]
    for block in blocks:
        if isinstance(block, Heading):
            parts.append(f"<h{block.level}>{html.escape(block.text)}</h{block.level}>")
        elif isinstance(block, Text):
            parts.append(f"<p>{html.escape(block.text)}</p>")
        elif isinstance(block, Rows):
            mark = lambda k: " class=n" if k in block.numeric else ""
            head = "".join(f"<th{mark(k)}>{html.escape(c)}</th>" for k, c in enumerate(block.columns))
            body = "".join(
                "<tr>"
                + "".join(f"<td{mark(k)}>{html.escape(str(c))}</td>" for k, c in enumerate(row))
                + "</tr>"
                for row in block.rows
            )
            parts.append(f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>")
        else:
            parts.append(_svg(block))
    return "\n".join(parts) + "</html>"


def _svg(plan: Plan) -> str:
    low, high = plan.bounds()
    w, h = high - low
    s = 900 / w
    place = lambda p: f"{(p[0] - low[0]) * s:.1f},{(high[1] - p[1]) * s:.1f}"
    out = [
        f'<svg viewBox="0 0 900 {h * s:.0f}" role="img" aria-label="Plan with stations, ties and control">'
    ]
    if len(plan.points):
        out.append(
            f'<path fill="none" stroke="{INK}" stroke-opacity=".35" stroke-width="1.4" '
            f'stroke-linecap="square" d="{"".join(f"M{place(p)}h.1" for p in plan.points)}"/>'
        )
    out += [
        f'<polyline points="{" ".join(place(p) for p in wall)}" fill="none" stroke="{INK}" '
        'stroke-width="1.6"/>'
        for wall in plan.walls
    ]
    for a, b, failed in plan.ties:
        (x1, y1), (x2, y2) = (place(p).split(",") for p in (a, b))
        out.append(
            f'<line x1="{x1}" y1="{y1}" x2="{x2}" y2="{y2}" stroke="{TERRACOTTA if failed else LAKE}" '
            f'stroke-width="1.5"{" stroke-dasharray=4" if failed else ""}/>'
        )
    for name, *p in plan.stations:
        x, y = map(float, place(p).split(","))
        out.append(
            f'<path d="M{x} {y - 8}l7 12h-14z" fill="#fff" stroke="{INK}" stroke-width="1.5"/><text '
            f'x="{x + 9}" y="{y - 4}" font-size="13">{html.escape(name)}</text>'
        )
    for name, *p in plan.control:
        x, y = map(float, place(p).split(","))
        out.append(
            f'<circle cx="{x}" cy="{y}" r="5" fill="none" stroke="{TERRACOTTA}" stroke-width="2"/><text '
            f'x="{x + 8}" y="{y + 12}" font-size="12" fill="{TERRACOTTA}">{html.escape(name)}</text>'
        )
    bar = plan.bar(w)
    out.append(
        f'<path d="M20 {h * s - 20:.0f}h{bar * s:.1f}" stroke="{INK}" stroke-width="3"/><text x="20" '
        f'y="{h * s - 28:.0f}" font-size="13">{bar:g} m</text></svg>'
    )
    return "".join(out)


def to_pdf(path: str, title: str, blocks: list) -> None:
    """Write the report as A4 pages; the file appears under its name only when whole."""
    plain = ParagraphStyle("plain", fontName="Helvetica", fontSize=9, leading=12.5, textColor=INK)
    cell = ParagraphStyle("cell", parent=plain, fontSize=7.6, leading=9.6)
    right = ParagraphStyle("right", parent=cell, alignment=2)
    heads = {
        1: ParagraphStyle(
            "h1", parent=plain, fontName="Helvetica-Bold", fontSize=18, leading=22, spaceAfter=4
        ),
        2: ParagraphStyle(
            "h2",
            parent=plain,
            fontName="Helvetica-Bold",
            fontSize=12.5,
            leading=16,
            spaceBefore=10,
            spaceAfter=3,
        ),
    }
    flow = [Paragraph(html.escape(title), heads[1])]
    for block in blocks:
        if isinstance(block, Heading):
            flow.append(Paragraph(html.escape(block.text), heads[min(block.level, 2)]))
        elif isinstance(block, Text):
            flow.append(Paragraph(html.escape(block.text), plain))
        elif isinstance(block, Rows):
            flow.append(_pdf_table(block, cell, right))
        else:
            flow += [_pdf_plan(block), Spacer(1, 4 * mm)]

    def foot(canvas, document):
        canvas.setFont("Helvetica", 7.5)
        canvas.setFillColor(INK)
        canvas.drawString(18 * mm, 10 * mm, title)
        canvas.drawRightString(A4[0] - 18 * mm, 10 * mm, f"page {document.page}")

    with whole(path) as partial:
        SimpleDocTemplate(
            partial,
            pagesize=A4,
            leftMargin=18 * mm,
            rightMargin=18 * mm,
            topMargin=16 * mm,
            bottomMargin=18 * mm,
            title=title,
            author="Terrazza",
        ).build(flow, onFirstPage=foot, onLaterPages=foot)


def _pdf_table(block, cell, right):
    style = lambda k: right if k in block.numeric else cell
    data = [[Paragraph(f"<b>{html.escape(c)}</b>", style(k)) for k, c in enumerate(block.columns)]]
    data += [[Paragraph(html.escape(str(c)), style(k)) for k, c in enumerate(row)] for row in block.rows]
    longest = [max(len(str(r[k])) for r in [block.columns, *block.rows]) for k in range(len(block.columns))]
    share = np.clip(np.array(longest, float), 5, 60)
    table = Table(data, colWidths=list(share / share.sum() * 174 * mm), repeatRows=1)
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
    return table


def _pdf_plan(plan: Plan) -> Drawing:
    low, high = plan.bounds()
    w, h = high - low
    s = min(174 * mm / w, 150 * mm / h)
    at = lambda p: ((p[0] - low[0]) * s, (p[1] - low[1]) * s)
    drawing = Drawing(w * s, h * s)
    ink, lake, earth = (colors.HexColor(c) for c in (INK, LAKE, TERRACOTTA))
    for p in plan.points:
        x, y = at(p)
        drawing.add(Line(x, y, x + 0.4, y, strokeColor=ink, strokeWidth=0.5))
    for wall in plan.walls:
        for a, b in zip(wall[:-1], wall[1:]):
            drawing.add(Line(*at(a), *at(b), strokeColor=ink, strokeWidth=0.7))
    for a, b, failed in plan.ties:
        drawing.add(
            Line(
                *at(a),
                *at(b),
                strokeColor=earth if failed else lake,
                strokeWidth=0.9,
                strokeDashArray=[3, 2] if failed else None,
            )
        )
    for name, *p in plan.stations:
        x, y = at(p)
        drawing.add(
            Polygon(
                [x, y + 5, x + 4.5, y - 3, x - 4.5, y - 3],
                fillColor=colors.white,
                strokeColor=ink,
                strokeWidth=0.8,
            )
        )
        drawing.add(String(x + 6, y + 2, name, fontName="Helvetica", fontSize=7, fillColor=ink))
    for name, *p in plan.control:
        x, y = at(p)
        drawing.add(Circle(x, y, 3, fillColor=None, strokeColor=earth, strokeWidth=1))
        drawing.add(String(x + 5, y - 7, name, fontName="Helvetica", fontSize=7, fillColor=earth))
    bar = plan.bar(w)
    drawing.add(Line(8, 8, 8 + bar * s, 8, strokeColor=ink, strokeWidth=1.6))
    drawing.add(String(8, 12, f"{bar:g} m", fontName="Helvetica", fontSize=7, fillColor=ink))
    return drawing
