// What a key or a button does to the views whatever tool is in hand: key, words for the list, and the act.

import { send, show } from "./gestures.js";
import * as places from "./places.js";
import { drawer } from "./sheets.js";

const next = (list, now) => list[(list.indexOf(now) + 1) % list.length];
const options = (id) => [...document.getElementById(id).options].map((o) => o.value);
const STRETCHES = { 1: 2, 2: 5, 5: 10, 10: 1 };
const POINT = { least: 0.8, most: 12, step: 1.25 }; // px
const THINNEST = 0.01; // m
const ACROSS = 1.5; // m to either side of a break line that is looked along

function nextColouring(app) {
  if (app.station.shown) return app.station.next();
  const usable = [...document.querySelectorAll('[data-group="colour"] button:not(:disabled)')];
  app.colour(
    next(
      usable.map((b) => b.dataset.value),
      app.mode,
    ),
  );
}

function keepView(app) {
  const field = `<label class="row"><span>keep this view as</span><input id="view-name" class="form-control form-control-sm mini wide" maxlength="100"></label>`;
  const buttons = `<button class="btn btn-outline-primary minor" data-do="keep">keep it</button><button class="plain link" data-do="no">leave it</button>`;
  show(field + buttons, (what) => {
    const name = document.getElementById("view-name").value.trim();
    if (what === "keep" && name) send(app, "table.keep_view", { name, address: places.address(app) });
    if (what === "no" || name) show("");
  });
  document.getElementById("view-name").focus();
}

async function savePicture(app) {
  const pane =
    document.activeElement.closest?.(".pane") ?? (app.station.shown ? app.station.pane : app.space.pane);
  const name = pane.getAttribute("aria-label"),
    job = document.querySelector(".jobname").textContent;
  const slab = app.slabOn ? ` · ${app.slabSaid()}` : "";
  const canvas = await places.picture(app, pane, `${job} · ${name}${slab}`);
  app.saved = { width: canvas.width, height: canvas.height };
  places.save(canvas, `${job} ${name}.png`);
}

// Places of the newest break lines with the way there, of the line that comes first in them.
export function alongOf(drawings) {
  const lines = drawings.findLast((d) => d.followed)?.lines ?? [],
    places = lines.filter((l) => l.name === lines[0].name).flatMap((l) => l.at);
  return places.map((at, k) => {
    const [a, b] = [places[Math.max(k - 1, 0)], places[Math.min(k + 1, places.length - 1)]],
      length = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1;
    return { at, way: [(b[0] - a[0]) / length, (b[1] - a[1]) / length] };
  });
}

let looked = -1; // the place of the break lines that is looked at
function lookAlong(app, by) {
  const places = alongOf(app.cloud.data.drawings);
  if (!places.length) return;
  looked = Math.min(Math.max(looked + by, 0), places.length - 1);
  const { at, way } = places[looked];
  app.slab.across(at, way, ACROSS);
  Object.assign(app.slab, { scale: (2 * ACROSS) / app.slab.rect.width });
  app.plan.centre = [at[0], at[1]];
  app.dirty();
}

function secondSpace(app) {
  const { pane } = app.twin;
  pane.hidden = !pane.hidden;
  document.body.classList.toggle("two", !pane.hidden);
  app.dirty();
}

function nextFloor(app) {
  app.floor = next([null, ...(app.picture.about?.floors.keys() ?? [])], app.floor);
  document.getElementById("plan-floor").value = app.floor ?? "";
}

function leaveAll(app) {
  app.use("pick");
  Object.assign(app, { draft: null, picked: null });
  drawer("book", false);
  drawer("notes", false);
}

