// Measuring: points touched one after another, figures from the server, kept on request.
import { send, show, take } from "./gestures.js";
import { field as inUnit, metres } from "./notation.js";

const MANY = Infinity;
export const KINDS = { distance: [2, 2], point: [1, 1], length: [2, MANY], area: [3, MANY], angle: [3, 3], "above ground": [1, 1], plane: [1, 1], cylinder: [1, 1], sphere: [1, 1], "wall to wall": [1, 1] };
const PATCHED = ["above ground", "plane", "cylinder", "sphere", "wall to wall"];
const esc = (s) => String(s).replace(/[&<>]/g, (c) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;" })[c]);

let kind = "distance", reach = 0.15;

const touches = (draft) => draft.points.map((p) => ({ scan: p.scan, at: p.own }));

function panel(app) {
  const draft = app.draft, [least, most] = KINDS[kind], have = draft?.points.length ?? 0;
  const wanted = draft?.done || have >= most ? "" : least === 1 ? "Touch a point." : have < least ? `Touch point ${have + 1}${most === MANY ? "" : ` of ${most}`}.` : "Touch more points, or keep it.";
  const options = Object.keys(KINDS).map((k) => `<option ${k === kind ? "selected" : ""}>${k}</option>`).join("");
  const patch = PATCHED.includes(kind) ? ` <label title="Radius of the patch around the touched point">patch <input class="mini" id="measure-reach" type="number" step="any" value="${inUnit(app.cloud.data.notation, reach)}"> ${app.cloud.data.notation.unit}</label>` : "";
  show(`<label>measure <select id="measure-kind">${options}</select></label>${patch}<div class="fig">${draft?.wrong ? `<span class="why">${esc(draft.wrong)}</span>` : esc(draft?.says ?? "")}</div><div class="muted">${wanted}</div>${draft?.says && have >= least ? '<button class="minor" data-do="keep">keep it</button><button class="plain link" data-do="drop">drop it</button>' : ""}`, (what, e) => {
    if (what === "keep") { send(app, "measure.take", { kind, reach, points: JSON.stringify(touches(app.draft)) }); drop(app); panel(app); }
    else if (what === "drop") { drop(app); panel(app); }
  });
  document.getElementById("measure-kind").onchange = (e) => { kind = e.target.value; drop(app); panel(app); };
  const field = document.getElementById("measure-reach");
  if (field) field.onchange = () => { if (+field.value > 0) reach = metres(app.cloud.data.notation, field.value); tell(app); };
}

function drop(app) {
  app.draft = null;
  app.readout();
  app.overlay();
}

async function tell(app) {
  const draft = app.draft;
  if (!draft || draft.points.length < KINDS[kind][0]) return panel(app);
  const answer = await fetch(`/jobs/${app.job}/table/try`, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ kind, reach, points: touches(draft) }) });
  const said = await answer.json();
  if (app.draft !== draft) return;
  Object.assign(draft, answer.ok ? { figures: said, says: said.says, wrong: "" } : { figures: null, says: "", wrong: `${said.message} ${said.hint ?? ""}` });
  panel(app);
  app.readout();
  app.overlay();
}

export const measure = {
  enter: panel,
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    if (!point) return;
    if (!app.draft || app.draft.done) app.draft = { kind, points: [], says: "" };
    app.draft.points.push(point);
    app.draft.done = app.draft.points.length >= KINDS[kind][1];
    app.picked = point;
    app.readout();
    app.overlay();
    await tell(app);
  },
  leave(app) {
    drop(app);
    show("");
  },
};
