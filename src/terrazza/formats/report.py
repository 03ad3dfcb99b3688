"""A report as blocks (headings, paragraphs, tables, bars, a plan), and its rendering as one HTML page; see
``report_pdf`` for the other.
"""

import html
from dataclasses import dataclass, field
from typing import Any

import numpy as np

INK, PAPER, TERRACOTTA, LAKE, RULE = "#1d2b2a", "#f5f1e8", "#b4532f", "#2f6d8c", "#cfc6b2"
PLAN_WIDE, PLAN_HIGH = 174.0, 150.0  # mm that a plan may take
SCALES = (10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 2500, 5000, 10_000, 20_000, 50_000, 100_000)
MM = 0.001  # m


@dataclass
class Heading:
    """A heading; those of level 2 are chapters and stand in the contents."""

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
class Bars:
    """How many values fall between ``edges`` (n + 1): ``counts`` (n)."""

    title: str
    edges: list[float]
    counts: list[int]
    unit: str

    @classmethod
    def of(cls, title: str, values: list[float], unit: str, most: int = 12) -> "Bars":
        """Of some values, in at most so many equal steps of a round width."""
        values = np.asarray(values, float)
        low, high = float(min(values.min(), 0.0)), float(values.max())
        raw = max((high - low) / most, 1e-6)
        power = 10.0 ** np.floor(np.log10(raw))
        step = next(s * power for s in (1, 2, 5, 10) if s * power >= raw * (1 - 1e-9))
        edges = np.arange(np.floor(low / step), np.ceil(high / step + 1e-9) + 1) * step
        edges = edges if len(edges) > 1 else np.array([0.0, step])
        return cls(title, edges.tolist(), np.histogram(values, edges)[0].tolist(), unit)


@dataclass
class Contents:
    """The list of chapters; in PDF with their pages."""


@dataclass
class Break:
    """What follows begins a page."""


@dataclass
class Sign:
    """Lines to sign on, each under a word."""

    words: list[str]


