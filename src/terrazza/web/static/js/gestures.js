// What the tools share: the exact point under a click, the small panel on the table, and sending an operation.
import { exact } from "./picking.js";
import { fetchPart } from "./trouble.js";

// Show a small panel; `act(what, event)` is called with the data-do of a button pressed in it.
export function show(markup, act) {
  const box = document.getElementById("action");
  box.innerHTML = markup;
  box.hidden = !markup;
  box.onchange = null;
  box.onclick = (event) => {
    const what = event.target.dataset?.do;
    if (what) act?.(what, event);
  };
}

// A button of the panel, and one that is less than a button.
export const button = (what, words) =>
  `<button class="btn btn-outline-primary minor" data-do="${what}">${words}</button>`;
export const link = (what, words) => `<button class="plain link" data-do="${what}">${words}</button>`;

// Ask the server for an operation; a tool sends only what it declares.
export function send(app, operation, values) {
  const tool = app.tools[app.tool];
  if (tool.sends && !tool.sends.includes(operation) && !ANYWHERE.includes(operation)) {
    throw new Error(`the tool ${tool.name} does not declare that it sends ${operation}`);
  }
  return fetchPart("POST", `/jobs/${app.job}/do/${operation}`, { target: "#strip", values });
}
const ANYWHERE = ["table.keep_view", "register.adjust"]; // sent whatever tool is in hand

// The stored point behind a pixel of any view, with its place in the scene as `local`; null where there is none.
export async function take(app, view, px, py) {
  const point = view === app.station ? await view.pick(px, py) : await exact(app, view, px, py);
  if (point) point.local = point.shown.map((v, k) => v - app.cloud.data.origin[k]);
  return point;
}

// A place of the scene in the grid.
export const toGrid = (app, p) => p.map((v, k) => v + app.cloud.data.origin[k]);

// Grid coordinates back into the job frame (frame is rigid: its transpose turns back).
export function toJob(app, p) {
  const f = app.cloud.data.frame,
    d = [p[0] - f[3], p[1] - f[7], p[2] - f[11]];
  return [0, 1, 2].map((k) => f[k] * d[0] + f[4 + k] * d[1] + f[8 + k] * d[2]);
}

// 4×4, row by row: job frame → a view's screen.
export function viewOf(app, view) {
  const e = view.matrix.elements,
    o = app.cloud.data.origin,
    f = app.cloud.data.frame;
  const rows = [0, 1, 2, 3].map((r) => {
    const shift = e[12 + r] - e[r] * o[0] - e[4 + r] * o[1] - e[8 + r] * o[2];
    return [e[r], e[4 + r], e[8 + r], shift];
  });
  const times = (row, c) => row[0] * f[c] + row[1] * f[4 + c] + row[2] * f[8 + c] + row[3] * f[12 + c];
  return rows.map((row) => [0, 1, 2, 3].map((c) => times(row, c)));
}
