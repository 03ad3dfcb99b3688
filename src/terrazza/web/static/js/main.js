// Sets the table up, and wires it to buttons, fields, keys, pages and the address.

import { COMMANDS } from "./commands.js";
import * as files from "./files.js";
import { belongs, keyList, loadTools, toolBar, wireKeys } from "./keys.js";
import { alone, markColourings, ticked } from "./lists.js";
import { metres } from "./notation.js";
import * as places from "./places.js";
import { dress, step, wireSheets } from "./sheets.js";
import { Table } from "./table.js";
import { wireTrouble } from "./trouble.js";

const FOLLOWS = 700; // ms between looks whether the address still says what is seen

wireTrouble();
window.htmx.config.historyCacheSize = 0;
window.htmx.config.refreshOnHistoryMiss = true;
const app = new Table(await loadTools(document.body.dataset.tools.split(" ")));
window.terrazza = app;

let towards = null; // the step whose sheet is on its way: its keys work already

function toStep(slug) {
  towards = null;
  if (!belongs(app.tools[app.tool], slug)) app.use("pick");
  toolBar(app, slug);
  keyList(app, slug);
}

function go(k) {
  const link = document.querySelectorAll("#terraces a.step")[k];
  towards = link.dataset.step;
  link.click();
}

// What a button does, by the part of its name that says what it stands for.
const PRESSED = {
  act: (name) => COMMANDS.find((c) => c.name === name).does(app),
  tool: (name) => app.use(name),
  jump: (at) => app.jump(JSON.parse(at)),
  box: (id) => {
    app.showBox(app.cloud.data.boxes.find((b) => b.id === +id));
    app.use("box");
  },
};
const COLOURED = {
  colour: (mode) => app.colour(mode),
  twin: (mode) => {
    app.twin.mode = mode;
    markColourings(app);
    app.draw();
  },
};

document.addEventListener("click", (e) => {
  for (const [what, does] of Object.entries(PRESSED)) {
    const button = e.target.closest(`[data-${what}]`);
    if (button) does(button.dataset[what]);
  }
  for (const [group, does] of Object.entries(COLOURED)) {
    const button = e.target.closest(`[data-group="${group}"] button`);
    if (button) does(button.dataset.value);
  }
  const only = e.target.closest("[data-only]");
  if (only) {
    e.preventDefault();
    alone(app, only);
  }
  if (e.target.closest("[data-close]")) e.target.closest(".notice").remove();
});

// Fields of the table, by their id: each takes what stands in it, a number as it stands, and the metres that it means.
const FIELDS = {
  shade: (name) => {
    if (name) app.showShade(name);
    app.colour(name ? "dimension" : (app.before ?? "intensity"));
  },
  returns: (shown) => {
    app.returns = shown;
  },
  "plan-as": (text) => app.planAs(text),
  "plan-floor": (text, value) => {
    app.floor = text === "" ? null : value;
  },
  "slab-height": (_, value, length) =>
    Number.isFinite(value) && (app.slabHeight = length - app.cloud.data.origin[2]),
  "slab-thickness": (_, value, length) => value > 0 && (app.slabThickness = length),
  "slab-pitch": (_, value, length) => value > 0 && (app.pitch = Math.max(length, 0.001)),
  "wall-thickness": (_, value, length) => {
    if (value > 0) app.slab.thickness = length;
    app.dirty();
  },
};

document.addEventListener("change", ({ target }) => {
  const choose = target.closest("[data-choose]"); // what is chosen from a list stands in its head
  if (choose) {
    const label = choose.querySelector("[data-chosen]");
    label.textContent =
      [...choose.querySelectorAll("input:checked")].map((i) => i.value).join(", ") || label.dataset.all;
  }
  if (target.name === "take") files.sum();
  if (target.closest(".chooser-list")) ticked(app, target);
  if (target.id === "slab-on") app.slabOn = target.checked;
  else FIELDS[target.id]?.(target.value, +target.value, metres(app.cloud.data.notation, +target.value));
});

wireKeys(app, () => towards ?? step(), go);
wireSheets(app, toStep);
toStep(step());
app.readout();
dress(app);

const worded = () => location.hash.includes("=");
window.addEventListener("hashchange", () => {
  if (worded() && location.hash.slice(1) !== app.said) places.look(app, location.hash);
});
await app.reload();
if (worded()) places.look(app, location.hash);
// the address follows the view, so that it can be handed on
setInterval(() => {
  const words = app.cloud.data && places.address(app);
  if (words && words !== app.said && app.said !== undefined)
    history.replaceState(history.state, "", `#${words}`);
  app.said = words;
}, FOLLOWS);
