// What is chosen from on the table: scans and classes to show, and colourings.
import { classColour, scanColour } from "./palette.js";
import { html, raw } from "./text.js";

const all = (selector) => document.querySelectorAll(selector);
const colourings = (group) => all(`[data-group="${group}"] button`);

function choice(value, shown, colour, words) {
  return html`<label><input class="form-check-input" type="checkbox" value="${value}" ${raw(shown ? "checked" : "")}><span class="swatch" style="background:${colour}"></span>${words} <button type="button" class="plain link" data-only="${value}" title="Show it alone, or all again">only</button></label>`;
}

export function fillLists(app) {
  const { data } = app.cloud;
  const scans = data.scans.map((s) =>
    choice(s.id, !app.hiddenScans.has(s.id), scanColour(s.id), `${s.id} ${s.name}`),
  );
  const classes = Object.entries(data.classes).map(([code, name]) =>
    choice(code, !app.hiddenClasses.has(+code), classColour(+code), `${code} ${name}`),
  );
  const surfaces = data.surfaces.map((s) =>
    choice(s.id, !app.hiddenSurfaces.has(s.id), "var(--olive)", s.name),
  );
  document.getElementById("surface-list").innerHTML = surfaces.join("");
  document.getElementById("surface-chooser").hidden = !surfaces.length;
  document.getElementById("scan-list").innerHTML = scans.join("") || "no scans yet";
  document.getElementById("class-list").innerHTML =
    (classes.join("") || "no classes yet") + (data.returns ? returnsShown(app) : "");
  const shades = document.getElementById("shade");
  const named = data.shades.map((s) => html`<option value="${s.name}">${s.name}</option>`);
  shades.innerHTML = `<option value="">dimension …</option>${named.join("")}`;
  shades.hidden = !data.shades.length;
  for (const b of [...colourings("colour"), ...colourings("twin")]) {
    const { value } = b.dataset;
    b.disabled = ["native", "photo"].includes(value) && !data.scans.some((s) => s[value]);
  }
  markColourings(app);
}

// Which returns of a pulse are shown.
function returnsShown(app) {
  const options = ["all", "first", "last", "only"].map(
    (what) => html`<option ${raw(what === app.returns ? "selected" : "")}>${what}</option>`,
  );
  return `<label>returns <select id="returns" class="form-select form-select-sm mini" title="Of each pulse">${options.join("")}</select></label>`;
}

export function markColourings(app) {
  for (const b of colourings("colour")) b.classList.toggle("on", b.dataset.value === app.mode);
  const shades = document.getElementById("shade");
  shades.value = app.mode === "dimension" && app.shade ? app.shade.name : "";
  shades.classList.toggle("on", shades.value !== "");
  for (const b of colourings("twin")) b.classList.toggle("on", b.dataset.value === app.twin.mode);
}

// The lists of what can be hidden, and where it is kept what is.
const HIDDEN = {
  "scan-list": "hiddenScans",
  "class-list": "hiddenClasses",
  "surface-list": "hiddenSurfaces",
};

// A scan, a class or a surface ticked or unticked.
export function ticked(app, input) {
  const name = HIDDEN[input.closest(".chooser-list").id],
    hidden = new Set(app[name]);
  input.checked ? hidden.delete(+input.value) : hidden.add(+input.value);
  app[name] = hidden;
}

// One of a list shown without the others, or all of them again.
export function alone(app, button) {
  const list = button.closest(".chooser-list"),
    name = HIDDEN[list.id],
    mine = +button.dataset.only;
  const others = [...list.querySelectorAll("input")].map((i) => +i.value).filter((v) => v !== mine);
  const already = !app[name].has(mine) && others.every((v) => app[name].has(v));
  app[name] = new Set(already ? [] : others);
  for (const input of list.querySelectorAll("input")) input.checked = !app[name].has(+input.value);
}
