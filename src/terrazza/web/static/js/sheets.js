// The pages beside the table: sheet, terraces, field book and notes, fetched anew when the job has changed.
import * as files from "./files.js";
import { field } from "./notation.js";
import { classColour, scanColour } from "./palette.js";
import * as tables from "./tables.js";
import { fetchPart } from "./trouble.js";

const job = () => document.body.dataset.job;
export const step = () => document.body.dataset.step;

const fetchInto = (target, part) => fetchPart("GET", `/jobs/${job()}/${part}`, { target });
const refreshSheet = () => fetchInto("#sheet", `sheet/${step()}`);
const refreshTerraces = () => fetchInto("#terraces", `part/terraces/${step()}`);

// Pages that lie over the table until they are put away.
const DRAWERS = { book: "part/fieldbook", notes: "table/notes" };

// Open or close one; by default the other way round.
export async function drawer(name, open = document.getElementById(name).hidden) {
  const host = document.getElementById(name);
  host.hidden = !open;
  if (open) await fetchInto(`#${name}`, DRAWERS[name]);
  tables.wire(host);
}

// Fields that say where the plan slab lies, on the table and on the sheet.
export function showSlab(app) {
  const note = app.cloud.data?.notation,
    height = app.slabHeight + (app.cloud.data?.origin[2] ?? 0);
  const values = {
    "slab-height": height,
    "slab-thickness": app.slabThickness,
    "wall-thickness": app.slab.thickness,
    "slab-pitch": app.pitch,
  };
  for (const [id, value] of Object.entries(values)) document.getElementById(id).value = field(note, value);
  document.getElementById("slab-unit").textContent = note?.unit ?? "m";
  document.getElementById("slab-on").checked = app.slabOn;
  const asked = document.querySelector('form[data-operation="draw.plan_slab"] input[name="height"]');
  if (asked && app.slabOn) asked.value = field(note, height);
}

// What a fresh sheet needs of the browser.
export function dress(app) {
  files.wire(job(), refreshSheet);
  files.sum();
  tables.wire();
  const colours = { class: classColour, scan: scanColour };
  for (const [what, colour] of Object.entries(colours)) {
    for (const s of document.querySelectorAll(`.swatch[data-${what}]`))
      s.style.background = colour(+s.dataset[what]);
  }
  showSlab(app);
}

// The line from A to B over its bends, in the grid or job frame.
function courseOf(app) {
  const [x, y] = app.cloud.data.origin;
  return app.slab.path.map((p) => [p[0] + x, p[1] + y]);
}

// The last entry that is a classification, as long as it is the last of all.
function lastClassified() {
  const last = document.querySelector("#strip .last.done[data-last]");
  return last?.dataset.operation?.startsWith("classify.") ? last.dataset.last : "";
}

const stateOfJob = () => document.getElementById("stripline").dataset.state;

// Wire the pages to the table; `toStep` is called with what another sheet brings.
export function wireSheets(app, toStep) {
  let classified = lastClassified(),
    state = stateOfJob();
  // Whichever answer brings a strip of another state: all that is shown is of the one before.
  document.body.addEventListener("htmx:afterSwap", async (e) => {
    if (e.detail.target.id !== "strip" || stateOfJob() === state) return;
    state = stateOfJob();
    app.phase("loading");
    const now = lastClassified();
    if (now && now !== classified) app.colour("class"); // the colouring before is one key away
    classified = now || classified;
    for (const name of ["notes", "book"]) if (!document.getElementById(name).hidden) await drawer(name, true);
    await refreshSheet();
    await refreshTerraces();
    await app.reload();
  });
  document.body.addEventListener("brought", refreshSheet);
  document.body.addEventListener("htmx:configRequest", ({ detail }) => {
    const field = detail.elt.closest?.("form")?.querySelector("input[data-course]"); // a line in plan: A to B, where none is typed
    if (field && !field.value) detail.parameters[field.name] = JSON.stringify(courseOf(app));
  });
  document.getElementById("sheet").addEventListener("click", (e) => {
    const button = /** @type {Element} */ (e.target).closest("[data-touch]"); // what is touched from now on goes into its field
    if (!button) return;
    const on = button.getAttribute("aria-pressed") !== "true";
    for (const other of document.querySelectorAll("#sheet [data-touch]"))
      other.setAttribute("aria-pressed", "false");
    button.setAttribute("aria-pressed", String(on));
    if (on) app.use("pick");
    app.overlay();
  });
  document.body.addEventListener("htmx:afterSwap", (e) => {
    const slug = e.detail.requestConfig?.elt?.dataset?.step;
    if (e.detail.target.id === "sheet" && slug && slug !== step()) {
      document.body.dataset.step = slug;
      e.detail.target.scrollTop = 0; // another step begins at its top, wherever the one before was left
      document.title = document.title.replace(/· \w+ ·/, `· ${slug} ·`);
      refreshTerraces();
      toStep(slug);
    }
    if (["sheet", "inbox", "book"].includes(e.detail.target.id)) dress(app);
  });
}
