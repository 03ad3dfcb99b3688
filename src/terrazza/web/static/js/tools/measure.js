// Measuring: points touched one after another, figures from the server, kept on request.
import { button, link, send, show, take } from "../gestures.js";
import { measured } from "../marks.js";
import { field as inUnit, metres } from "../notation.js";
import { html, raw } from "../text.js";
import { ask, Refusal } from "../trouble.js";

const MANY = Number.POSITIVE_INFINITY;
// The least and the most points of each kind.
const KINDS = {
  distance: [2, 2],
  point: [1, 1],
  length: [2, MANY],
  area: [3, MANY],
  angle: [3, 3],
  "above ground": [1, 1],
  plane: [1, 1],
  cylinder: [1, 1],
  sphere: [1, 1],
  "wall to wall": [1, 1],
};
const PATCHED = ["above ground", "plane", "cylinder", "sphere", "wall to wall"];

const chosen = { kind: "distance", reach: 0.15 }; // reach: radius of the patch, m

const touches = (draft) => draft.points.map((p) => ({ scan: p.scan, at: p.own }));

function wanted(draft, [least, most]) {
  const have = draft?.points.length ?? 0;
  if (draft?.done || have >= most) return "";
  if (least === 1) return "Touch a point.";
  if (have >= least) return "Touch more points, or keep it.";
  return `Touch point ${have + 1}${most === MANY ? "" : ` of ${most}`}.`;
}

function panel(app) {
  const { draft } = app,
    { notation } = app.cloud.data,
    [least] = KINDS[chosen.kind];
  const options = Object.keys(KINDS).map(
    (k) => html`<option ${raw(k === chosen.kind ? "selected" : "")}>${k}</option>`,
  );
  const radius = inUnit(notation, chosen.reach);
  const field = html`<input class="form-control form-control-sm mini" id="measure-reach" type="number" step="any" value="${radius}"> ${notation.unit}`;
  const patch = ` <label title="Radius of the patch around the touched point">patch ${field}</label>`;
  const said = draft?.wrong ? html`<span class="why">${draft.wrong}</span>` : html`${draft?.says}`;
  const ready = draft?.says && draft.points.length >= least;
  show(
    `<label>measure <select class="form-select form-select-sm" id="measure-kind">${options.join("")}</select></label>${PATCHED.includes(chosen.kind) ? patch : ""}
<div class="fig">${said}</div><div class="muted">${wanted(draft, KINDS[chosen.kind])}</div>
${ready ? button("keep", "keep it") + link("drop", "drop it") : ""}`,
    (what) => {
      const { kind, reach } = chosen;
      if (what === "keep")
        send(app, "measure.take", { kind, reach, points: JSON.stringify(touches(app.draft)) });
      app.draft = null;
      panel(app);
    },
  );
  document.getElementById("action").onchange = ({ target }) => {
    if (target.id === "measure-kind") Object.assign(chosen, { kind: target.value });
    else if (+target.value > 0) chosen.reach = metres(notation, target.value);
    if (target.id === "measure-kind") app.draft = null;
    figures(app);
  };
}

// Ask for the figures of what has been touched so far, and show them.
async function figures(app) {
  const { draft } = app,
    { kind, reach } = chosen;
  if (!draft || draft.points.length < KINDS[kind][0]) return panel(app);
  const judged = { figures: null, says: "", wrong: "" };
  try {
    const json = { kind, reach, points: touches(draft) };
    judged.figures = await (await ask(`/jobs/${app.job}/table/try`, { json })).json();
    judged.says = judged.figures.says;
  } catch (error) {
    if (!(error instanceof Refusal)) throw error;
    judged.wrong = error.message;
  }
  if (app.draft !== draft) return; // another point has been touched meanwhile
  app.draft = { ...draft, ...judged };
  panel(app);
}

export default {
  name: "measure",
  key: "m",
  order: 20,
  title: "measure",
  help: "Measure: distances, areas, shapes, walls",
  cursor: "crosshair",
  sends: ["measure.take"],
  enter: panel,
  async click(app, view, px, py) {
    const point = await take(app, view, px, py),
      { kind } = chosen;
    if (!point) return;
    const points = app.draft && !app.draft.done ? [...app.draft.points, point] : [point];
    app.draft = { kind, points, says: "", done: points.length >= KINDS[kind][1] };
    app.picked = point;
    await figures(app);
  },
  marks(app, view) {
    const { draft } = app;
    return draft
      ? measured(
          draft.points.map((p) => view.toPixel(p.local)),
          draft.kind,
          draft.says.split(" · ")[0],
        )
      : "";
  },
  leave(app) {
    app.draft = null;
    show("");
  },
};