// `listed`: how the list of keys writes it, where not as the key itself; false: another line speaks for it.
export const COMMANDS = [
  { name: "notes", key: "k", help: "measures, pins, boxes and views", does: () => drawer("notes") },
  { name: "keep", key: "v", help: "keep this view", does: keepView },
  { name: "picture", key: "w", help: "save a picture of the view", does: savePicture },
  {
    name: "shade",
    key: "e",
    help: "edge shading",
    does: (app) => {
      app.shaded = !app.shaded;
    },
  },
  {
    name: "grow",
    key: "z",
    help: "point size by distance",
    does: (app) => {
      app.grow = !app.grow;
    },
  },
  {
    name: "facing",
    key: "r",
    help: "hide points seen from behind",
    does: (app) => {
      app.facing = !app.facing;
    },
  },
  { name: "fit", key: "f", help: "see everything", bar: "see all", does: (app) => app.fit() },
  { name: "colour", key: "c", help: "next colouring", does: nextColouring },
  {
    name: "before",
    key: "q",
    help: "the colouring before",
    does: (app) => app.before && app.colour(app.before),
  },
  {
    name: "slab",
    key: "l",
    help: "plan slab on or off",
    does: (app) => {
      app.slabOn = !app.slabOn;
    },
  },
  {
    name: "down",
    key: "[",
    listed: "[ ]",
    help: "plan slab down, up by a step",
    does: (app) => {
      app.slabHeight -= app.pitch;
    },
  },
  {
    name: "up",
    key: "]",
    listed: false,
    does: (app) => {
      app.slabHeight += app.pitch;
    },
  },
  {
    name: "left",
    key: ";",
    listed: "; '",
    help: "A to B sideways by a step",
    does: (app) => app.stepSlab(-app.pitch),
  },
  { name: "right", key: "'", listed: false, does: (app) => app.stepSlab(app.pitch) },
  {
    name: "stretch",
    key: "y",
    help: "heights in the slab × 1, 2, 5, 10",
    does: (app) => {
      app.slab.stretch = STRETCHES[app.slab.stretch];
      app.dirty();
    },
  },
  {
    name: "along",
    key: "\\",
    listed: "\\ |",
    help: "across the break lines, place by place",
    does: (app) => lookAlong(app, 1),
  },
  { name: "back along", key: "|", listed: false, does: (app) => lookAlong(app, -1) },
  { name: "twin", key: "t", help: "a second space beside the first", does: secondSpace },
  {
    name: "thinner",
    key: "{",
    listed: "{ }",
    help: "plan slab thinner, thicker",
    does: (app) => {
      app.slabThickness = Math.max(THINNEST, app.slabThickness / POINT.step);
    },
  },
  {
    name: "thicker",
    key: "}",
    listed: false,
    does: (app) => {
      app.slabThickness *= POINT.step;
    },
  },
  {
    name: "larger",
    key: "+",
    also: ["="],
    listed: "+ −",
    help: "points larger, smaller",
    does: (app) => {
      app.size = Math.min(app.size * POINT.step, POINT.most);
    },
  },
  {
    name: "smaller",
    key: "-",
    listed: false,
    does: (app) => {
      app.size = Math.max(app.size / POINT.step, POINT.least);
    },
  },
  {
    name: "fewer",
    key: "<",
    listed: "< >",
    help: "fewer, more points when at rest",
    does: (app) => app.detail(0.5),
  },
  { name: "more", key: ">", listed: false, does: (app) => app.detail(2) },
  {
    name: "plan",
    key: "a",
    help: "what the plan shows",
    does: (app) => app.planAs(next(options("plan-as"), app.planMode)),
  },
  { name: "floor", key: "u", help: "next floor in plan", does: nextFloor },
  {
    name: "station",
    key: "g",
    help: "view from a station, and back",
    bar: "station",
    does: (app) => (app.station.shown ? app.station.close() : app.stand()),
  },
  {
    name: "previous",
    key: ",",
    listed: ", .",
    help: "previous, next station",
    does: (app) => app.station.shown && app.station.step(-1),
  },
  { name: "following", key: ".", listed: false, does: (app) => app.station.shown && app.station.step(1) },
  {
    name: "marks",
    key: "h",
    help: "station marks on or off",
    does: (app) => {
      app.marks = !app.marks;
    },
  },
  {
    name: "dusk",
    key: "n",
    help: "paper or dusk",
    does: (app) => {
      document.body.classList.toggle("dusk");
      app.draw();
    },
  },
  {
    name: "adjust",
    key: "9",
    help: "adjust the network",
    steps: ["register"],
    does: (app) => send(app, "register.adjust", {}),
  },
  { name: "book", key: "b", help: "field book", does: () => drawer("book") },
  { name: "help", key: "?", help: "this list", does: () => document.getElementById("keys").showModal() },
  { name: "escape", key: "escape", listed: "Esc", help: "leave a tool", does: leaveAll },
];

// What the pointer does without a tool, for the list of keys.
export const GESTURES = [
  ["Alt + wheel", "step through the building in slab and plan"],
  ["drag", "turn in space, shift in plan and slab"],
  ["Shift + drag", "shift in space; turn a scan in plan"],
  ["wheel", "nearer, farther"],
];
