// Drawn lines changed by hand: touched to take them up, corners dragged, put in and taken out, and the shape as a whole.
import { button, link, send, show, toGrid } from "../gestures.js";
import { gripped } from "../marks.js";
import { metres } from "../notation.js";
import { exact } from "../picking.js";
import { REACH, sidesNear, snapped } from "../snap.js";
import { html } from "../text.js";

const hand = {
  drawing: 0,
  line: 0,
  also: [], // more lines of the drawing; 0: all
  at: [],
  closed: false,
  corner: -1,
  changed: false,
  other: "",
  wrong: "",
};
const fresh = () =>
  Object.assign(hand, {
    drawing: 0,
    line: 0,
    also: [],
    at: [],
    corner: -1,
    changed: false,
    other: "",
    wrong: "",
  });

const drawn = (app) => app.cloud.data.drawings.find((d) => d.id === hand.drawing)?.lines[hand.line - 1];
const grid = (app) => hand.at.map((p) => toGrid(app, p));
const value = (id) => Number.parseFloat(document.getElementById(id)?.value);
const close = (view, place, at) => {
  const p = view.toPixel?.(place);
  return p && Math.hypot(p[0] - at[0], p[1] - at[1]) <= REACH;
};

function takeUp(app, side) {
  const { at, closed } = app.cloud.data.drawings.find((d) => d.id === side.drawing).lines[side.line - 1];
  Object.assign(hand, fresh(), { drawing: side.drawing, line: side.line, at: at.map((p) => [...p]), closed });
}

const ASKED = {
  parallel: (app) => ({ by: metres(app.cloud.data.notation, value("mend-by")) }),
  fewer: (app) => ({ by: metres(app.cloud.data.notation, value("mend-by")) }),
  part: () => ({ at: hand.corner + 1 }),
  move: (app) => ({ shift: shift(app) }),
  copy: (app) => ({ shift: shift(app), count: Math.max(1, Math.round(value("mend-count")) || 1) }),
};
const AXES = ["e", "n", "h"];
const shift = (app) =>
  JSON.stringify(AXES.map((axis) => metres(app.cloud.data.notation, value(`mend-${axis}`) || 0)));
const SHAPES = ["parallel", "fewer", "square", "straight", "close", "open", "part", "join", "bring"];
const SHIFTED = ["move", "copy"];

function panel(app) {
  const line = drawn(app),
    { notation } = app.cloud.data;
  if (!line) return show(html`<div>Touch a drawn line.</div>`);
  if (hand.other)
    return show(
      html`<div>Touch ${hand.other === "also" ? "more lines of the drawing." : "the other line."}</div>` +
        link("no", hand.other === "also" ? "these are all" : "leave it"),
      () => {
        if (hand.other === "also") hand.other = "";
        else fresh();
        panel(app);
        app.overlay();
      },
    );
  const many = hand.also.length > 0,
    all = app.cloud.data.drawings.find((d) => d.id === hand.drawing).lines.length;
  const fits = SHAPES.filter(
    (how) =>
      !(how === (hand.closed ? "close" : "open")) &&
      !(hand.closed && ["straight", "join", "bring"].includes(how)) &&
      !(how === "part" && hand.corner < 0) &&
      !(many && ["part", "join", "bring"].includes(how)),
  );
  const by = `<div>by <input id="mend-by" class="form-control form-control-sm mini" type="number" step="any" value="1" aria-label="Distance"> ${notation.unit}</div>`;
  const field = (axis) =>
    `<input id="mend-${axis}" class="form-control form-control-sm mini" type="number" step="any" value="0" aria-label="Shift ${axis.toUpperCase()}">`;
  const shifts = `<div>E N H ${AXES.map(field).join(" ")} ${notation.unit}<br>${link("move", "move")} ${link("copy", "copy")} × <input id="mend-count" class="form-control form-control-sm mini" type="number" min="1" value="1" aria-label="Copies"></div>`;
  const why = hand.wrong && html`<div class="why">${hand.wrong}</div>`;
  const keep = hand.changed ? button("keep", "keep it so") : "";
  const out = hand.corner >= 0 ? link("out", "take the corner out") : "";
  const more =
    all > 1 && !hand.changed
      ? `<div>${many ? "" : link("whole", `all ${all} lines`)}${hand.also[0] === 0 ? "" : link("also", "and another line")}</div>`
      : "";
  const which = many
    ? hand.also[0] === 0
      ? `all ${all} lines`
      : `${hand.also.length + 1} lines`
    : line.name;
  show(
    html`<b>${which}</b>` +
      more +
      `${why}<div>${keep}${out}${link("gone", "take the line away")}${link("no", "leave it")}</div>${hand.changed ? "" : by + fits.map((how) => link(how, how)).join(" ") + shifts}`,
    (what) => act(app, what),
  );
}

