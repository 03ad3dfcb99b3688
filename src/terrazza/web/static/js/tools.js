// The tools on the table: pick, measure, pin, box, outline, move a scan; each answers pointer events in pane pixels.
import { awaited, boxTool } from "./boxes.js";
import { send, show, take } from "./gestures.js";
import { bring } from "./files.js";
import { measure } from "./measure.js";
import { field as asTyped } from "./notation.js";
import { nearest } from "./picking.js";

const pick = {
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    app.picked = point;
    app.readout();
    app.overlay();
    const field = document.querySelector('#sheet input[name="origin"]');
    if (field && point?.placed) field.value = toJob(app, point.at).map((v) => asTyped(app.cloud.data.notation, v, 4)).join(", ");
  },
};

// Grid coordinates back into the job frame (frame is rigid: its transpose turns back).
export function toJob(app, p) {
  const f = app.cloud.data.frame, d = [p[0] - f[3], p[1] - f[7], p[2] - f[11]];
  return [0, 1, 2].map((k) => f[k] * d[0] + f[4 + k] * d[1] + f[8 + k] * d[2]);
}

const pin = {
  enter: () => show("Touch the point to put a pin at."),
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    if (!point) return;
    app.picked = point;
    app.readout();
    app.overlay();
    show(`<label class="row"><span>pin</span><input id="pin-name" class="mini wide" placeholder="name"></label><textarea id="pin-text" rows="3" placeholder="what there is to say here"></textarea>
<label class="row"><span>link</span><input id="pin-link" class="mini wide" placeholder="https://"></label><label class="row"><span>picture</span><input id="pin-picture" type="file" accept="image/png,image/jpeg"></label><button class="minor" data-do="keep">put the pin</button><button class="plain link" data-do="no">leave it</button>`, async (what) => {
      const value = (id) => document.getElementById(id).value.trim(), file = document.getElementById("pin-picture").files[0];
      if (what === "keep") {
        if (file) await bring(app.job, [file], () => {});
        send(app, "pins.put", { points: JSON.stringify([{ scan: point.scan, at: point.own }]), name: value("pin-name"), text: value("pin-text"), link: value("pin-link"), picture: file?.name ?? "" });
      }
      pin.enter();
    });
  },
  leave: () => show(""),
};

const outline = {
  drags: true,
  down(app, view, px, py) {
    if (view.kind === "slab") return false;
    app.outline = { view, path: [[px, py]] };
    show("");
    return true;
  },
  move(app, view, px, py) {
    const last = app.outline.path.at(-1);
    if (Math.hypot(px - last[0], py - last[1]) > 3) app.outline.path.push([px, py]);
    app.overlay();
  },
  up(app, view) {
    const path = app.outline.path;
    if (path.length < 3) return outline.leave(app);
    const [low, high] = app.planSlab(), z0 = app.cloud.data.origin[2];
    const values = {
      view: JSON.stringify(viewOf(app, view)), polygon: JSON.stringify(path.map(([x, y]) => view.toScreen(x, y))),
      slab: app.slabOn ? JSON.stringify([low + z0, high + z0]) : "[]",
      within: app.box?.kept ? app.box.name : "",
      scans: JSON.stringify(app.cloud.visibleScans().filter((s) => s.record.placed).map((s) => s.id)),
      classes: app.cloud.hiddenClasses.size ? JSON.stringify(Object.keys(app.cloud.data.classes).map(Number).filter((c) => !app.cloud.hiddenClasses.has(c))) : "[]",
    };
    show(`Take out what lies ${app.slabOn ? "within the plan slab and " : ""}<br><button class="minor" data-do="inside">inside</button><button class="minor" data-do="outside">outside</button><button class="plain link" data-do="seen">only what is seen</button><button class="plain link" data-do="shelf">onto a shelf</button><button class="plain link" data-do="class">into a class</button><button class="plain link" data-do="box">a box around it</button> <button class="plain link" data-do="no">leave it</button>`, (what) => {
      if (what === "box") {
        awaited(app);
        send(app, "boxes.around", { ...values, heading_deg: (Math.atan2(app.slab.u[1], app.slab.u[0]) * 180) / Math.PI });
      } else if (what === "class") {
        return show(`Class <select id="outline-class" aria-label="Class">${app.cloud.data.all_classes.map(([code, name]) => `<option value="${code}">${code} ${name}</option>`).join("")}</select><br><button class="minor" data-do="give">give it this class</button><button class="plain link" data-do="example">an example of it</button> <button class="plain link" data-do="no">leave it</button>`, (then) => {
          const to = document.getElementById("outline-class").value;
          if (then !== "no") send(app, then === "give" ? "clean.outline" : "classify.example", { ...values, to });
          outline.leave(app);
        });
      } else if (what === "shelf") {
        return show(`Onto the shelf <input id="shelf-name" value="Aside" maxlength="100" aria-label="Name of the shelf"> <button class="minor" data-do="put">put it there</button><button class="plain link" data-do="no">leave it</button>`, (then) => {
          const name = document.getElementById("shelf-name").value.trim();
          if (then === "put" && name) send(app, "clean.outline", { ...values, to: name });
          outline.leave(app);
        });
      } else if (what !== "no") send(app, "clean.outline", { ...values, "outside.there": "1", ...(what === "outside" ? { outside: "on" } : {}), ...(what === "seen" ? { "through.there": "1" } : {}) });
      outline.leave(app);
    });
  },
  leave(app) {
    app.outline = null;
    show("");
    app.draw();
  },
};

