// Draw an outline: what lies within is taken out, put on a shelf or into a class, is an example, or gets a box around it.
import { awaited } from "../boxes.js";
import { button, link, send, show, viewOf } from "../gestures.js";
import { html } from "../text.js";

const STEP = 3; // px between the points of the outline
const ROUND = 96; // sides of a circle
const SHAPES = ["freehand", "corners", "rectangle", "circle"];
const chosen = { shape: "freehand" };

// The outline (px) of a shape: of a rectangle from two opposite corners, of a circle from its middle and a place on it.
function shaped(path) {
  const [[x, y], [u, v]] = [path[0], path.at(-1)];
  if (chosen.shape === "rectangle")
    return [
      [x, y],
      [u, y],
      [u, v],
      [x, v],
    ];
  if (chosen.shape !== "circle") return path;
  const radius = Math.hypot(u - x, v - y);
  return Array.from({ length: ROUND }, (_, k) => {
    const turn = (2 * Math.PI * k) / ROUND;
    return [x + radius * Math.cos(turn), y + radius * Math.sin(turn)];
  });
}

// A view as the operation knows it: job frame to screen, the outline there, and what of its depth counts.
function looked(app, view, path) {
  if (view === app.station) {
    const { matrix, polygon } = view.around(path);
    return { view: viewOf(app, { matrix }), polygon, "around.there": "1", around: "on" };
  }
  const polygon = path.map(([x, y]) => view.toScreen(x, y));
  if (view.kind !== "slab") return { view: viewOf(app, view), polygon };
  const { matrix, depth } = view.pieceSeen(path[0][0]);
  return { view: viewOf(app, { matrix }), polygon, depth };
}

// What is asked for with an outline: the view, the outline on its screen, and what was shown.
function asked(app, view, path) {
  const [low, high] = app.planSlab(),
    z0 = app.cloud.data.origin[2],
    { hiddenClasses, box } = app;
  const placed = app.cloud.visibleScans().filter((s) => s.record.placed);
  const shown = Object.keys(app.cloud.data.classes)
    .map(Number)
    .filter((c) => !hiddenClasses.has(c));
  const look = Object.entries(looked(app, view, path)).map(([name, value]) => [
    name,
    typeof value === "string" ? value : JSON.stringify(value),
  ]);
  return {
    ...Object.fromEntries(look),
    slab: app.slabOn ? JSON.stringify([low + z0, high + z0]) : "[]",
    within: box?.kept ? box.name : "",
    scans: JSON.stringify(placed.map((s) => s.id)),
    classes: hiddenClasses.size ? JSON.stringify(shown) : "[]",
  };
}

function askClass(app, values) {
  const option = ([code, name]) => html`<option value="${code}">${code} ${name}</option>`;
  const options = app.cloud.data.all_classes.map(option).join("");
  const panel = `Class <select class="form-select form-select-sm" id="outline-class" aria-label="Class">${options}</select><br>`;
  show(
    panel +
      button("give", "give it this class") +
      link("example", "an example of it") +
      link("no", "leave it"),
    (then) => {
      const to = document.getElementById("outline-class").value;
      if (then !== "no") send(app, then === "give" ? "clean.outline" : "classify.example", { ...values, to });
      leave(app);
    },
  );
}

function askShelf(app, values) {
  const panel = `Onto the shelf <input class="form-control form-control-sm" id="shelf-name" value="Aside" maxlength="100" aria-label="Name of the shelf"> `;
  show(panel + button("put", "put it there") + link("no", "leave it"), (then) => {
    const name = document.getElementById("shelf-name").value.trim();
    if (then === "put" && name) send(app, "clean.outline", { ...values, to: name });
    leave(app);
  });
}

// Keep the outline, so that the next one adds to what it takes, or takes from it.
const another = (away) => (app, values, path) => {
  app.selection = [...(app.selection ?? []), { values, path, away: app.away ?? false }];
  app.away = away;
};

// The first outline of a selection with the further ones, as the operation takes them.
function together(app, values) {
  const all = [...(app.selection ?? []), { values, away: app.away ?? false }];
  const spec = ({ values: v, away }) => ({
    view: JSON.parse(v.view),
    polygon: JSON.parse(v.polygon),
    depth: v.depth ? JSON.parse(v.depth) : [],
    around: v.around === "on",
    away,
  });
  return { ...all[0].values, further: JSON.stringify(all.slice(1).map(spec)) };
}

