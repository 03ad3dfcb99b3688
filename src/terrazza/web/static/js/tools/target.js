// Touch a target that the search missed, or anything sharp that can serve as one, and name it.
import { button, link, send, show, take } from "../gestures.js";
import { html } from "../text.js";

const ASKED = "Touch a board, ball, disc or any corner, best in the view from its station.";

function panel(app, point) {
  app.dirty();
  if (!point) return show(ASKED);
  const name = app.cloud.scans.get(point.scan).record.name;
  const field = `<label class="row"><span>named</span><input id="target-name" class="form-control form-control-sm mini wide" placeholder="as the control has it"></label>`;
  const markup = html`<div>A target in ${name}</div>`;
  show(markup + field + button("take", "take it as a target") + link("no", "leave it"), (what) => {
    if (what === "take") {
      const [x, y, z] = point.own;
      const called = document.getElementById("target-name").value.trim();
      send(app, "georeference.pick_target", { scan: point.scan, x, y, z, name: called });
    }
    app.picked = null;
    panel(app);
  });
  document.getElementById("target-name").focus();
}

export default {
  name: "target",
  key: "o",
  order: 66,
  title: "target",
  help: "Take what is touched as a target",
  steps: ["register", "georeference"],
  cursor: "crosshair",
  sends: ["georeference.pick_target"],
  enter: (app) => panel(app),
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    app.picked = point;
    panel(app, point);
  },
  leave: () => show(""),
};
