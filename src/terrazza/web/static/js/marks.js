// What is drawn over the points of every view, as SVG: stations, ties, control, scale, grid, slab band, picks and measures.
// A view gives `toPixel` (pane pixels of a place in the scene, or null); lines of drawings are ink.js's.
import * as boxes from "./boxes.js";
import { round, said, written } from "./notation.js";
import { escaped, html } from "./text.js";

const BESIDE = 1.5; // m beside the section line within which stations are shown in the slab
const f = (v) => v.toFixed(1);
const list = (pixels) => pixels.map((p) => `${f(p[0])},${f(p[1])}`).join(" ");
const line = (a, b, kind, extra = "") =>
  `<line x1="${f(a[0])}" y1="${f(a[1])}" x2="${f(b[0])}" y2="${f(b[1])}" class="${kind}" ${extra}/>`;
const text = (p, words, extra = "") =>
  `<text x="${f(p[0])}" y="${f(p[1])}" ${extra}>${escaped(words)}</text>`;
const ring = (p, radius, kind, extra = "") =>
  `<circle cx="${f(p[0])}" cy="${f(p[1])}" r="${radius}" class="${kind}" ${extra}/>`;

export const triangle = ([x, y], kind) => `<path d="M${f(x)} ${f(y - 8)}l7 12.5h-14z" class="${kind}"/>`;

// All marks of a view, by its kind; those of the tool in hand are on top.
export function of(view, app) {
  return { plan, space, slab }[view.kind](view, app);
}

// What all views show: measures, pins, the point touched last, and what the tool in hand draws.
export function common(view, app) {
  const { measures = [], pins = [] } = app.cloud.data,
    out = [],
    px = (p) => view.toPixel(p);
  if (app.marks) for (const m of measures) out.push(measured(m.at.map(px), m.kind, m.label));
  for (const one of app.marks ? pins : []) out.push(pin(px(one.at), one));
  const p = app.picked && px(app.picked.local);
  if (p) out.push(ring(p, 7, "picked"), ring(p, 9.5, "picked2"));
  out.push(app.tools[app.tool].marks?.(app, view) ?? "");
  return out.join("");
}

function pin(p, { id, name, text: words }) {
  if (!p) return "";
  const drop = `<path d="M${f(p[0])} ${f(p[1])}l-5 -12a5.4 5.4 0 1 1 10 0z" class="pin"/>`;
  const mark = `<g class="pinmark" data-pin="${id}">${drop}<title>${escaped(words)}</title></g>`;
  return mark + text([p[0] + 9, p[1] - 9], name);
}

// A line in hand: its sides, and a grip at each place, larger at the one that is chosen.
export function gripped(view, places, { closed = false, chosen = -1, loose = false } = {}) {
  if (!places.length || !view.toPixel) return "";
  const pixels = places.map((p) => view.toPixel(p)),
    sides = (closed ? [...pixels, pixels[0]] : pixels).filter(Boolean);
  const grips = pixels.map((p, k) => (p ? ring(p, k === chosen ? 6 : 4.5, "grip") : ""));
  const line = loose ? "" : `<polyline points="${list(sides)}" class="measure" fill="none"/>`;
  return line + grips.join("");
}

// The points of a measure, joined as its kind asks, with a label at the middle of what is drawn.
export function measured(pixels, kind, label) {
  const p = pixels.filter(Boolean);
  if (!p.length) return "";
  const out = p.map((q) => ring(q, 3.5, "measure", 'fill="none"'));
  if (p.length > 1 && kind === "area") out.push(`<polygon points="${list(p)}" class="measure area"/>`);
  else if (p.length > 1) out.push(`<polyline points="${list(p)}" class="measure" fill="none"/>`);
  const middle = [0, 1].map((k) => p.reduce((n, q) => n + q[k], 0) / p.length);
  return out.join("") + text([middle[0] + 7, middle[1] - 6], label);
}

// The ways of walked scans, with their stops.
function ways(view, app, near) {
  const shown = (app.cloud.data.walks ?? []).filter((w) => !app.hiddenScans.has(w.scan));
  return shown.map((w) => {
    const way = w.at.filter(near).map((p) => view.toPixel(p));
    const stops = w.stops.map((s, k) => {
      const p = near(s) && view.toPixel(s),
        title = `stop ${k + 1}: look from here`;
      return p
        ? html`<g class="go" data-scan="${w.scan}-${k + 1}">` +
            ring(p, 4, "station") +
            html`<title>${title}</title></g>`
        : "";
    });
    return `<polyline points="${list(way.filter(Boolean))}" class="way"/>${stops.join("")}`;
  });
}