function act(app, what) {
  const { drawing, line } = hand,
    also = hand.also.length ? { also: JSON.stringify(hand.also) } : {};
  if (what === "also" || what === "whole") {
    if (what === "whole") hand.also = [0];
    else hand.other = what;
    return panel(app);
  }
  if (what === "out") {
    hand.at.splice(hand.corner, 1);
    Object.assign(hand, { corner: -1, changed: true });
    if (hand.at.length < (hand.closed ? 3 : 2)) hand.wrong = "A line needs two corners, an area three.";
    panel(app);
    return app.overlay();
  }
  if (what === "keep") send(app, "draw.move_corners", { drawing, line, at: JSON.stringify(grid(app)) });
  if (what === "gone") send(app, "draw.reshape", { drawing, line, how: what, ...also });
  if (what === "join" || what === "bring") {
    hand.other = what;
    return panel(app);
  }
  if ([...SHAPES, ...SHIFTED].includes(what))
    send(app, "draw.reshape", { drawing, line, how: what, ...ASKED[what]?.(app), ...also });
  fresh();
  panel(app);
  app.overlay();
}

// Another place for a corner: in plan and slab along the view, in its own depth.
function shifted(view, place, px, py) {
  const [x, y] = view.toWorld(px, py);
  if (view.kind === "plan") return [x, y, place[2]];
  const { a, u, from } = view.pieceAt(x),
    s = x - from,
    off = (place[0] - a[0]) * -u[1] + (place[1] - a[1]) * u[0];
  return [a[0] + u[0] * s - u[1] * off, a[1] + u[1] * s + u[0] * off, y];
}

export default {
  name: "mend",
  key: "o",
  order: 76,
  title: "mend",
  help: "Change drawn lines",
  steps: ["draw"],
  cursor: "crosshair",
  sends: ["draw.move_corners", "draw.reshape"],
  enter: panel,
  drags: true,
  // Over a corner of the line in hand, or the middle of one of its sides, a drag begins.
  down(app, view, px, py) {
    if (!["plan", "slab"].includes(view.kind) || !hand.line || hand.other) return false;
    const corner = hand.at.findIndex((p) => close(view, p, [px, py]));
    if (corner >= 0) hand.corner = corner;
    else {
      const ring = hand.closed ? [...hand.at, hand.at[0]] : hand.at,
        middle = (k) => ring[k].map((v, axis) => (v + ring[k + 1][axis]) / 2),
        side = ring.slice(1).findIndex((_, k) => close(view, middle(k), [px, py]));
      if (side < 0) return false;
      hand.at.splice(side + 1, 0, middle(side));
      Object.assign(hand, { corner: side + 1, changed: true });
    }
    hand.view = view;
    panel(app);
    return true;
  },
  move(app, view, px, py) {
    hand.at[hand.corner] = shifted(view, hand.at[hand.corner], px, py);
    hand.changed = true;
    app.overlay();
  },
  // A corner that is let go lands on a drawn line or on the points, where there are any.
  async up(app, view, px, py) {
    if (!hand.changed) return panel(app);
    const others = app.cloud.data.drawings.map((d) => ({
      ...d,
      lines: d.lines.map((l, k) => (d.id === hand.drawing && k === hand.line - 1 ? { ...l, at: [] } : l)),
    }));
    const corner = hand.corner,
      line = snapped(view, others, [px, py]);
    if (line) hand.at[corner] = line.place;
    else {
      const point = await exact(app, view, px, py);
      if (point) hand.at[corner] = point.shown.map((v, k) => v - app.cloud.data.origin[k]);
    }
    panel(app);
    app.overlay();
  },
  click(app, view, px, py) {
    const near = sidesNear(view, app.cloud.data.drawings, [px, py]);
    if (!near.length) return;
    if (hand.other) {
      const { drawing, line, other: how } = hand;
      const other = near.find((side) => side.drawing === drawing && side.line !== line);
      if (!other) hand.wrong = "Touch another line of the same drawing.";
      else if (how === "also") hand.also = [...new Set([...hand.also, other.line])];
      else {
        send(app, "draw.reshape", { drawing, line, how, other: other.line });
        fresh();
      }
    } else takeUp(app, near[0]);
    panel(app);
    app.overlay();
  },
  marks: (_app, view) => gripped(view, hand.at, { closed: hand.closed, chosen: hand.corner }),
  leave() {
    fresh();
    show("");
  },
};
