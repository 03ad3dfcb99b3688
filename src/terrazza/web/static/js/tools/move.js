// Move a scan by hand: shift and turn it in plan, lift it in the slab, and set it where it fits.
import { button, link, send, show } from "../gestures.js";
import { nearest } from "../picking.js";
import { html } from "../text.js";
import { ask, Refusal } from "../trouble.js";

const DEGREE = Math.PI / 180;
const live = { asking: false, says: "" }; // how the scan in hand lies beside the others
const rowMajor = (e) => [0, 1, 2, 3].flatMap((r) => [e[r], e[4 + r], e[8 + r], e[12 + r]]);
function putBack(app, { scan, before, along }) {
  app.cloud.setPose(scan, rowMajor(before.elements));
  for (const one of along) app.cloud.setPose(one.scan, rowMajor(one.before.elements));
}

// The other placed scans of a block, with where they stood.
function inBlock(app, scan, block) {
  const others = [...app.cloud.scans.values()].filter(
    (s) => block && s !== scan && s.record.placed && s.record.around.includes(block),
  );
  return others.map((s) => ({ scan: s, before: s.matrix.clone() }));
}

const nailed = (app, scan, block) => inBlock(app, scan, block).some((one) => one.scan.record.held);

// Move what belongs to the scan in hand as it was moved itself.
function follow(app, { scan, before, along }) {
  const by = scan.matrix.clone().multiply(before.clone().invert());
  for (const one of along) {
    app.cloud.setPose(one.scan, rowMajor(by.clone().multiply(one.before).elements));
  }
}

// Why a scan does not move, and what frees it.
function refuse(app, scan) {
  const { name, held, around } = scan.record,
    own = held.startsWith("scan"),
    block = own ? "" : around.find((b) => held.includes(`“${b}”`));
  const why = html`<div><b>${name}</b> is held where it stands${own ? "" : ` by ${held}`}.</div>`;
  const values = { ...(own ? { scan: scan.id } : { block }), "held.there": "1" };
  show(why + button("free", "free it") + link("no", "leave it"), (what) => {
    if (what === "free") send(app, "register.hold", values);
    show("");
  });
}

function turned(e, view, from, to) {
  const bearing = ([x, y]) => {
    const w = view.toWorld(x, y);
    return Math.atan2(w[1] - e[13], w[0] - e[12]);
  };
  const angle = bearing(to) - bearing(from),
    c = Math.cos(angle),
    s = Math.sin(angle);
  for (const k of [0, 4, 8]) [e[k], e[k + 1]] = [c * e[k] - s * e[k + 1], s * e[k] + c * e[k + 1]];
}

function shifted(e, view, from, to) {
  const dx = (to[0] - from[0]) * view.scale,
    dy = (from[1] - to[1]) * (view.scaleUp ?? view.scale);
  const [ux, uy] = view.kind === "plan" ? [1, 0] : view.pieceAt(view.toWorld(...to)[0]).u;
  e[12] += ux * dx;
  e[13] += uy * dx;
  e[view.kind === "plan" ? 13 : 14] += dy;
}

function poseValues(app, scan) {
  const e = scan.matrix.elements,
    o = app.cloud.data.origin,
    heading = Math.atan2(e[1], e[0]);
  const c = Math.cos(-heading),
    s = Math.sin(-heading);
  // tilt = R · Rz(−heading): its small rotation about X and Y
  const [r0, r1, r2] = [0, 1, 2].map((r) => [e[r] * c + e[4 + r] * s, -e[r] * s + e[4 + r] * c, e[8 + r]]);
  const place = { x: e[12] + o[0], y: e[13] + o[1], z: e[14] + o[2] };
  const tilt = { tilt_x_deg: (r2[1] - r1[2]) / 2 / DEGREE, tilt_y_deg: (r0[2] - r2[0]) / 2 / DEGREE };
  return { scan: scan.id, ...place, heading_deg: heading / DEGREE, ...tilt };
}

