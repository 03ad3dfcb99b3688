// The working box: two corners touched in plan, heights dragged in the slab; its numbers, turned inside out, kept.
import { awaited, corners, turn, use } from "../boxes.js";
import { button, link, send, show } from "../gestures.js";
import { field as inUnit, metres } from "../notation.js";
import { html, raw } from "../text.js";

const GRIP = 9,
  EDGE = 7; // px around a grip and an edge
const THIN = 0.05,
  LOW = 0.02; // m: a box is no thinner, and no lower
const DEGREE = Math.PI / 180;

const hand = { first: null, grip: null }; // the corner touched first; what is being dragged

const heading = ({ slab }) => Math.atan2(slab.u[1], slab.u[0]);
const vertical = (b, low, high) => ({
  centre: [b.centre[0], b.centre[1], (low + high) / 2],
  size: [b.size[0], b.size[1], high - low],
});
const between = (a, b) => [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
const thick = (/** @type {number[]} */ [x, y]) => [Math.max(Math.abs(x), THIN), Math.max(Math.abs(y), THIN)];

function panel(app) {
  const { box: b } = app,
    { notation, origin } = app.cloud.data;
  if (!b) return show("Touch two opposite corners in plan.");
  const unit = (z) => inUnit(notation, z + origin[2]),
    half = b.size[2] / 2;
  const number = (name, words, value, step) =>
    html`<label class="row"><span>${words}</span><input class="form-control form-control-sm mini" type="number" step="${step}" data-box-field="${name}" value="${value}"></label>`;
  const rows = [
    html`<label class="row"><span>box</span><input id="box-name" class="form-control form-control-sm mini wide" value="${b.name}" placeholder="name"></label>`,
    number("low", `from height ${notation.unit}`, unit(b.centre[2] - half), "any"),
    number("high", `to height ${notation.unit}`, unit(b.centre[2] + half), "any"),
    number("heading", "turned °", (b.heading / DEGREE).toFixed(1), 1),
    html`<label class="row"><span>inside out</span><input class="form-check-input" type="checkbox" data-box-field="outside" ${raw(b.outside ? "checked" : "")}></label>`,
    button("keep", "keep the box") + link("wall", "along A–B") + link("off", "show everything"),
  ];
  show(rows.join(""), (what) => {
    if (what === "off") use(app, null);
    if (what === "wall") return change(app, { heading: heading(app) });
    if (what === "keep") keep(app);
    panel(app);
  });
  document.getElementById("action").onchange = ({ target }) => adjust(app, target.dataset.boxField, target);
}

// A number of the panel has been changed.
function adjust(app, name, { checked, value }) {
  const { box: b } = app,
    { notation, origin } = app.cloud.data;
  const height = metres(notation, value) - origin[2],
    low = b.centre[2] - b.size[2] / 2,
    high = low + b.size[2];
  if (name === "heading") change(app, { heading: value * DEGREE });
  if (name === "outside") change(app, { outside: checked });
  if (name === "low" && height < high) change(app, vertical(b, height, high));
  if (name === "high" && height > low) change(app, vertical(b, low, height));
}

function change(app, what) {
  const name = document.getElementById("box-name")?.value ?? app.box.name;
  use(app, { ...app.box, name, ...what });
  panel(app);
}

function keep(app) {
  const { box: b } = app,
    o = app.cloud.data.origin,
    name = document.getElementById("box-name").value.trim();
  awaited(app, name);
  send(app, "boxes.put", {
    name,
    centre: JSON.stringify(b.centre.map((v, k) => v + o[k])),
    size: JSON.stringify(b.size),
    heading_deg: b.heading / DEGREE,
    "outside.there": "1",
    ...(b.outside ? { outside: "on" } : {}),
  });
}

// What of the box lies under the pointer.
function gripAt({ box }, view, px, py) {
  const close = ([x, y]) => Math.hypot(x - px, y - py) < GRIP;
  if (view.kind === "plan") {
    const corner = corners(box).findIndex((p) => close(view.toPixel(p)));
    if (corner >= 0) return { corner };
    return close(view.toPixel(box.centre)) ? { middle: true } : null;
  }
  if (view.kind !== "slab") return null;
  const side = [-1, 1].find((s) => Math.abs(view.rowOf(box.centre[2] + (s * box.size[2]) / 2) - py) < EDGE);
  return side ? { side } : null;
}

// The box after what is held has been dragged to a place of the view.
function dragged(b, grip, at) {
  if (grip.middle) return { ...b, centre: [...at, b.centre[2]] };
  if (grip.corner !== undefined) {
    const far = corners(b)[(grip.corner + 2) % 4],
      across = turn(at[0] - far[0], at[1] - far[1], -b.heading);
    return { ...b, centre: [...between(at, far), b.centre[2]], size: [...thick(across), b.size[2]] };
  }
  const other = b.centre[2] - (grip.side * b.size[2]) / 2,
    z = at[1];
  return (z - other) * grip.side > LOW ? { ...b, ...vertical(b, Math.min(z, other), Math.max(z, other)) } : b;
}

export default {
  name: "box",
  key: "x",
  order: 40,
  title: "box",
  help: "Working box",
  cursor: "crosshair",
  sends: ["boxes.put"],
  drags: true,
  enter(app) {
    hand.first = null;
    panel(app);
  },
  down(app, view, px, py) {
    hand.grip = app.box && gripAt(app, view, px, py);
    return Boolean(hand.grip);
  },
  move(app, view, px, py) {
    use(app, dragged(app.box, hand.grip, view.toWorld(px, py)));
  },
  up(app) {
    hand.grip = null;
    panel(app);
  },
  click(app, view, px, py) {
    if (view.kind !== "plan" || app.box) return;
    const at = view.toWorld(px, py),
      { first } = hand;
    if (!first) {
      hand.first = at;
      return show("Touch the opposite corner.");
    }
    const turned = heading(app),
      size = thick(turn(at[0] - first[0], at[1] - first[1], -turned));
    const { min, max } = app.extent(),
      [low, high] = app.slabOn ? app.planSlab() : [min[2], max[2]];
    const centre = [...between(at, first), (low + high) / 2];
    hand.first = null;
    use(app, {
      name: "",
      centre,
      size: [...size, Math.max(high - low, THIN)],
      heading: turned,
      outside: false,
    });
    panel(app);
  },
  // Grips of the box; the box itself is there whatever tool is in hand.
  marks(app, view) {
    if (!app.box || view.kind !== "plan") return "";
    const grip = ([x, y]) => `<rect x="${x - 4}" y="${y - 4}" width="8" height="8" class="grip"/>`;
    return [...corners(app.box), app.box.centre].map((p) => grip(view.toPixel(p))).join("");
  },
  leave() {
    hand.first = null;
    show("");
  },
};
