// What the tools share: the exact point under a click, the small panel on the table, and sending an operation.
import { exact } from "./picking.js";

// Show a small panel; `act(what, event)` is called with the data-do of a button pressed in it.
export function show(html, act) {
  const box = document.getElementById("action");
  box.innerHTML = html;
  box.hidden = !html;
  box.onclick = (event) => {
    const what = event.target.dataset?.do;
    if (what) act?.(what, event);
  };
}

export function send(app, operation, values) {
  return window.htmx.ajax("POST", `/jobs/${app.job}/do/${operation}`, { target: "#strip", values });
}

// The stored point behind a pixel of any view, with its place in the scene as `local`; null where there is none.
export async function take(app, view, px, py) {
  const point = view === app.station ? await view.pick(px, py) : await exact(app, view, px, py);
  if (point) point.local = point.shown.map((v, k) => v - app.cloud.data.origin[k]);
  return point;
}
