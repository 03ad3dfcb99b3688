// The slab: a section along a line in plan, laid out flat.
import * as THREE from "../vendor/three.module.js";
import { near } from "./boxes.js";
import { seenBy, View } from "./views.js";

// The slab along a line in plan, from A over its bends to B, laid out flat: across is the way along the line, up is height.
export class SlabView extends View {
  constructor(pane) {
    super(pane, new THREE.OrthographicCamera(-1, 1, 1, -1, 0.1, 40000));
    this.kind = "slab";
    this.path = [
      [0, 0],
      [10, 0],
    ];
    this.along = 5;
    this.height = 2;
    this.scale = 0.03;
    this.thickness = 0.2;
    this.box = null;
    this.stretch = 1; // heights are drawn so many times as tall, only on request
    this.cameras = [this.camera];
    this.drawn = [];
  }
  get a() {
    return this.path[0];
  }
  get b() {
    return this.path.at(-1);
  }
  get scaleUp() {
    return this.scale / this.stretch;
  }
  // Pane pixel of a height.
  rowOf(z) {
    return this.rect.height / 2 - (z - this.height) / this.scaleUp;
  }
  // Move the slab sideways, across A to B.
  step(by) {
    const [ux, uy] = this.u;
    for (const p of this.path) {
      p[0] -= uy * by;
      p[1] += ux * by;
    }
  }
  // Stand across a way at a place of it, to so many metres on either side, A to the left looking along.
  across(place, [ux, uy], half) {
    const [x, y, z] = place;
    this.path = [
      [x - uy * half, y + ux * half],
      [x + uy * half, y - ux * half],
    ];
    Object.assign(this, { along: half, height: z });
  }
  // Direction from A to B.
  get u() {
    const d = [this.b[0] - this.a[0], this.b[1] - this.a[1]],
      length = Math.hypot(...d);
    return length ? d.map((v) => v / length) : [1, 0];
  }
  get length() {
    return this.pieces.at(-1).to;
  }
  // The straight pieces: where each begins, its direction, the ways along the line at its ends; the first and the last go on beyond A and B.
  get pieces() {
    const out = [];
    let from = 0;
    this.path.slice(1).forEach((end, k) => {
      const a = this.path[k],
        length = Math.hypot(end[0] - a[0], end[1] - a[1]) || 1,
        u = [(end[0] - a[0]) / length, (end[1] - a[1]) / length];
      out.push({ a, u, from, to: from + length, first: k === 0, last: k === this.path.length - 2 });
      from += length;
    });
    return out;
  }
  pieceAt(along) {
    return this.pieces.find((p) => along <= p.to) ?? this.pieces.at(-1);
  }
  // Where a place lies on the line: the way along it, and how far off.
  place([x, y]) {
    const found = this.pieces.map((p) => {
      const d = [x - p.a[0], y - p.a[1]],
        s = d[0] * p.u[0] + d[1] * p.u[1],
        inside = Math.min(Math.max(s, p.first ? -Infinity : 0), p.last ? Infinity : p.to - p.from);
      return { along: p.from + inside, off: Math.hypot(d[0] - inside * p.u[0], d[1] - inside * p.u[1]) };
    });
    return found.reduce((best, f) => (f.off < best.off - 1e-9 ? f : best));
  }
  limitsOf({ a, u: [ux, uy], from, to, first, last }) {
    const s = ux * a[0] + uy * a[1];
    return {
      wall: [-uy, ux, -uy * a[0] + ux * a[1], this.thickness / 2],
      along: [ux, uy, first ? -1e9 : s, last ? 1e9 : s + to - from],
      box: this.box,
    };
  }
  limitsAt(px) {
    return this.limitsOf(this.pieceAt(this.toWorld(px, 0)[0]));
  }
  // How the piece at a pixel is seen: the matrix from the scene to the screen, and the depths that the slab reaches from and to there.
  pieceSeen(px) {
    const along = this.toWorld(px, 0)[0],
      k = this.pieces.findIndex((p) => along <= p.to),
      piece = this.pieces.at(k),
      { matrix } = this.drawn.at(k),
      e = matrix.elements,
      depthOf = (off) => {
        const [x, y] = [piece.a[0] - piece.u[1] * off, piece.a[1] + piece.u[0] * off];
        return e[2] * x + e[6] * y + e[14];
      };
    return {
      matrix,
      depth: [depthOf(-this.thickness / 2), depthOf(this.thickness / 2)].sort((a, b) => a - b),
    };
  }
  // One camera a piece, each shifted so that the piece appears where it lies along the line.
  prepare() {
    const w = (this.rect.width * this.scale) / 2,
      h = (this.rect.height * this.scaleUp) / 2;
    this.drawn = this.pieces.map((piece, k) => {
      const c = (this.cameras[k] ??= this.camera.clone()),
        [ux, uy] = piece.u,
        s = this.along - piece.from,
        x = piece.a[0] + ux * s,
        y = piece.a[1] + uy * s;
      Object.assign(c, { left: -w, right: w, top: h, bottom: -h });
      c.up.set(0, 0, 1);
      c.position.set(x + uy * 10000, y - ux * 10000, this.height);
      c.lookAt(x, y, this.height);
      c.updateProjectionMatrix();
      return { camera: c, matrix: seenBy(c), limits: this.limitsOf(piece) };
    });
    Object.assign(this, { matrix: this.drawn[0].matrix, limits: this.drawn[0].limits });
  }
  get passes() {
    return this.drawn;
  }
  touches(node) {
    const c = node.centre,
      r = node.radius,
      w = (this.rect.width * this.scale) / 2 + r;
    if (Math.abs(c.z - this.height) > (this.rect.height * this.scaleUp) / 2 + r) return false;
    if (this.box && !this.box.outside && !near(this.box, c, r)) return false;
    return this.pieces.some((p) => {
      const x = c.x - p.a[0],
        y = c.y - p.a[1],
        s = x * p.u[0] + y * p.u[1];
      if (Math.abs(y * p.u[0] - x * p.u[1]) > this.thickness / 2 + r || Math.abs(p.from + s - this.along) > w)
        return false;
      return (p.first || s > -r) && (p.last || s < p.to - p.from + r);
    });
  }
  toPixel(p) {
    return [this.rect.width / 2 + (this.place(p).along - this.along) / this.scale, this.rowOf(p[2]), 1];
  }
  ray(px, py) {
    const [along, z] = this.toWorld(px, py),
      {
        a,
        u: [ux, uy],
        from,
      } = this.pieceAt(along),
      s = along - from;
    return {
      origin: [a[0] + ux * s + uy * 10000, a[1] + uy * s - ux * 10000, z],
      direction: [-uy, ux, 0],
      slope: 0,
      width: this.scale,
    };
  }
  flatKey() {
    return JSON.stringify([this.path, this.thickness]);
  }
  // Along the line and up, of what lies within the slab; a line from one piece of a bent slab to the next is left out there.
  flatPiece(a, b) {
    for (const piece of this.pieces) {
      const ends = [a, b].map(([x, y, z]) => {
        const dx = x - piece.a[0],
          dy = y - piece.a[1],
          [ux, uy] = piece.u;
        return [piece.from + dx * ux + dy * uy, z, dy * ux - dx * uy];
      });
      const low = piece.first ? Number.NEGATIVE_INFINITY : piece.from,
        high = piece.last ? Number.POSITIVE_INFINITY : piece.to;
      const shown = clipped(clipped(ends, 2, -this.thickness / 2, this.thickness / 2), 0, low, high);
      if (shown) return shown;
    }
    return null;
  }
  flatTo() {
    const { width, height } = this.rect,
      s = 1 / this.scale,
      up = 1 / this.scaleUp;
    return [s, 0, 0, -up, width / 2 - this.along * s, height / 2 + this.height * up];
  }
  pixelsPerMetre() {
    return 1 / this.scale;
  }
  toWorld(px, py) {
    return [
      this.along + (px - this.rect.width / 2) * this.scale,
      this.height - (py - this.rect.height / 2) * this.scaleUp,
    ];
  }
  shift(dx, dy) {
    this.along -= dx * this.scale;
    this.height += dy * this.scaleUp;
  }
  zoom(factor, px, py) {
    const before = this.toWorld(px, py);
    this.scale = Math.min(Math.max(this.scale * factor, 2e-5), 100);
    const after = this.toWorld(px, py);
    this.along += before[0] - after[0];
    this.height += before[1] - after[1];
  }
  fit(box) {
    this.along = this.length / 2;
    this.height = (box.min[2] + box.max[2]) / 2;
    this.scale = Math.max(
      this.length / (this.rect.width - 60),
      (box.max[2] - box.min[2]) / (this.rect.height - 30),
      1e-3,
    );
  }
}

// The part of a straight line on which a coordinate lies between two values; null where none does.
function clipped(ends, axis, low, high) {
  if (!ends) return null;
  const [a, b] = ends,
    [p, q] = [a[axis], b[axis]];
  if (Math.max(p, q) < low || Math.min(p, q) > high) return null;
  const at = (v, k) => (v < low ? (low - p) / (q - p) : v > high ? (high - p) / (q - p) : k);
  return [at(p, 0), at(q, 1)].map((t) => a.map((v, k) => v + t * (b[k] - v)));
}