function stations(view, app, near = (_place) => true) {
  if (!app.marks) return "";
  const scans = app.cloud.visibleScans().map((s) => {
    const place = placeOf(s),
      p = near(place) && view.toPixel(place);
    if (!p) return "";
    const mark = triangle(p, `station${s.record.placed ? "" : " loose"}`);
    const title = html`<title>${s.record.name}: look from here</title>`,
      nailed = s.record.held ? nail([p[0], p[1] + 9]) : "";
    const go = `<g class="go" data-scan="${s.id}">${title}${mark}${nailed}</g>`;
    return go + ring(p, 1.5, "dot", 'fill="currentColor"') + text([p[0] + 9, p[1] - 4], s.id);
  });
  return [...ways(view, app, near), ...scans].join("");
}

const placeOf = (scan) => scan.matrix.elements.slice(12, 15);

function scaleBar(view, note) {
  const length = round(note, view.scale * view.rect.width * 0.22),
    w = length.metres / view.scale;
  const y = view.rect.height - 14;
  const bar = `<path d="M14 ${y - 4}v8M14 ${y}h${w}m0 -4v8" fill="none" stroke="currentColor" stroke-width="1.5"/>`;
  return `<g class="scale">${bar}${text([20 + w, y + 4], said(note, length.metres, length.decimals))}</g>`;
}

const multiples = (from, to, step) => {
  const first = Math.ceil(from / step);
  return Array.from({ length: Math.max(0, Math.floor(to / step) - first + 1) }, (_, k) => (first + k) * step);
};

// Lines of the job's grid at round coordinates, written at the lower and the right edge.
function grid(view, app) {
  const { origin, notation } = app.cloud.data,
    { width, height } = view.rect,
    out = [];
  const step = round(notation, view.scale * 120),
    [west, north] = view.toWorld(0, 0),
    [east, south] = view.toWorld(width, height);
  for (const e of multiples(west + origin[0], east + origin[0], step.metres)) {
    const x = (e - origin[0] - west) / view.scale;
    out.push(line([x, 0], [x, height], "grid"));
    const free = x > width * 0.34 && x < width - 60;
    if (free) out.push(text([x + 3, height - 5], written(notation, e, step.decimals), 'class="small"'));
  }
  for (const n of multiples(south + origin[1], north + origin[1], step.metres)) {
    const y = (north + origin[1] - n) / view.scale,
      free = y > 96 && y < height - 16;
    out.push(line([0, y], [width, y], "grid"));
    const how = 'class="small" text-anchor="end"';
    if (free) out.push(text([width - 5, y - 3], written(notation, n, step.decimals), how));
  }
  return `<g class="scale">${out.join("")}</g>`;
}

const nail = ([x, y]) => `<path d="M${f(x - 3)} ${f(y - 3)}h6v6h-6z" class="nail"/>`;

// Blocks of scans, as outlines about their stations.
function blocks(view, app) {
  return (app.cloud.data.blocks ?? []).map((b) => {
    const p = b.at.map((at) => view.toPixel([...at, 0])),
      top = p.reduce((a, q) => (q[1] < a[1] ? q : a));
    const name = text([top[0], top[1] - 5], b.name, 'class="small" text-anchor="middle"');
    const nails = b.held ? p.filter((_, k) => k % 4 === 0).map(nail) : []; // a held block is nailed down
    return `<polygon points="${list(p)}" class="block${b.held ? " held" : ""}"/>${nails.join("")}${name}`;
  });
}

// Ties between scans: the wider the more they overlap.
function ties(view, app) {
  const { scans, data } = app.cloud;
  return data.ties.map((t) => {
    const [a, b] = [t.a, t.b].map((id) => scans.get(id));
    const kind = `tie${t.failed || t.words.startsWith("slides") ? " bad" : ""}`;
    const width = `stroke-width="${f(0.8 + 3.2 * t.overlap)}"`;
    return a && b ? line(view.toPixel(placeOf(a)), view.toPixel(placeOf(b)), kind, width) : "";
  });
}

function control(view, app) {
  return app.cloud.data.control.map((c) => {
    const p = view.toPixel(c.at);
    return (
      ring(p, 5, "control", c.check ? 'stroke-dasharray="3 2"' : "") + text([p[0] + 8, p[1] + 12], c.name)
    );
  });
}

