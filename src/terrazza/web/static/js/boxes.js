// Working boxes: two clicks in plan, height in the slab; shown, adjusted and turned inside out.
import { send, show } from "./gestures.js";
import { field as inUnit, metres } from "./notation.js";

const esc = (s) => String(s).replace(/[&<>"]/g, (c) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[c]);
const turn = (x, y, a) => [x * Math.cos(a) - y * Math.sin(a), x * Math.sin(a) + y * Math.cos(a)];

// Row-major 3×4 from the scene to the box's unit cube (−1 to 1), and back for drawing.
export function toUnit(b) {
  const c = Math.cos(b.heading), s = Math.sin(b.heading), [hx, hy, hz] = b.size.map((v) => v / 2), [x, y, z] = b.centre;
  return [c / hx, s / hx, 0, -(c * x + s * y) / hx, -s / hy, c / hy, 0, (s * x - c * y) / hy, 0, 0, 1 / hz, -z / hz];
}

export function corners(b) {
  return [[-1, -1], [1, -1], [1, 1], [-1, 1]].map(([i, j]) => { const [x, y] = turn((i * b.size[0]) / 2, (j * b.size[1]) / 2, b.heading); return [b.centre[0] + x, b.centre[1] + y, b.centre[2]]; });
}

export function holds(b, x, y, z) {
  const m = b.unit;
  for (let r = 0; r < 3; r++) if (Math.abs(m[4 * r] * x + m[4 * r + 1] * y + m[4 * r + 2] * z + m[4 * r + 3]) > 1) return b.outside;
  return !b.outside;
}

// Whether a ball may reach into a box.
export function near(b, centre, radius) {
  const m = b.unit;
  return [0, 1, 2].every((r) => Math.abs(m[4 * r] * centre.x + m[4 * r + 1] * centre.y + m[4 * r + 2] * centre.z + m[4 * r + 3]) <= 1 + (2 * radius) / b.size[r]);
}

// Show a box (null: none): what it hides is neither drawn nor picked.
export function use(app, box) {
  app.box = box ? { ...box, unit: toUnit(box) } : null;
  const s = app.cloud.shared;
  s.uBoxOn.value = box ? (box.outside ? 2 : 1) : 0;
  if (box) s.uBox.value.set(...app.box.unit, 0, 0, 0, 1);
  document.getElementById("box-note").textContent = box ? `box “${box.name || "new"}”` : "";
  app.dirty();
}

function panel(app) {
  const b = app.box;
  if (!b) return show("Touch two opposite corners of the box in plan.");
  const { notation } = app.cloud.data, z0 = app.cloud.data.origin[2], low = b.centre[2] - b.size[2] / 2 + z0, high = b.centre[2] + b.size[2] / 2 + z0;
  const field = (name, label, value, step = "any") => `<label class="row"><span>${label}</span><input class="mini" type="number" step="${step}" data-box-field="${name}" value="${value}"></label>`;
  show(`<label class="row"><span>box</span><input id="box-name" class="mini wide" value="${esc(b.name ?? "")}" placeholder="name"></label>${field("low", `from height ${notation.unit}`, inUnit(notation, low))}${field("high", `to height ${notation.unit}`, inUnit(notation, high))}${field("heading", "turned °", ((b.heading * 180) / Math.PI).toFixed(1), 1)}
<label class="row"><span>inside out</span><input type="checkbox" data-box-field="outside" ${b.outside ? "checked" : ""}></label>
<button class="minor" data-do="keep">keep the box</button><button class="plain link" data-do="wall" title="Turn it to the direction of A to B">along A–B</button> <button class="plain link" data-do="off">show everything</button>`, (what) => {
    if (what === "off") { use(app, null); panel(app); }
    if (what === "wall") change(app, { heading: Math.atan2(app.slab.u[1], app.slab.u[0]) });
    if (what === "keep") keep(app);
  });
  document.getElementById("action").onchange = (e) => {
    const name = e.target.dataset.boxField, v = e.target.type === "checkbox" ? e.target.checked : +e.target.value, h = metres(notation, v);
    if (name === "heading") change(app, { heading: (v * Math.PI) / 180 });
    if (name === "outside") change(app, { outside: v });
    if (name === "low" && h < high) change(app, vertical(b, h - z0, high - z0));
    if (name === "high" && h > low) change(app, vertical(b, low - z0, h - z0));
  };
}

const vertical = (b, low, high) => ({ centre: [b.centre[0], b.centre[1], (low + high) / 2], size: [b.size[0], b.size[1], high - low] });

function change(app, what) {
  const name = document.getElementById("box-name")?.value ?? app.box.name;
  use(app, { ...app.box, name, ...what });
  panel(app);
}

// The box that the server is about to keep is shown as soon as the scene has it: by its name, or where the server gives one, as the next new one.
export function awaited(app, name = "") {
  const last = Math.max(0, ...app.cloud.data.boxes.map((b) => b.id)), state = app.cloud.data.state;
  app.comingBox = (data) => (data.state !== state ? data.boxes.find((b) => (name ? b.name === name : b.id > last)) : undefined);
}

function keep(app) {
  const b = app.box, o = app.cloud.data.origin, name = document.getElementById("box-name").value.trim();
  awaited(app, name);
  send(app, "boxes.put", { name, centre: JSON.stringify(b.centre.map((v, k) => v + o[k])), size: JSON.stringify(b.size), heading_deg: (b.heading * 180) / Math.PI, "outside.there": "1", ...(b.outside ? { outside: "on" } : {}) });
  panel(app);
}

// Heights of what is drawn near a place in plan, for a box that has none yet.
function heights(app) {
  const box = app.extent(), z = [box.min[2], box.max[2]];
  return app.slabOn ? app.planSlab() : z;
}

let first = null, grip = null;

export const boxTool = {
  drags: true,
  enter(app) { first = null; panel(app); },
  down(app, view, px, py) {
    grip = null;
    if (!app.box) return false;
    if (view.kind === "plan") {
      const near = corners(app.box).map((p) => view.toPixel(p)).findIndex(([x, y]) => Math.hypot(x - px, y - py) < 9);
      const c = view.toPixel(app.box.centre);
      if (near >= 0) grip = { corner: near };
      else if (Math.hypot(c[0] - px, c[1] - py) < 9) grip = { middle: true };
    } else if (view.kind === "slab") {
      const h = app.box.size[2] / 2;
      for (const side of [-1, 1]) if (Math.abs(view.rowOf(app.box.centre[2] + side * h) - py) < 7) grip = { side };
    }
    return Boolean(grip);
  },
  move(app, view, px, py) {
    const b = app.box, w = view.toWorld(px, py);
    if (grip.middle) use(app, { ...b, centre: [w[0], w[1], b.centre[2]] });
    else if (grip.corner !== undefined) {
      const far = corners(b)[(grip.corner + 2) % 4], d = turn(w[0] - far[0], w[1] - far[1], -b.heading);
      use(app, { ...b, centre: [(w[0] + far[0]) / 2, (w[1] + far[1]) / 2, b.centre[2]], size: [Math.max(Math.abs(d[0]), 0.05), Math.max(Math.abs(d[1]), 0.05), b.size[2]] });
    } else {
      const h = b.size[2] / 2, other = b.centre[2] - grip.side * h, z = w[1];
      if ((z - other) * grip.side > 0.02) use(app, { ...b, ...vertical(b, Math.min(z, other), Math.max(z, other)) });
    }
  },
  up(app) { grip = null; panel(app); },
  click(app, view, px, py) {
    if (view.kind !== "plan" || app.box) return;
    const w = view.toWorld(px, py);
    if (!first) {
      first = w;
      return show("Touch the opposite corner.");
    }
    const heading = Math.atan2(app.slab.u[1], app.slab.u[0]), d = turn(w[0] - first[0], w[1] - first[1], -heading), [low, high] = heights(app);
    const box = { name: "", centre: [(w[0] + first[0]) / 2, (w[1] + first[1]) / 2, (low + high) / 2], size: [Math.max(Math.abs(d[0]), 0.05), Math.max(Math.abs(d[1]), 0.05), Math.max(high - low, 0.05)], heading, outside: false };
    first = null;
    use(app, box);
    panel(app);
  },
  leave() { first = null; show(""); },
};

// Draws the box in plan and slab.
export function marks(view, app) {
  const b = app.box;
  if (!b) return "";
  if (view.kind === "plan") {
    const p = corners(b).map((c) => view.toPixel(c)), c = view.toPixel(b.centre);
    return `<polygon points="${p.map(([x, y]) => `${x.toFixed(1)},${y.toFixed(1)}`).join(" ")}" class="box${b.outside ? " out" : ""}"/>${app.tool === "box" ? p.concat([c]).map(([x, y]) => `<rect x="${x - 4}" y="${y - 4}" width="8" height="8" class="grip"/>`).join("") : ""}`;
  }
  return [-1, 1].map((k) => { const v = view.rowOf(b.centre[2] + (k * b.size[2]) / 2).toFixed(1); return `<line x1="0" x2="${view.rect.width}" y1="${v}" y2="${v}" class="box"/>`; }).join("");
}

