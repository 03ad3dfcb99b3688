// Lines of drawings, and where the slab cuts surfaces: kept as paths in each view's own flat plane, and only moved when the view moves.
// Of very many places some are drawn while a view moves, and all when it has come to rest.

const WIDTH = 1.6; // px
const KEPT = 1e-6;
const MANY = 3000; // places of lines above which only about so many are drawn while a view moves
const REST = 250; // ms without a move, and all are drawn
const FAINT = 0.3; // of lines that were drawn on another slab than the one that is cut
const DRAWN = "--terracotta",
  EARTH = "--olive"; // colours of lines that have none, and of surfaces

// A view's canvas over its points and below its marks.
function canvasOf(pane) {
  const canvas = document.createElement("canvas");
  canvas.className = "ink";
  pane.insertBefore(canvas, pane.querySelector("svg.marks"));
  return canvas;
}

export class Ink {
  constructor(app) {
    this.app = app;
    this.held = new Map(); // by view: canvas, and the paths with what they were made of
  }

  of(view) {
    if (!this.held.has(view)) this.held.set(view, { canvas: canvasOf(view.pane), key: null, paths: {} });
    return this.held.get(view);
  }

  // Draw the lines of a view where it looks now.
  paint(view, rested = false) {
    const held = this.of(view),
      { width, height } = view.pane.getBoundingClientRect(),
      { canvas } = held;
    const all = !this.moves(view, held, rested),
      paths = this.paths(view, held, all),
      [low, high] = view.kind === "plan" && this.app.slabOn ? this.app.planSlab() : [-Infinity, Infinity],
      ratio = Math.min(window.devicePixelRatio, 2),
      drawn = [held.key, all, view.flatTo(), width, height, low, high, document.body.className].join();
    canvas.hidden = !paths.length;
    if (canvas.hidden || held.drawn === drawn) return;
    held.drawn = drawn;
    canvas.width = width * ratio;
    canvas.height = height * ratio;
    const style = getComputedStyle(document.body);
    const c = canvas.getContext("2d"),
      matrix = new DOMMatrix(view.flatTo());
    c.scale(ratio, ratio);
    c.lineWidth = WIDTH;
    c.lineJoin = "round";
    for (const { colour, path, height } of paths) {
      const placed = new Path2D();
      c.globalAlpha = height === null || (low <= height && height <= high) ? 1 : FAINT;
      placed.addPath(path, matrix);
      c.strokeStyle = colour.startsWith("--") ? style.getPropertyValue(colour) : colour;
      c.stroke(placed);
    }
  }

  // Whether a view with very many lines is on its way; it is drawn once more when it has come to rest.
  moves(view, held, rested) {
    const where = `${view.flatKey()} ${view.flatTo()}`,
      moved = held.where !== undefined && held.where !== where;
    held.where = where;
    if (rested || places(this.app.cloud.data.drawings) <= MANY) return false;
    if (moved) {
      clearTimeout(held.resting);
      held.resting = setTimeout(() => {
        held.resting = null;
        this.paint(view, true);
      }, REST);
    }
    return Boolean(held.resting);
  }

  // The paths of a view as it lies, of all places or of some, kept until something changes.
  paths(view, held, all) {
    const { drawings, state } = this.app.cloud.data,
      key = `${state} ${this.app.surfaces.key} ${view.flatKey()}`;
    if (held.key !== key) Object.assign(held, { key, paths: {} });
    held.paths[all] ??= [
      ...pathsOf(drawings, view, all ? 1 : Math.ceil(places(drawings) / MANY)),
      ...surfacePaths(this.app.surfaces, view),
    ];
    return held.paths[all];
  }
}

const places = (drawings) => drawings.reduce((n, d) => n + d.lines.reduce((m, l) => m + l.at.length, 0), 0);

// Every so many places of a line, both ends among them.
const thinned = (at, step) => (step > 1 ? at.filter((_, k) => k % step === 0 || k === at.length - 1) : at);

// One path a colour and height of the slab drawn on, of all lines as a view lays them flat.
function pathsOf(drawings, view, step) {
  const alike = new Map();
  for (const { lines, height = null } of drawings) {
    for (const { at, closed, colour = DRAWN } of lines) {
      const key = `${colour} ${height}`;
      if (!alike.has(key)) alike.set(key, { colour, height, path: new Path2D() });
      trace(alike.get(key).path, thinned(closed ? [...at, at[0]] : at, step), view);
    }
  }
  return [...alike.values()];
}

// A line from point to point, interrupted where the view does not show it.
function trace(path, places, view) {
  let last = null;
  const draw = (a, b) => {
    const piece = view.flatPiece(a, b);
    if (!piece) return;
    const [from, to] = piece;
    if (!last || Math.abs(from[0] - last[0]) + Math.abs(from[1] - last[1]) > KEPT)
      path.moveTo(from[0], from[1]);
    path.lineTo(to[0], to[1]);
    last = to;
  };
  for (let k = 1; k < places.length; k++) {
    const [a, b] = [places[k - 1], places[k]],
      n = view.flatParts?.(a, b) ?? 1;
    const at = (i) => a.map((v, axis) => v + ((b[axis] - v) * i) / n);
    for (let i = 0; i < n; i++) draw(at(i), at(i + 1));
  }
}

// Where a view cuts surfaces, or their rims.
function surfacePaths(surfaces, view) {
  if (!["plan", "slab", "station"].includes(view.kind)) return [];
  const path = new Path2D();
  for (const ends of surfaces.lines(view)) trace(path, ends, view);
  return surfaces.shown.length ? [{ colour: EARTH, height: null, path }] : [];
}
