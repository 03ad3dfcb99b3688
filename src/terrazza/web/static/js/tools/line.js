// Lines, areas, arcs and dimensions by hand: places touched on points or on drawn lines, or typed; kept in a drawing, or given a class.
import { button, link, send, show, take, toGrid } from "../gestures.js";
import { gripped } from "../marks.js";
import { metres, said } from "../notation.js";
import { snapped } from "../snap.js";
import { html } from "../text.js";

const DEGREE = Math.PI / 180;
const hand = { places: [], wrong: "", landed: "" }; // places in the scene

const inGrid = (app) => hand.places.map((p) => toGrid(app, p));
const number = (id) => Number.parseFloat(document.getElementById(id)?.value);

// What the last side measures.
function lastSide(app) {
  const [a, b] = hand.places.slice(-2);
  if (!b) return hand.places.length ? "" : "Touch the first place.";
  const d = [0, 1, 2].map((k) => b[k] - a[k]),
    bearing = ((Math.atan2(d[1], d[0]) / DEGREE) % 360).toFixed(2);
  return `${said(app.cloud.data.notation, Math.hypot(...d))} · ${bearing}°`;
}

function panel(app) {
  const n = hand.places.length,
    { notation } = app.cloud.data,
    classes = document.body.dataset.step === "classify";
  const typed = n
    ? `<div>next <input id="side-length" class="form-control form-control-sm mini" type="number" step="any" aria-label="Length of the next side"> ${notation.unit} <input id="side-bearing" class="form-control form-control-sm mini" type="number" step="any" aria-label="Direction in degrees from east"> ° ${link("typed", "add")}</div>`
    : "";
  const option = ([code, name]) => html`<option value="${code}">${code} ${name}</option>`;
  const asClass =
    classes && n > 1
      ? `<div><select id="line-class" class="form-select form-select-sm mini" aria-label="Class">${app.cloud.data.all_classes.map(option).join("")}</select> <input id="line-width" class="form-control form-control-sm mini" type="number" step="any" value="${n > 2 ? "" : 1}" aria-label="Width of the line"> ${notation.unit} wide<br>${n > 2 ? button("area-class", "class within") : ""}${button("line-class", "class along")}</div>`
      : "";
  const keep =
    (n > 1 ? button("line", "keep the line") : "") +
    (n > 2 ? button("area", "keep the area") : "") +
    (n === 3 ? link("arc", "an arc") : "") +
    (n > 1 && !classes ? link("dimension", n > 2 ? "a chain of dimensions" : "a dimension") : "");
  const why = hand.wrong && html`<div class="why">${hand.wrong}</div>`;
  const landed = hand.landed && html` <span class="muted">${hand.landed}</span>`;
  show(
    `<div class="fig">${lastSide(app)}${landed}</div>${why}${typed}${keep}${n ? link("back", "take back") + link("drop", "drop it") : ""}${asClass}`,
    (what) => act(app, what),
  );
}

function act(app, what) {
  const at = inGrid(app),
    flat = () => JSON.stringify([at.map(([e, n]) => [e, n])]);
  const kept = {
    line: {},
    area: { closed: "on", "closed.there": "1" },
    arc: { arc: "on", "arc.there": "1" },
  };
  if (what === "typed") return typed(app);
  if (what === "back") hand.places.pop();
  if (kept[what]) send(app, "draw.line", { at: JSON.stringify(at), ...kept[what] });
  if (what === "dimension") send(app, "draw.dimension", { at: JSON.stringify(at) });
  const to = document.getElementById("line-class")?.value,
    width = metres(app.cloud.data.notation, number("line-width"));
  if (what === "area-class") send(app, "classify.by_place", { areas: flat(), to });
  if (what === "line-class") {
    if (!(width > 0)) {
      hand.wrong = "Along a line a class needs a width.";
      return panel(app);
    }
    send(app, "classify.by_place", { lines: flat(), width, to });
  }
  if (what !== "back") hand.places = [];
  Object.assign(hand, { wrong: "", landed: "" });
  panel(app);
  app.overlay();
}

// The next place by the length and direction of its side.
function typed(app) {
  const length = metres(app.cloud.data.notation, number("side-length")),
    bearing = number("side-bearing") * DEGREE,
    last = hand.places.at(-1);
  if (!(length > 0) || !Number.isFinite(bearing)) hand.wrong = "Give a length and a direction.";
  else
    add(app, [last[0] + length * Math.cos(bearing), last[1] + length * Math.sin(bearing), last[2]], "typed");
  panel(app);
}

function add(app, place, landed) {
  hand.places.push(place);
  Object.assign(hand, { wrong: "", landed });
  app.overlay();
}

export default {
  name: "line",
  key: "d",
  order: 75,
  title: "line",
  help: "Draw lines, areas, arcs and dimensions",
  steps: ["classify", "draw"],
  cursor: "crosshair",
  sends: ["draw.line", "draw.dimension", "classify.by_place"],
  enter: panel,
  async click(app, view, px, py) {
    const own = hand.places.length > 1 ? [{ id: 0, lines: [{ at: hand.places, closed: false }] }] : [];
    const drawn = snapped(view, [...app.cloud.data.drawings, ...own], [px, py], hand.places.at(-1));
    if (drawn) add(app, drawn.place, `on a ${drawn.kind}`);
    else {
      const point = await take(app, view, px, py);
      if (point) add(app, point.local, "on a point");
      else hand.wrong = "There is no point here, and no line.";
    }
    panel(app);
  },
  marks: (_app, view) => gripped(view, hand.places),
  leave() {
    Object.assign(hand, { places: [], wrong: "", landed: "" });
    show("");
  },
};
