// Touch a sketch under the plan: places that are known, and where scans stood.
import { button, link, send, show, toGrid } from "../gestures.js";
import { escaped, html } from "../text.js";
import { pixelOf, placeOf, within } from "../underlay.js";

const fresh = () => ({ known: [], half: null, stations: new Map(), what: null });
const hand = fresh();

const sketchOf = (app) => app.cloud.data.sketches?.at(-1);
const unplaced = (app) => [...app.cloud.scans.values()].filter((s) => !s.record.placed);

// What is touched next: the first scan without a place that is not marked yet, otherwise a known place.
function next(app, sketch) {
  const left = unplaced(app).find((s) => !hand.stations.has(s.id) && !(s.id in sketch.stations));
  return left?.id ?? "place";
}

function asked(app) {
  const { half, what } = hand;
  if (half) return "Touch where that is in the plan.";
  if (what === "place") return "Touch a place on the sketch that you know in the plan.";
  return html`Touch where ${app.cloud.scans.get(what).record.name} stood on the sketch.`;
}

function choices(app) {
  const row = (value, words) =>
    html`<option value="${value}" ${String(value) === String(hand.what) ? "selected" : ""}>${words}</option>`;
  const scans = [...app.cloud.scans.values()].sort(
    (a, b) => a.record.placed - b.record.placed || a.id - b.id,
  );
  const told = scans.map((s) =>
    row(s.id, `${s.id} ${s.record.name}${s.record.placed ? "" : ", not placed"}`),
  );
  return `<label class="row"><span>touching</span><select class="form-select form-select-sm" id="sketch-what">${row("place", "a known place")}${told.join("")}</select></label>`;
}

function panel(app, wrong = "") {
  const sketch = sketchOf(app);
  if (!sketch)
    return show("<div>Lay a sketch or map under the plan first (Sketch or map, on the sheet).</div>");
  hand.what ??= next(app, sketch);
  const { known, stations } = hand,
    count = [
      known.length && `${known.length} known place${known.length > 1 ? "s" : ""}`,
      stations.size && `${stations.size} scan${stations.size > 1 ? "s" : ""}`,
    ].filter(Boolean);
  const whole = count.length ? button("lay", `lay by ${count.join(" and ")}`) + link("drop", "drop all") : "";
  const why = wrong && html`<div class="why">${wrong}</div>`;
  show(`<div>${asked(app)}</div>${why}${choices(app)}${whole}`, (what) => {
    if (what === "lay") lay(app, sketch);
    Object.assign(hand, fresh());
    panel(app);
    app.overlay();
  });
  document.getElementById("sketch-what").addEventListener("change", (e) => {
    Object.assign(hand, { half: null, what: e.target.value === "place" ? "place" : +e.target.value });
    panel(app);
    app.overlay();
  });
}

function lay(app, sketch) {
  const known = hand.known.map(({ pixel, at }) => [...pixel, ...toGrid(app, [...at, 0]).slice(0, 2)]);
  const stations = [...hand.stations].map(([scan, pixel]) => [scan, ...pixel]);
  const values = { sketch: sketch.id, known: JSON.stringify(known), stations: JSON.stringify(stations) };
  send(app, "register.sketch", values);
}

function touched(app, sketch, at) {
  if (hand.half) {
    hand.known.push({ pixel: hand.half, at });
    hand.half = null;
    return "";
  }
  const pixel = pixelOf(sketch, at);
  if (!within(sketch, pixel)) return "That is beside the sketch.";
  if (hand.what === "place") hand.half = pixel;
  else {
    hand.stations.set(hand.what, pixel);
    hand.what = next(app, sketch);
  }
  return "";
}

export default {
  name: "sketch",
  key: "s",
  order: 67,
  title: "sketch",
  help: "Mark known places and scans on a sketch",
  steps: ["register"],
  cursor: "crosshair",
  stations: true, // touched themselves, not looked from
  sends: ["register.sketch"],
  enter: (app) => panel(app),
  click(app, view, px, py) {
    const sketch = sketchOf(app);
    if (!sketch) return panel(app);
    if (view.kind !== "plan") return panel(app, "Touch it in the plan.");
    panel(app, touched(app, sketch, view.toWorld(px, py).slice(0, 2)));
    app.overlay();
  },
  marks(app, view) {
    const sketch = sketchOf(app);
    if (view.kind !== "plan" || !sketch) return "";
    const on = (pixel) => view.toPixel([...placeOf(sketch, pixel), 0]);
    const ring = ([x, y], words) =>
      `<circle cx="${x}" cy="${y}" r="5" class="grip"/><text x="${x + 8}" y="${y + 4}">${escaped(String(words))}</text>`;
    const scans = { ...sketch.stations, ...Object.fromEntries(hand.stations) };
    const known = hand.known.map(({ pixel, at }, k) => {
      const [a, b] = [on(pixel), view.toPixel([...at, 0])];
      const line = `<line x1="${a[0]}" y1="${a[1]}" x2="${b[0]}" y2="${b[1]}" class="measure"/>`;
      return line + ring(a, "") + ring(b, `place ${k + 1}`);
    });
    const half = hand.half ? ring(on(hand.half), `place ${hand.known.length + 1}`) : "";
    return [...Object.entries(scans).map(([id, pixel]) => ring(on(pixel), id)), ...known, half].join("");
  },
  leave() {
    Object.assign(hand, fresh());
    show("");
  },
};