// 4×4, row by row: job frame → this view's screen.
function viewOf(app, view) {
  const e = view.matrix.elements, o = app.cloud.data.origin, f = app.cloud.data.frame;
  const rows = [0, 1, 2, 3].map((r) => [e[r], e[4 + r], e[8 + r], e[12 + r] - e[r] * o[0] - e[4 + r] * o[1] - e[8 + r] * o[2]]);
  return rows.map((row) => [0, 1, 2, 3].map((c) => row[0] * f[c] + row[1] * f[4 + c] + row[2] * f[8 + c] + row[3] * f[12 + c]));
}

const move = {
  drags: true,
  down(app, view, px, py, event) {
    if (view.kind === "space") return false;
    const hit = nearest(view, app.cloud, px, py);
    const scan = app.moving?.scan ?? hit?.node.scan;
    if (!scan) return false;
    if (!app.moving) app.moving = { scan, before: scan.matrix.clone() };
    app.moving.last = [px, py];
    app.moving.turn = event.shiftKey && view.kind === "plan";
    return true;
  },
  move(app, view, px, py) {
    const { scan, last, turn } = app.moving, e = scan.matrix.elements.slice(), dx = (px - last[0]) * view.scale, dy = -(py - last[1]) * (view.scaleUp ?? view.scale);
    if (turn) {
      const [a, b] = [last, [px, py]].map(([x, y]) => { const w = view.toWorld(x, y); return Math.atan2(w[1] - e[13], w[0] - e[12]); });
      const c = Math.cos(b - a), s = Math.sin(b - a);
      for (const k of [0, 4, 8]) { const x = e[k], y = e[k + 1]; e[k] = c * x - s * y; e[k + 1] = s * x + c * y; }
    } else if (view.kind === "plan") { e[12] += dx; e[13] += dy; } else { const [ux, uy] = view.pieceAt(view.toWorld(px, py)[0]).u; e[12] += ux * dx; e[13] += uy * dx; e[14] += dy; }
    app.moving.last = [px, py];
    app.cloud.setPose(scan, rowMajor(e));
    app.dirty();
  },
  up(app) {
    const { scan } = app.moving;
    show(`<b>${scan.record.name.replace(/[<&]/g, "")}</b>: shift and turn (Shift) in plan, lift in slab.<br><button class="minor" data-do="set">set it here</button><button class="plain link" data-do="no">put it back</button>`, (what) => {
      if (what === "set") send(app, "register.set_pose", poseValues(app, scan));
      if (what === "no") app.cloud.setPose(scan, rowMajor(app.moving.before.elements));
      app.moving = null;
      show("");
      app.dirty();
    });
  },
  leave(app) {
    if (app.moving) app.cloud.setPose(app.moving.scan, rowMajor(app.moving.before.elements));
    app.moving = null;
    show("");
    app.dirty();
  },
};

const rowMajor = (e) => [0, 1, 2, 3].flatMap((r) => [e[r], e[4 + r], e[8 + r], e[12 + r]]);

function poseValues(app, scan) {
  const e = scan.matrix.elements, o = app.cloud.data.origin, heading = Math.atan2(e[1], e[0]), c = Math.cos(-heading), s = Math.sin(-heading);
  // tilt = R · Rz(−heading): its small rotation about X and Y
  const t = (row) => [e[row] * c + e[4 + row] * s, -e[row] * s + e[4 + row] * c, e[8 + row]];
  const [r0, r1, r2] = [t(0), t(1), t(2)];
  const deg = 180 / Math.PI;
  return { scan: scan.id, x: e[12] + o[0], y: e[13] + o[1], z: e[14] + o[2], heading_deg: heading * deg, tilt_x_deg: ((r2[1] - r1[2]) / 2) * deg, tilt_y_deg: ((r0[2] - r2[0]) / 2) * deg };
}

export const TOOLS = { pick, measure, pin, box: boxTool, outline, move };
