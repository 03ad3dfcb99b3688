// Tie two stations: ask for a tie where there is none, or switch theirs and let it count more or less.
import { button, link, send, show } from "../gestures.js";
import { html } from "../text.js";

const NEAR = 18; // px about a station
const hand = { a: null, b: null };

const nameOf = (app, id) => html`${id} ${app.cloud.scans.get(id).record.name}`;
const placeOf = (scan) => scan.matrix.elements.slice(12, 15);

// The placed station under a pixel; null where there is none.
function stationAt(app, view, px, py) {
  const near = app.cloud
    .visibleScans()
    .filter((s) => s.record.placed)
    .map((scan) => ({ scan, p: view.toPixel(placeOf(scan)) }))
    .filter(({ p }) => p && Math.hypot(p[0] - px, p[1] - py) < NEAR)
    .sort(
      (one, other) => Math.hypot(one.p[0] - px, one.p[1] - py) - Math.hypot(other.p[0] - px, other.p[1] - py),
    );
  return near[0]?.scan ?? null;
}

const tieOf = (app, a, b) => app.cloud.data.ties.find((t) => [a, b].includes(t.a) && [a, b].includes(t.b));

function panel(app, wrong = "") {
  const { a, b } = hand,
    why = wrong && html`<div class="why">${wrong}</div>`;
  if (!a) return show(`<div>Touch a station, and then the one it is to be tied to.</div>${why}`);
  if (!b) return show(`<div>Touch the station that ${nameOf(app, a)} is to be tied to.</div>${why}`);
  const tie = tieOf(app, a, b),
    head = `<div>${nameOf(app, a)} – ${nameOf(app, b)}: ${tie ? html`${tie.failed || tie.words}` : "no tie"}</div>`;
  const weight = `<label class="row"><span>weight</span><input id="tie-weight" class="form-control form-control-sm mini" type="number" step="any" min="0.01" max="100" value="1"></label>`;
  const ask = button("on", tie ? "switch it on" : "ask for a tie"),
    off = tie ? button("off", "switch it off") : "";
  show(head + weight + ask + off + link("no", "leave it"), (what) => {
    const on = what === "on";
    if (what !== "no") {
      const values = { a, b, weight: +document.getElementById("tie-weight").value, "on.there": "1" };
      send(app, "register.tie", on ? { ...values, on: "on" } : values);
    }
    Object.assign(hand, { a: null, b: null });
    panel(app);
    app.overlay();
  });
}

export default {
  name: "tie",
  key: "0",
  order: 68,
  title: "tie",
  help: "Tie two stations, or switch their tie",
  steps: ["register"],
  cursor: "crosshair",
  stations: true, // touched themselves, not looked from
  sends: ["register.tie"],
  enter: (app) => panel(app),
  click(app, view, px, py) {
    const scan = view.toPixel && view !== app.station ? stationAt(app, view, px, py) : null;
    if (!scan) return panel(app, "There is no placed station.");
    if (hand.a && !hand.b && scan.id !== hand.a) hand.b = scan.id;
    else Object.assign(hand, { a: scan.id, b: null });
    panel(app);
    app.overlay();
  },
  marks(app, view) {
    if (!hand.a || !view.toPixel || view === app.station) return "";
    const [a, b] = [hand.a, hand.b].map((id) => id && view.toPixel(placeOf(app.cloud.scans.get(id))));
    const ring = (p) => (p ? `<circle cx="${p[0]}" cy="${p[1]}" r="11" class="grip" fill="none"/>` : "");
    const line = a && b ? `<line x1="${a[0]}" y1="${a[1]}" x2="${b[0]}" y2="${b[1]}" class="measure"/>` : "";
    return line + ring(a) + ring(b);
  },
  leave() {
    Object.assign(hand, { a: null, b: null });
    show("");
  },
};