// How the scan in hand lies beside the others, asked for anew as soon as the last answer has come.
async function judge(app) {
  const { moving } = app;
  if (!moving || live.asking) return;
  const at = rowMajor(moving.scan.matrix.elements),
    pose = at.map((v, k) => (k % 4 === 3 && k < 12 ? v + app.cloud.data.origin[(k - 3) / 4] : v));
  live.asking = true;
  try {
    const json = { scan: moving.scan.id, pose };
    live.says = (await (await ask(`/jobs/${app.job}/table/beside`, { json })).json()).says;
  } catch (error) {
    if (!(error instanceof Refusal)) throw error;
    live.says = "";
  } finally {
    live.asking = false;
  }
  if (app.moving?.scan !== moving.scan) return;
  panel(app);
  if (rowMajor(moving.scan.matrix.elements).some((v, k) => v !== at[k])) judge(app);
}

function panel(app) {
  const { scan, block } = app.moving,
    how = "shift and turn (Shift) in plan, lift in slab.";
  const choices = ["", ...scan.record.around].map(
    (b) =>
      html`<option value="${b}" ${b === block ? "selected" : ""} ${nailed(app, scan, b) ? "disabled" : ""}>${b || "alone"}</option>`,
  );
  const with_ = scan.record.around.length
    ? `<label class="row"><span>moves with</span><select class="form-select form-select-sm" id="move-block">${choices.join("")}</select></label>`
    : "";
  show(
    html`<b>${scan.record.name}</b>: ${how}<div class="fig">${live.says}</div>` +
      with_ +
      button("set", "set it here") +
      link("no", "put it back"),
    (what) => {
      if (what === "set") {
        send(app, "register.set_pose", { ...poseValues(app, scan), block });
        app.moving = null; // it stays where it is until the scene says so too
      }
      leave(app);
    },
  );
  document.getElementById("move-block")?.addEventListener("change", (e) => choose(app, e.target.value));
}

// Move with another block, or alone.
function choose(app, block) {
  const { scan, before, along } = app.moving;
  for (const one of along) app.cloud.setPose(one.scan, rowMajor(one.before.elements));
  app.moving = { ...app.moving, block, along: inBlock(app, scan, block) };
  follow(app, { scan, before, along: app.moving.along });
  app.dirty();
}

function leave(app) {
  if (app.moving) putBack(app, app.moving);
  Object.assign(live, { says: "" });
  app.moving = null;
  show("");
  app.dirty();
}

export default {
  name: "move",
  key: "d",
  order: 60,
  title: "move",
  help: "Move a scan by hand",
  steps: ["register"],
  cursor: "move",
  sends: ["register.set_pose", "register.hold"],
  drags: true,
  down(app, view, px, py, event) {
    if (view.kind === "space") return false;
    const scan = app.moving?.scan ?? nearest(view, app.cloud, px, py)?.node.scan;
    if (!scan) return false;
    if (scan.record.held) {
      refuse(app, scan);
      return false;
    }
    const before = app.moving?.before ?? scan.matrix.clone(),
      inner = scan.record.placed ? (scan.record.around.at(-1) ?? "") : "";
    const block = app.moving?.block ?? (nailed(app, scan, inner) ? "" : inner);
    const along = app.moving?.along ?? inBlock(app, scan, block);
    app.moving = {
      scan,
      before,
      block,
      along,
      last: [px, py],
      turn: event.shiftKey && view.kind === "plan",
    };
    judge(app); // so that the answer is ready when it moves
    return true;
  },
  move(app, view, px, py) {
    const { scan, last, turn } = app.moving,
      e = scan.matrix.elements.slice();
    (turn ? turned : shifted)(e, view, last, [px, py]);
    app.moving = { ...app.moving, last: [px, py] };
    app.cloud.setPose(scan, rowMajor(e));
    follow(app, app.moving);
    app.dirty();
    judge(app);
  },
  up(app) {
    panel(app);
    judge(app);
  },
  leave,
};
