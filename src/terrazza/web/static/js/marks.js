// What is drawn over the points: stations, ties, control, scale, grid, slab band, picks and outlines, as SVG.
import * as boxes from "./boxes.js";
import { round, said, written } from "./notation.js";

const esc = (s) => String(s).replace(/[&<>"]/g, (c) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[c]);
const line = (a, b, cls, extra = "") => `<line x1="${a[0].toFixed(1)}" y1="${a[1].toFixed(1)}" x2="${b[0].toFixed(1)}" y2="${b[1].toFixed(1)}" class="${cls}" ${extra}/>`;
const text = (p, s, extra = "") => `<text x="${p[0].toFixed(1)}" y="${p[1].toFixed(1)}" ${extra}>${esc(s)}</text>`;

function scaleBar(view, note) {
  const length = round(note, view.scale * view.rect.width * 0.22), w = length.metres / view.scale, y = view.rect.height - 14;
  return `<g class="scale"><path d="M14 ${y - 4}v8M14 ${y}h${w}m0 -4v8" fill="none" stroke="currentColor" stroke-width="1.5"/>${text([20 + w, y + 4], said(note, length.metres, length.decimals))}</g>`;
}

const station = (scan) => [scan.matrix.elements[12], scan.matrix.elements[13], scan.matrix.elements[14]];

function common(view, app) {
  const out = [], px = (p) => view.toPixel(p);
  if (app.marks) for (const m of app.cloud.data.measures ?? []) out.push(measured(m.at.map(px), m.kind, m.label));
  if (app.draft) out.push(measured(app.draft.points.map((p) => px(p.local)), app.draft.kind, app.draft.says.split(" · ")[0]));
  if (app.marks) for (const pin of app.cloud.data.pins ?? []) {
    const p = px(pin.at);
    if (p) out.push(`<g class="pinmark"><path d="M${p[0].toFixed(1)} ${p[1].toFixed(1)}l-5 -12a5.4 5.4 0 1 1 10 0z" class="pin"/><title>${esc(pin.text)}</title></g>`, text([p[0] + 9, p[1] - 9], pin.name));
  }
  if (app.picked) {
    const p = px(app.picked.local);
    if (p) out.push(`<circle cx="${p[0]}" cy="${p[1]}" r="7" class="picked"/><circle cx="${p[0]}" cy="${p[1]}" r="9.5" class="picked2"/>`);
  }
  if (app.outline?.view === view && app.outline.path.length > 1) out.push(`<polygon points="${app.outline.path.map((p) => p.join(",")).join(" ")}" class="outline"/>`);
  return out;
}

// The points of a measure, joined as its kind asks, with a label at the middle of what is drawn.
function measured(pixels, kind, label) {
  const p = pixels.filter(Boolean), out = p.map((q) => `<circle cx="${q[0].toFixed(1)}" cy="${q[1].toFixed(1)}" r="3.5" class="measure" fill="none"/>`);
  if (!p.length) return "";
  const path = p.map((q) => `${q[0].toFixed(1)},${q[1].toFixed(1)}`).join(" ");
  if (p.length > 1) out.push(kind === "area" ? `<polygon points="${path}" class="measure area"/>` : `<polyline points="${path}" class="measure" fill="none"/>`);
  const middle = [0, 1].map((k) => p.reduce((n, q) => n + q[k], 0) / p.length);
  return out.join("") + text([middle[0] + 7, middle[1] - 6], label);
}

// The way of a walked scan, with its stops.
function ways(view, app, near) {
  if (!app.marks) return "";
  const shown = (app.cloud.data.walks ?? []).filter((w) => !app.cloud.hiddenScans.has(w.scan));
  return shown.map((w) => {
    const way = w.at.filter(near).map((p) => view.toPixel(p)).filter(Boolean).map((p) => `${p[0].toFixed(1)},${p[1].toFixed(1)}`).join(" ");
    const stops = w.stops.map((s, k) => {
      const p = near(s) && view.toPixel(s);
      return p ? `<g class="go" data-scan="${w.scan}-${k + 1}"><circle cx="${p[0].toFixed(1)}" cy="${p[1].toFixed(1)}" r="4" class="station"/><title>stop ${k + 1}: look from here</title></g>` : "";
    });
    return `<polyline points="${way}" class="way"/>${stops.join("")}`;
  }).join("");
}

function stations(view, app, near) {
  if (!app.marks) return "";
  return ways(view, app, near) +  [...app.cloud.scans.values()].filter((s) => !app.cloud.hiddenScans.has(s.id)).map((s) => {
    const world = station(s), p = near(world) && view.toPixel(world);
    if (!p) return "";
    return `<g class="go" data-scan="${s.id}"><title>${esc(s.record.name)}: look from here</title><path d="M${p[0].toFixed(1)} ${(p[1] - 8).toFixed(1)}l7 12.5h-14z" class="station${s.record.placed ? "" : " loose"}"/></g><circle cx="${p[0].toFixed(1)}" cy="${p[1].toFixed(1)}" r="1.5" fill="currentColor"/>${text([p[0] + 9, p[1] - 4], s.id)}`;
  }).join("");
}

// Lines of the job's grid at round coordinates, written at the lower and the right edge.
function grid(view, app) {
  const { origin, notation } = app.cloud.data, step = round(notation, view.scale * 120), out = [], { width, height } = view.rect, [west, north] = view.toWorld(0, 0), [east, south] = view.toWorld(width, height);
  const multiples = (from, to) => { const m = []; for (let k = Math.ceil(from / step.metres); k * step.metres <= to; k++) m.push(k * step.metres); return m; };
  for (const e of multiples(west + origin[0], east + origin[0])) {
    const x = (e - origin[0] - west) / view.scale;
    out.push(line([x, 0], [x, height], "grid"));
    if (x > width * 0.34 && x < width - 60) out.push(text([x + 3, height - 5], written(notation, e, step.decimals), 'class="small"'));
  }
  for (const n of multiples(south + origin[1], north + origin[1])) {
    const y = (north + origin[1] - n) / view.scale;
    out.push(line([0, y], [width, y], "grid"));
    if (y > 96 && y < height - 16) out.push(text([width - 5, y - 3], written(notation, n, step.decimals), 'class="small" text-anchor="end"'));
  }
  return `<g class="scale">${out.join("")}</g>`;
}

// Blocks of scans, as outlines about their stations.
function blocks(view, app) {
  if (!app.marks) return "";
  return (app.cloud.data.blocks ?? []).map((b) => {
    const p = b.at.map((at) => view.toPixel([...at, 0])), top = p.reduce((a, q) => (q[1] < a[1] ? q : a));
    return `<polygon points="${p.map((q) => `${q[0].toFixed(1)},${q[1].toFixed(1)}`).join(" ")}" class="block"/>${text([top[0], top[1] - 5], b.name, 'class="small" text-anchor="middle"')}`;
  }).join("");
}

// The line that the slab runs along: its ends and bends to be dragged, and between them where a bend can be drawn out.
function sectionLine(view, app) {
  const p = app.slab.path.map((at) => view.toPixel([...at, 0])), names = p.map((_, k) => (k === 0 ? "a" : k === p.length - 1 ? "b" : k));
  const grips = p.slice(1).map((q, k) => `<circle cx="${((p[k][0] + q[0]) / 2).toFixed(1)}" cy="${((p[k][1] + q[1]) / 2).toFixed(1)}" r="4" class="handle mid" data-mid="${k}"><title>drag to bend the line</title></circle>`);
  const ends = p.map((q, k) => `<circle cx="${q[0].toFixed(1)}" cy="${q[1].toFixed(1)}" r="5.5" class="handle" data-end="${names[k]}">${k > 0 && k < p.length - 1 ? "<title>double click to take the bend out</title>" : ""}</circle>`);
  return `<polyline points="${p.map((q) => `${q[0].toFixed(1)},${q[1].toFixed(1)}`).join(" ")}" class="ab" fill="none"/>${grips.join("")}${ends.join("")}`;
}

export function plan(view, app) {
  const out = [grid(view, app), blocks(view, app)], { cloud } = app, data = cloud.data;
  if (app.marks) for (const t of data.ties) {
    const a = cloud.scans.get(t.a), b = cloud.scans.get(t.b);
    if (a && b) out.push(line(view.toPixel(station(a)), view.toPixel(station(b)), `tie${t.failed || t.words.startsWith("slides") ? " bad" : ""}`, `stroke-width="${(0.8 + 3.2 * t.overlap).toFixed(1)}"`));
  }
  for (const d of data.drawings) for (const l of d.lines) out.push(`<${l.closed ? "polygon" : "polyline"} points="${l.at.map((p) => view.toPixel(p).slice(0, 2).map((v) => v.toFixed(1)).join(",")).join(" ")}" class="drawn"/>`);
  for (const c of data.control) {
    const p = view.toPixel(c.at);
    out.push(`<circle cx="${p[0].toFixed(1)}" cy="${p[1].toFixed(1)}" r="5" class="control" ${c.check ? 'stroke-dasharray="3 2"' : ""}/>`, text([p[0] + 8, p[1] + 12], c.name));
  }
  out.push(sectionLine(view, app));
  const a = view.toPixel([...app.slab.a, 0]), b = view.toPixel([...app.slab.b, 0]);
  out.push(text([a[0] - 16, a[1] + 4], "A"), text([b[0] + 8, b[1] + 4], "B"));
  out.push(boxes.marks(view, app), stations(view, app, () => true), ...common(view, app), scaleBar(view, data.notation));
  const x = view.rect.width - 22;
  out.push(`<g fill="none" stroke="currentColor" stroke-width="1.4"><path d="M${x} 66V36m-4.5 8L${x} 36l4.5 8"/></g>${text([x - 4, 79], data.georeferenced ? "N" : "Y")}`);
  return out.join("");
}

export function space(view, app) {
  return [...common(view, app), stations(view, app, () => true)].join("");
}

export function slab(view, app) {
  const { origin, notation } = app.cloud.data, out = [], step = round(notation, view.scale * 110).metres, [left, top] = view.toWorld(0, 0), [right, bottom] = view.toWorld(view.rect.width, view.rect.height), z0 = origin[2];
  const y = (z) => view.rowOf(z), x = (s) => view.rect.width / 2 + (s - view.along) / view.scale;
  for (let s = Math.ceil(left / step) * step; s <= right; s += step) out.push(line([x(s), 0], [x(s), view.rect.height], "grid"));
  const up = round(notation, view.scaleUp * 110);
  for (let k = Math.ceil((bottom + z0) / up.metres), h; (h = k * up.metres) <= top + z0; k++) out.push(line([0, y(h - z0)], [view.rect.width, y(h - z0)], "grid"), `<g class="scale">${text([view.rect.width - 8, y(h - z0) - 3], written(notation, h, up.decimals), 'text-anchor="end"')}</g>`);
  const [low, high] = app.planSlab();
  out.push(`<rect x="0" width="${view.rect.width}" y="${y(high).toFixed(1)}" height="${Math.max(y(low) - y(high), 3).toFixed(1)}" class="band" ${app.slabOn ? "" : 'fill-opacity="0" stroke-dasharray="2 6"'}/>`);
  for (const piece of view.pieces) if (!piece.last) out.push(line([x(piece.to), 0], [x(piece.to), view.rect.height], "bend"));
  out.push(boxes.marks(view, app), stations(view, app, (p) => view.place(p).off < 1.5), ...common(view, app), scaleBar(view, notation));
  return out.join("");
}