@dataclass
class Plan:
    """A plan (m, north up): ``ties`` (a, b, failed), ``stations`` (name, x, y), ``control`` (name, x, y),
    ``points`` (n, 2), ``ellipses`` (x, y, long and short half axis m, direction of the long one rad) drawn
    ``enlarged`` so many times.
    """

    ties: list[tuple[Any, ...]] = field(default_factory=list[Any])
    stations: list[tuple[Any, ...]] = field(default_factory=list[Any])
    control: list[tuple[Any, ...]] = field(default_factory=list[Any])
    points: np.ndarray = field(default_factory=lambda: np.zeros((0, 2)))
    ellipses: list[tuple[Any, ...]] = field(default_factory=list[Any])
    enlarged: float = 1.0

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner (2,) of what is shown."""
        places = [np.array([s[1:3]]) for s in self.stations + self.control]
        places += [self.points] if len(self.points) else []
        xy = np.concatenate(places) if places else np.zeros((1, 2))
        many = len(xy) > 500
        low = np.percentile(xy, 0.5, axis=0) if many else xy.min(0)
        high = np.percentile(xy, 99.5, axis=0) if many else xy.max(0)
        pad = max(1.0, 0.05 * float((high - low).max()))
        return low - pad, high + pad

    @property
    def scale(self) -> int:
        """n of 1:n, the largest scale at which the plan fits."""
        low, high = self.bounds()
        wide, tall = high - low
        need = max(wide / PLAN_WIDE, tall / PLAN_HIGH) / MM
        return next((s for s in SCALES if s >= need), int(np.ceil(need / 1e5) * 1e5))

    def bar(self, width: float) -> float:
        """A round scale-bar length (m) of about a fifth of ``width`` (m)."""
        power = 10.0 ** np.floor(np.log10(max(width / 5, 1e-3)))
        return float(max(f for f in (1, 2, 5, 10) if f * power <= width / 5 * 1.0001) * power)

    def ellipse(self, one: tuple[Any, ...], count: int = 36) -> np.ndarray:
        """(count, 2) m around an ellipse as it is drawn."""
        x, y, a, b, turn = one
        t = np.linspace(0, 2 * np.pi, count, endpoint=False)
        u, v = self.enlarged * a * np.cos(t), self.enlarged * b * np.sin(t)
        return np.stack([x + u * np.cos(turn) - v * np.sin(turn), y + u * np.sin(turn) + v * np.cos(turn)], 1)


STYLE = f"""body{{font:15px/1.5 'Atkinson Hyperlegible Next',Verdana,sans-serif;color:{INK};
background:{PAPER};max-width:62rem;margin:2rem auto;padding:0 1rem}}
table{{border-collapse:collapse;width:100%;margin:.5rem 0 1.5rem}}
th,td{{padding:.25rem .5rem;border-bottom:1px solid {RULE};text-align:left;vertical-align:top}}
td.n,th.n{{text-align:right;font-variant-numeric:tabular-nums}}
svg{{max-width:100%;height:auto;background:#fffdf8}}h1{{margin-bottom:0}}
nav ol{{columns:2}}a{{color:{LAKE}}}
.sign{{display:flex;gap:2rem;margin:3rem 0}}.sign p{{flex:1;border-top:1px solid {INK}}}
.break{{border:0;border-top:1px solid {RULE};margin:2rem 0}}
@media print{{.break{{break-after:page;border:0}}body{{background:#fff}}}}"""


def to_html(title: str, blocks: list[Any]) -> str:
    """The report as one self-contained page."""
    chapters = [b.text for b in blocks if isinstance(b, Heading) and b.level == 2]
    parts = [
        f"<!doctype html><html lang=en><meta charset=utf-8><title>{html.escape(title)}</title>"
        f"<style>{STYLE}</style>",
        f"<h1>{html.escape(title)}</h1>",
    ]
    number = 0
    for block in blocks:
        if isinstance(block, Heading):
            number += block.level == 2
            mark = f" id=c{number}" if block.level == 2 else ""
            parts.append(f"<h{block.level}{mark}>{html.escape(block.text)}</h{block.level}>")
        elif isinstance(block, Contents):
            items = "".join(f"<li><a href=#c{k}>{html.escape(c)}</a>" for k, c in enumerate(chapters, 1))
            parts.append(f"<nav><ol>{items}</ol></nav>")
        else:
            parts.append(DRAWN[type(block)](block))
    return "\n".join(parts) + "</html>"


def _rows(block: Rows) -> str:
    mark = lambda k: " class=n" if k in block.numeric else ""
    head = "".join(f"<th{mark(k)}>{html.escape(c)}</th>" for k, c in enumerate(block.columns))
    body = "".join(
        "<tr>" + "".join(f"<td{mark(k)}>{html.escape(str(c))}</td>" for k, c in enumerate(row)) + "</tr>"
        for row in block.rows
    )
    heading = f"<thead><tr>{head}</tr></thead>" if any(block.columns) else ""
    return f"<table>{heading}<tbody>{body}</tbody></table>"


def labels(bars: Bars) -> list[str]:
    """The edges as they are written."""
    step = bars.edges[1] - bars.edges[0]
    decimals = max(int(np.ceil(-np.log10(step) - 1e-9)), 0)
    return [f"{e:.{decimals}f}" for e in bars.edges]


def _bars(block: Bars) -> str:
    wide, high, most = 600, 120, max(max(block.counts), 1)
    step = wide / len(block.counts)
    out = [
        f'<svg viewBox="0 0 {wide + 40} {high + 50}" width="{wide + 40}" role="img" '
        f'aria-label="{html.escape(block.title)}"><text x="10" y="14" font-size="13">'
        f"{html.escape(block.title)}, {html.escape(block.unit)}</text>"
    ]
    for k, count in enumerate(block.counts):
        tall = 90 * count / most
        out.append(
            f'<rect x="{20 + k * step + 1:.1f}" y="{high - tall:.1f}" width="{step - 2:.1f}" '
            f'height="{tall:.1f}" fill="{LAKE}"/>'
        )
        if count:
            out.append(
                f'<text x="{20 + (k + 0.5) * step:.1f}" y="{high - tall - 3:.1f}" font-size="11" '
                f'text-anchor="middle">{count}</text>'
            )
    out += [
        f'<text x="{20 + k * step:.1f}" y="{high + 16}" font-size="11" text-anchor="middle">{label}</text>'
        for k, label in enumerate(labels(block))
    ]
    return "".join([*out, "</svg>"])


def _svg(plan: Plan) -> str:
    low, high = plan.bounds()
    w, h = high - low
    s = 900 / w
    xy = lambda p: ((p[0] - low[0]) * s, (high[1] - p[1]) * s)
    place = lambda p: "{:.1f},{:.1f}".format(*xy(p))
    out = [
        f'<svg viewBox="0 0 900 {h * s:.0f}" width="{w / plan.scale / MM:.1f}mm" role="img" '
        'aria-label="Plan with stations, ties, control and ellipses">'
    ]
    if len(plan.points):
        out.append(
            f'<path fill="none" stroke="{INK}" stroke-opacity=".35" stroke-width="1.4" '
            f'stroke-linecap="square" d="{"".join(f"M{place(p)}h.1" for p in plan.points)}"/>'
        )
    for a, b, failed in plan.ties:
        (x1, y1), (x2, y2) = (place(p).split(",") for p in (a, b))
        out.append(
            f'<line x1="{x1}" y1="{y1}" x2="{x2}" y2="{y2}" stroke="{TERRACOTTA if failed else LAKE}" '
            f'stroke-width="1.5"{" stroke-dasharray=4" if failed else ""}/>'
        )
    for one in plan.ellipses:
        ring = " ".join(place(p) for p in plan.ellipse(one))
        out.append(f'<polygon points="{ring}" fill="none" stroke="{TERRACOTTA}" stroke-width="1.2"/>')
    for name, *p in plan.stations:
        x, y = xy(p)
        out.append(
            f'<path d="M{x:.1f} {y - 8:.1f}l7 12h-14z" fill="#fff" stroke="{INK}" stroke-width="1.5"/>'
            f'<text x="{x + 9:.1f}" y="{y - 4:.1f}" font-size="13">{html.escape(name)}</text>'
        )
    for name, *p in plan.control:
        x, y = xy(p)
        out.append(
            f'<circle cx="{x:.1f}" cy="{y:.1f}" r="5" fill="none" stroke="{TERRACOTTA}" stroke-width="2"/>'
            f'<text x="{x + 8:.1f}" y="{y + 12:.1f}" font-size="12" fill="{TERRACOTTA}">'
            f"{html.escape(name)}</text>"
        )
    bar = plan.bar(w)
    out.append(
        f'<path d="M20 {h * s - 20:.0f}h{bar * s:.1f}" stroke="{INK}" stroke-width="3"/><text x="20" '
        f'y="{h * s - 28:.0f}" font-size="13">{bar:g} m</text>'
        f'<path d="M870 70v-48l-7 14m7 -14l7 14" fill="none" stroke="{INK}" stroke-width="2"/>'
        f'<text x="870" y="16" font-size="14" text-anchor="middle">N</text></svg>'
    )
    return "".join(out)


def _sign(block: Sign) -> str:
    return "<div class=sign>" + "".join(f"<p>{html.escape(w)}</p>" for w in block.words) + "</div>"


DRAWN = {
    Text: lambda block: f"<p>{html.escape(block.text)}</p>",
    Rows: _rows,
    Bars: _bars,
    Plan: _svg,
    Break: lambda block: "<hr class=break>",
    Sign: _sign,
}
