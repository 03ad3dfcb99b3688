// Draw an outline: what lies within is taken out, put on a shelf or into a class, is an example, or gets a box around it.
import { awaited } from "../boxes.js";
import { button, link, send, show, viewOf } from "../gestures.js";
import { html } from "../text.js";

const STEP = 3; // px between the points of the outline

// What is asked for with an outline: the view, the outline on its screen, and what was shown.
function asked(app, view, path) {
  const [low, high] = app.planSlab(),
    z0 = app.cloud.data.origin[2],
    { hiddenClasses, box } = app;
  const placed = app.cloud.visibleScans().filter((s) => s.record.placed);
  const shown = Object.keys(app.cloud.data.classes)
    .map(Number)
    .filter((c) => !hiddenClasses.has(c));
  return {
    view: JSON.stringify(viewOf(app, view)),
    polygon: JSON.stringify(path.map(([x, y]) => view.toScreen(x, y))),
    slab: app.slabOn ? JSON.stringify([low + z0, high + z0]) : "[]",
    within: box?.kept ? box.name : "",
    scans: JSON.stringify(placed.map((s) => s.id)),
    classes: hiddenClasses.size ? JSON.stringify(shown) : "[]",
  };
}

function askClass(app, values) {
  const option = ([code, name]) => html`<option value="${code}">${code} ${name}</option>`;
  const options = app.cloud.data.all_classes.map(option).join("");
  const panel = `Class <select id="outline-class" aria-label="Class">${options}</select><br>`;
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
  const panel = `Onto the shelf <input id="shelf-name" value="Aside" maxlength="100" aria-label="Name of the shelf"> `;
  show(panel + button("put", "put it there") + link("no", "leave it"), (then) => {
    const name = document.getElementById("shelf-name").value.trim();
    if (then === "put" && name) send(app, "clean.outline", { ...values, to: name });
    leave(app);
  });
}

// What each button of the panel does; those that ask on answer by a panel of their own.
const ASKED_ON = { class: askClass, shelf: askShelf };
const DONE = {
  inside: (app, values) => send(app, "clean.outline", { ...values, "outside.there": "1" }),
  outside: (app, values) => send(app, "clean.outline", { ...values, "outside.there": "1", outside: "on" }),
  seen: (app, values) =>
    send(app, "clean.outline", { ...values, "outside.there": "1", "through.there": "1" }),
  box: (app, values) => {
    const [ux, uy] = app.slab.u;
    awaited(app);
    send(app, "boxes.around", { ...values, heading_deg: (Math.atan2(uy, ux) * 180) / Math.PI });
  },
};

function ask(app, values) {
  const buttons = [
    button("inside", "inside"),
    button("outside", "outside"),
    link("seen", "only what is seen"),
    link("shelf", "onto a shelf"),
    link("class", "into a class"),
    link("box", "a box around it"),
    link("no", "leave it"),
  ];
  show(
    `Take out what lies ${app.slabOn ? "within the plan slab and " : ""}<br>${buttons.join(" ")}`,
    (what) => {
      if (ASKED_ON[what]) return ASKED_ON[what](app, values);
      DONE[what]?.(app, values);
      leave(app);
    },
  );
}

function leave(app) {
  app.outline = null;
  show("");
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
  down(app, view, px, py) {
    if (view.kind === "slab") return false;
    show("");
    app.outline = { view, path: [[px, py]] };
    return true;
  },
  move(app, _view, px, py) {
    const { view, path } = app.outline,
      last = path.at(-1);
    if (Math.hypot(px - last[0], py - last[1]) > STEP) app.outline = { view, path: [...path, [px, py]] };
  },
  up(app, view) {
    const { path } = app.outline;
    path.length < 3 ? leave(app) : ask(app, asked(app, view, path));
  },
  marks(app, view) {
    const { outline } = app;
    if (outline?.view !== view || outline.path.length < 2) return "";
    return `<polygon points="${outline.path.map((p) => p.join(",")).join(" ")}" class="outline"/>`;
  },
  leave,
};