// What each button of the panel does; those that ask on answer by a panel of their own.
const ASKED_ON = { class: askClass, shelf: askShelf };
const DONE = {
  inside: (app, values) => send(app, "clean.outline", { ...values, "outside.there": "1" }),
  outside: (app, values) => send(app, "clean.outline", { ...values, "outside.there": "1", outside: "on" }),
  seen: (app, values) => {
    const further = JSON.parse(values.further).map((one) => ({ ...one, through: false }));
    const only = { "outside.there": "1", "through.there": "1", further: JSON.stringify(further) };
    send(app, "clean.outline", { ...values, ...only });
  },
  box: (app, values) => {
    const [ux, uy] = app.slab.u;
    awaited(app);
    send(app, "boxes.around", { ...values, heading_deg: (Math.atan2(uy, ux) * 180) / Math.PI });
  },
};

function ask(app, values, path) {
  const buttons = [
    button("inside", "inside"),
    button("outside", "outside"),
    link("seen", "only what is seen"),
    link("shelf", "onto a shelf"),
    link("class", "into a class"),
    link("box", "a box around it"),
    link("add", "and another"),
    link("away", "but not …"),
    link("no", "leave it"),
  ];
  show(
    `Take out what lies ${app.slabOn ? "within the plan slab and " : ""}<br>${buttons.join(" ")}`,
    (what) => {
      if (what === "add" || what === "away") {
        another(what === "away")(app, values, { view: app.outline.view, path });
        app.outline = null;
        return start(app);
      }
      const all = together(app, values);
      if (ASKED_ON[what]) return ASKED_ON[what](app, all);
      DONE[what]?.(app, all);
      leave(app);
    },
  );
}

function leave(app) {
  app.outline = app.selection = null;
  app.away = false;
  start(app);
}

// Which shape is drawn; corners are touched one after another until the outline is closed.
function start(app) {
  const drawing = app.outline?.path.length ?? 0;
  const shapes = SHAPES.map((s) =>
    s === chosen.shape ? `<b>${s}</b>` : `<button class="plain link" data-do="${s}">${s}</button>`,
  );
  const close = drawing > 2 ? button("close", "close it") : "";
  show(
    `${shapes.join(" · ")}${close ? `<br>${close}` : ""}${drawing ? link("drop", "drop it") : ""}`,
    (what) => {
      if (what === "close") {
        const { view, path } = app.outline;
        return ask(app, asked(app, view, path), path);
      }
      if (what !== "drop") chosen.shape = what;
      leave(app);
    },
  );
}

export default {
  name: "outline",
  key: "o",
  order: 50,
  title: "outline",
  help: "Draw an outline to cut",
  steps: ["clean", "classify"],
  cursor: "crosshair",
  sends: ["clean.outline", "classify.example", "boxes.around"],
  drags: true,
  around: true, // also in the view from a station
  enter: start,
  down(app, view, px, py) {
    if (chosen.shape === "corners") return false;
    show("");
    app.outline = { view, path: [[px, py]] };
    return true;
  },
  click(app, view, px, py) {
    if (chosen.shape !== "corners") return;
    const before = app.outline?.view === view ? app.outline.path : [];
    app.outline = { view, path: [...before, [px, py]] };
    start(app);
  },
  move(app, _view, px, py) {
    const { view, path } = app.outline,
      last = path.at(-1);
    if (["rectangle", "circle"].includes(chosen.shape)) app.outline = { view, path: [path[0], [px, py]] };
    else if (Math.hypot(px - last[0], py - last[1]) > STEP) app.outline = { view, path: [...path, [px, py]] };
  },
  up(app, view) {
    const { path } = app.outline;
    const whole = path.length > 1 ? shaped(path) : path;
    whole.length < 3 ? leave(app) : ask(app, asked(app, view, whole), whole);
  },
  marks(app, view) {
    const { outline } = app;
    const kept = (app.selection ?? []).filter((s) => s.path.view === view).map((s) => s.path.path);
    const now = outline?.view === view && outline.path.length > 1 ? [shaped(outline.path)] : [];
    return [...kept, ...now]
      .map((path) => `<polygon points="${path.map((p) => p.join(",")).join(" ")}" class="outline"/>`)
      .join("");
  },
  leave(app) {
    app.outline = app.selection = null;
    app.away = false;
    show("");
  },
};