// The line that the slab runs along: its ends and bends to be dragged, and between them where a bend can be drawn out.
function sectionLine(view, app) {
  const p = app.slab.path.map((at) => view.toPixel([...at, 0])),
    last = p.length - 1;
  const dragged = (q, radius, kind, named, title) => {
    const head = `<circle cx="${f(q[0])}" cy="${f(q[1])}" r="${radius}" class="${kind}" ${named}>`;
    return `${head}${title ? `<title>${title}</title>` : ""}</circle>`;
  };
  const middles = p.slice(1).map((q, k) => {
    const middle = [(p[k][0] + q[0]) / 2, (p[k][1] + q[1]) / 2];
    return dragged(middle, 4, "handle mid", `data-mid="${k}"`, "drag to bend the line");
  });
  const ends = p.map((q, k) => {
    const name = { 0: "a", [last]: "b" }[k] ?? k,
      bend = k > 0 && k < last;
    return dragged(q, 5.5, "handle", `data-end="${name}"`, bend && "double click to take the bend out");
  });
  const letters = text([p[0][0] - 16, p[0][1] + 4], "A") + text([p[last][0] + 8, p[last][1] + 4], "B");
  return `<polyline points="${list(p)}" class="ab" fill="none"/>${middles.join("")}${ends.join("")}${letters}`;
}

function north(view, { georeferenced }) {
  const x = view.rect.width - 22;
  const arrow = `<path d="M${x} 66V36m-4.5 8L${x} 36l4.5 8"/>`;
  return `<g fill="none" stroke="currentColor" stroke-width="1.4">${arrow}</g>${text([x - 4, 79], georeferenced ? "N" : "Y")}`;
}

// Texts of drawings, a line below the other.
function texts(view, { drawings = [] }) {
  return drawings.flatMap(({ texts: all = [] }) =>
    all.map(({ text: words, at }) => {
      const [x, y] = view.toPixel(at);
      return words
        .split("\n")
        .map((row, k) => text([x, y + 13 * k], row, `text-anchor="middle" class="${k ? "small" : "title"}"`))
        .join("");
    }),
  );
}

function plan(view, app) {
  const { data } = app.cloud;
  return [
    grid(view, app),
    ...(app.marks ? [...blocks(view, app), ...ties(view, app)] : []),
    ...control(view, app),
    ...texts(view, data),
    sectionLine(view, app),
    boxes.marks(view, app),
    stations(view, app),
    common(view, app),
    scaleBar(view, data.notation),
    north(view, data),
  ].join("");
}

function space(view, app) {
  return common(view, app) + stations(view, app) + legend(view, app);
}

// What the colours of a dimension stand for.
function legend(view, app) {
  const { shade } = app,
    { notation } = app.cloud.data;
  if (!shade || (view.mode ?? app.mode) !== "dimension") return "";
  const [x, y, w] = [14, 48, 160];
  const value = (v) => (shade.length ? said(notation, v, 3) : String(+v.toPrecision(4)));
  const bar = `<rect x="${x}" y="${y}" width="${w}" height="7" fill="url(#${shade.about_zero ? "sides" : "ramp"})"/>`;
  return `<g class="scale">${bar}${text([x, y - 5], shade.name)}${text([x, y + 20], value(shade.low), 'class="small"')}${text([x + w, y + 20], value(shade.high), 'class="small" text-anchor="end"')}</g>`;
}

// Chainage and height lines of the slab, heights written at the right edge.
function heights(view, { origin, notation }) {
  const { width, height } = view.rect,
    [left, top] = view.toWorld(0, 0),
    [right, bottom] = view.toWorld(width, height);
  const across = multiples(left, right, round(notation, view.scale * 110).metres).map((s) => {
    const x = width / 2 + (s - view.along) / view.scale;
    return line([x, 0], [x, height], "grid");
  });
  const step = round(notation, view.scaleUp * 110);
  const up = multiples(bottom + origin[2], top + origin[2], step.metres).map((h) => {
    const y = view.rowOf(h - origin[2]);
    const label = text([width - 8, y - 3], written(notation, h, step.decimals), 'text-anchor="end"');
    return `${line([0, y], [width, y], "grid")}<g class="scale">${label}</g>`;
  });
  return [...across, ...up];
}

function slab(view, app) {
  const { width, height } = view.rect,
    [low, high] = app.planSlab().map((z) => view.rowOf(z));
  const x = (s) => width / 2 + (s - view.along) / view.scale;
  const off = app.slabOn ? "" : 'fill-opacity="0" stroke-dasharray="2 6"';
  const band = `<rect x="0" width="${width}" y="${f(high)}" height="${f(Math.max(low - high, 3))}" class="band" ${off}/>`;
  const bends = view.pieces
    .filter((piece) => !piece.last)
    .map(({ to }) => line([x(to), 0], [x(to), height], "bend"));
  return [
    ...heights(view, app.cloud.data),
    band,
    ...bends,
    boxes.marks(view, app),
    stations(view, app, (p) => view.place(p).off < BESIDE),
    common(view, app),
    scaleBar(view, app.cloud.data.notation),
  ].join("");
}
