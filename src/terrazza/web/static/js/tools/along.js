// Break lines along a thing: its corners touched once in order across it, or its first corner where it is like one drawn before.
import { button, link, send, show, take, toGrid } from "../gestures.js";
import { gripped } from "../marks.js";
import { html } from "../text.js";

const hand = { places: [], wrong: "", like: "", names: "" }; // places in the scene
const fresh = () => Object.assign(hand, { places: [], wrong: "", names: "" });

// Corners [[across, up], …] about the first, and the direction along (degrees) that has the last to its left or, to its right, below 0.
export function shape(places) {
  const [first] = places,
    last = places.at(-1),
    wide = Math.hypot(last[0] - first[0], last[1] - first[1]);
  if (places.length < 2 || !(wide > 0.005)) return null;
  const left = [(last[0] - first[0]) / wide, (last[1] - first[1]) / wide];
  return {
    heading: Math.atan2(-left[0], left[1]) / (Math.PI / 180),
    corners: places.map((p) => [(p[0] - first[0]) * left[0] + (p[1] - first[1]) * left[1], p[2] - first[2]]),
  };
}

function panel(app) {
  const n = hand.places.length,
    before = app.cloud.data.drawings.filter((d) => d.followed);
  const option = (d) => html`<option value="${d.id}">${d.name}</option>`;
  const likes =
    before.length && n < 2
      ? `<label>like <select id="along-like" class="form-select form-select-sm mini"><option value="">a new shape</option>${before.map(option).join("")}</select></label>`
      : "";
  const names =
    n > 1 && !hand.like
      ? html`<div><input id="along-names" class="form-control form-control-sm mini wide" placeholder="names, parted by commas" aria-label="Names of the corners" maxlength="400" value="${hand.names}"></div>`
      : "";
  const why = hand.wrong && html`<div class="why">${hand.wrong}</div>`;
  const asks = hand.like
    ? "Touch its first corner."
    : n
      ? `${n} corner${n > 1 ? "s" : ""} touched.`
      : "Touch its corners in order, across it.";
  const ready = hand.like ? n === 1 : n > 1;
  show(
    `${likes}<div class="fig">${asks}</div>${why}${names}${ready ? button("follow", "follow it") : ""}${n ? link("back", "take back") + link("drop", "drop it") : ""}`,
    (what) => act(app, what),
  );
  const like = document.getElementById("along-like");
  if (like) like.value = hand.like;
  document.getElementById("action").onchange = ({ target }) => {
    if (target.id !== "along-like") return;
    hand.like = target.value;
    panel(app);
  };
}

function act(app, what) {
  if (what === "follow" && !follow(app)) return panel(app);
  if (what === "back") hand.places.pop();
  else fresh();
  panel(app);
  app.overlay();
}

function follow(app) {
  const at = JSON.stringify([toGrid(app, hand.places[0])]);
  if (hand.like) {
    send(app, "draw.break_lines", { at, like: hand.like });
    return true;
  }
  const found = shape(hand.places);
  hand.wrong = found ? "" : "Its first and last corner lie above each other: touch one farther across.";
  if (!found) return false;
  hand.names = document.getElementById("along-names")?.value ?? "";
  const names = hand.names
    .split(",")
    .map((name) => name.trim())
    .filter(Boolean);
  if (names.length && names.length !== found.corners.length) {
    hand.wrong = `${names.length} names for ${found.corners.length} corners: give one each, or none.`;
    return false;
  }
  const corners = JSON.stringify(found.corners);
  send(app, "draw.break_lines", {
    at,
    corners,
    heading_deg: found.heading,
    names: JSON.stringify(names),
  });
  return true;
}

export default {
  name: "along",
  key: "0",
  order: 85,
  title: "along",
  help: "Break lines along a kerb, a rail, a ditch",
  steps: ["draw"],
  cursor: "crosshair",
  sends: ["draw.break_lines"],
  enter: panel,
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    if (!point?.placed) hand.wrong = "There is no point here.";
    else {
      if (hand.like) hand.places = [];
      hand.places.push(point.local);
      hand.wrong = "";
    }
    panel(app);
    app.overlay();
  },
  marks: (_app, view) => gripped(view, hand.places, { closed: false, chosen: -1 }),
  leave() {
    fresh();
    hand.like = "";
    show("");
  },
};
