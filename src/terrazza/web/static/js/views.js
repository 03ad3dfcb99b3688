// Plan, space and slab: three cameras over one cloud, drawn by one renderer into three rectangles.
import * as THREE from "../vendor/three.module.js";
import { near } from "./boxes.js";
import { AZIMUTH, ELEVATION, FIELD, planOf, spaceOf } from "./frame.js";

const frustum = new THREE.Frustum(), product = new THREE.Matrix4(), sphere = new THREE.Sphere();

// The matrix from the world to the screen of a camera that has been aimed.
function seenBy(camera) {
  camera.updateMatrixWorld();
  camera.matrixWorldInverse.copy(camera.matrixWorld).invert();
  return product.multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).clone();
}

class View {
  constructor(pane, camera) {
    this.pane = pane;
    this.camera = camera;
    this.budget = 100000;
    this.chosen = []; // nodes
    this.parts = []; // points of a region of its own
    this.dirty = true;
    camera.matrixWorldAutoUpdate = true;
  }

  layout(canvasRect) {
    const r = this.pane.getBoundingClientRect();
    const next = { x: r.left - canvasRect.left + 1, y: canvasRect.bottom - r.bottom + 1, width: Math.max(r.width - 2, 1), height: Math.max(r.height - 2, 1) };
    if (!this.rect || Object.keys(next).some((k) => next[k] !== this.rect[k])) this.dirty = true;
    this.rect = next;
  }

  prepare() {
    this.aim();
    this.matrix = seenBy(this.camera);
    frustum.setFromProjectionMatrix(this.matrix);
  }

  // What is drawn one after the other: cameras, each with its limits.
  get passes() { return [this]; }
  limitsAt() { return this.limits; }

  touches(node) {
    sphere.center.copy(node.centre);
    sphere.radius = node.radius;
    if (!frustum.intersectsSphere(sphere)) return false;
    const { slab, box } = this.limits ?? {};
    if (slab && (node.centre.z + node.radius < slab[0] || node.centre.z - node.radius > slab[1])) return false;
    return !(box && !box.outside && !near(box, node.centre, node.radius));
  }

  // Pixel place of a world point in the pane: [x, y, depth], or null behind the eye.
  toPixel(p) {
    const e = this.matrix.elements, w = e[3] * p[0] + e[7] * p[1] + e[11] * p[2] + e[15];
    if (w <= 1e-9) return null;
    const x = (e[0] * p[0] + e[4] * p[1] + e[8] * p[2] + e[12]) / w, y = (e[1] * p[0] + e[5] * p[1] + e[9] * p[2] + e[13]) / w;
    return [((x + 1) / 2) * this.rect.width, ((1 - y) / 2) * this.rect.height, w];
  }

  // The ray behind a pane pixel, and how wide a pixel is along it: width + slope · distance (m).
  ray(px, py) {
    const near = new THREE.Vector3(...this.toScreen(px, py), -1).unproject(this.camera), far = new THREE.Vector3(...this.toScreen(px, py), 1).unproject(this.camera);
    const flat = this.camera.isOrthographicCamera, from = flat ? near : this.camera.position;
    return { origin: from.toArray(), direction: far.sub(near).normalize().toArray(), slope: flat ? 0 : 1 / this.focal, width: flat ? this.scale : 0 };
  }

  toScreen(px, py) {
    return [(2 * px) / this.rect.width - 1, 1 - (2 * py) / this.rect.height];
  }
}

export class PlanView extends View {
  constructor(pane) {
    super(pane, new THREE.OrthographicCamera(-1, 1, 1, -1, 0.1, 20000));
    this.kind = "plan";
    this.centre = [0, 0];
    this.scale = 0.05; // metres a pixel
  }
  aim() {
    const c = this.camera, w = (this.rect.width * this.scale) / 2, h = (this.rect.height * this.scale) / 2;
    Object.assign(c, { left: -w, right: w, top: h, bottom: -h });
    c.position.set(this.centre[0], this.centre[1], 10000);
    c.up.set(0, 1, 0);
    c.lookAt(this.centre[0], this.centre[1], 0);
    c.updateProjectionMatrix();
  }
  pixelsPerMetre() { return 1 / this.scale; }
  toWorld(px, py) {
    return [this.centre[0] + (px - this.rect.width / 2) * this.scale, this.centre[1] - (py - this.rect.height / 2) * this.scale];
  }
  shift(dx, dy) {
    this.centre = [this.centre[0] - dx * this.scale, this.centre[1] + dy * this.scale];
  }
  zoom(factor, px, py) {
    const before = this.toWorld(px, py);
    this.scale = Math.min(Math.max(this.scale * factor, 2e-5), 100);
    const after = this.toWorld(px, py);
    this.centre = [this.centre[0] + before[0] - after[0], this.centre[1] + before[1] - after[1]];
  }
  fit(box) {
    Object.assign(this, planOf(box, this.rect.width, this.rect.height));
  }
}

export class SpaceView extends View {
  constructor(pane) {
    super(pane, new THREE.PerspectiveCamera(FIELD, 1, 0.1, 5000));
    this.kind = "space";
    this.target = new THREE.Vector3();
    this.distance = 40;
    this.azimuth = AZIMUTH;
    this.elevation = ELEVATION;
  }
  aim() {
    const c = this.camera, ce = Math.cos(this.elevation);
    c.aspect = this.rect.width / this.rect.height;
    c.near = Math.max(this.distance / 300, 0.03);
    c.far = this.distance * 40 + 400;
    c.up.set(0, 0, 1);
    c.position.set(this.target.x + this.distance * ce * Math.cos(this.azimuth), this.target.y + this.distance * ce * Math.sin(this.azimuth), this.target.z + this.distance * Math.sin(this.elevation));
    c.lookAt(this.target);
    c.updateProjectionMatrix();
    this.focal = this.rect.height / 2 / Math.tan((c.fov * Math.PI) / 360);
  }
  pixelsPerMetre(centre) { return this.focal / Math.max(this.camera.position.distanceTo(centre), this.camera.near); }
  orbit(dx, dy) {
    this.azimuth -= dx * 0.006;
    this.elevation = Math.min(Math.max(this.elevation + dy * 0.006, -1.55), 1.55);
  }
  shift(dx, dy) {
    const step = this.distance / this.focal, e = this.camera.matrixWorld.elements;
    this.target.x += (-dx * e[0] + dy * e[4]) * step;
    this.target.y += (-dx * e[1] + dy * e[5]) * step;
    this.target.z += (-dx * e[2] + dy * e[6]) * step;
  }
  zoom(factor, px, py, at) {
    const next = Math.min(Math.max(this.distance * factor, 0.05), 4000);
    if (at) this.target.lerp(new THREE.Vector3(...at), Math.min(Math.max(1 - next / this.distance, -0.3), 0.3));
    this.distance = next;
  }
  fit(box) {
    const { target, distance } = spaceOf(box);
    this.target.set(...target);
    this.distance = distance;
  }
}

// A second space beside the first: it looks from the same place, in a colouring of its own.
export class TwinView extends SpaceView {
  constructor(pane, first) {
    super(pane);
    this.first = first;
    for (const name of ["target", "distance", "azimuth", "elevation"]) Object.defineProperty(this, name, { get: () => first[name], set: (v) => (first[name] = v) });
    this.mode = "height";
  }
  fit() {}
}

// The slab along a line in plan, from A over its bends to B, laid out flat: across is the way along the line, up is height.
export class SlabView extends View {
  constructor(pane) {
    super(pane, new THREE.OrthographicCamera(-1, 1, 1, -1, 0.1, 40000));
    this.kind = "slab";
    this.path = [[0, 0], [10, 0]];
    this.along = 5;
    this.height = 2;
    this.scale = 0.03;
    this.thickness = 0.2;
    this.stretch = 1; // heights are drawn so many times as tall, only on request
    this.cameras = [this.camera];
    this.drawn = [];
  }
  get a() { return this.path[0]; }
  get b() { return this.path.at(-1); }
  get scaleUp() { return this.scale / this.stretch; }
  // Pane pixel of a height.
  rowOf(z) { return this.rect.height / 2 - (z - this.height) / this.scaleUp; }
  // Move the slab sideways, across A to B.
  step(by) {
    const [ux, uy] = this.u;
    for (const p of this.path) { p[0] -= uy * by; p[1] += ux * by; }
  }
  // Direction from A to B.
  get u() {
    const d = [this.b[0] - this.a[0], this.b[1] - this.a[1]], length = Math.hypot(...d);
    return length ? d.map((v) => v / length) : [1, 0];
  }
  get length() { return this.pieces.at(-1).to; }
  // The straight pieces: where each begins, its direction, the ways along the line at its ends; the first and the last go on beyond A and B.
  get pieces() {
    const out = [];
    let from = 0;
    this.path.slice(1).forEach((end, k) => {
      const a = this.path[k], length = Math.hypot(end[0] - a[0], end[1] - a[1]) || 1, u = [(end[0] - a[0]) / length, (end[1] - a[1]) / length];
      out.push({ a, u, from, to: from + length, first: k === 0, last: k === this.path.length - 2 });
      from += length;
    });
    return out;
  }
  pieceAt(along) { return this.pieces.find((p) => along <= p.to) ?? this.pieces.at(-1); }
  // Where a place lies on the line: the way along it, and how far off.
  place([x, y]) {
    const found = this.pieces.map((p) => {
      const d = [x - p.a[0], y - p.a[1]], s = d[0] * p.u[0] + d[1] * p.u[1], inside = Math.min(Math.max(s, p.first ? -Infinity : 0), p.last ? Infinity : p.to - p.from);
      return { along: p.from + inside, off: Math.hypot(d[0] - inside * p.u[0], d[1] - inside * p.u[1]) };
    });
    return found.reduce((best, f) => (f.off < best.off - 1e-9 ? f : best));
  }
  limitsOf({ a, u: [ux, uy], from, to, first, last }) {
    const s = ux * a[0] + uy * a[1];
    return { wall: [-uy, ux, -uy * a[0] + ux * a[1], this.thickness / 2], along: [ux, uy, first ? -1e9 : s, last ? 1e9 : s + to - from], box: this.box };
  }
  limitsAt(px) { return this.limitsOf(this.pieceAt(this.toWorld(px, 0)[0])); }
  // One camera a piece, each shifted so that the piece appears where it lies along the line.
  prepare() {
    const w = (this.rect.width * this.scale) / 2, h = (this.rect.height * this.scaleUp) / 2;
    this.drawn = this.pieces.map((piece, k) => {
      const c = (this.cameras[k] ??= this.camera.clone()), [ux, uy] = piece.u, s = this.along - piece.from, x = piece.a[0] + ux * s, y = piece.a[1] + uy * s;
      Object.assign(c, { left: -w, right: w, top: h, bottom: -h });
      c.up.set(0, 0, 1);
      c.position.set(x + uy * 10000, y - ux * 10000, this.height);
      c.lookAt(x, y, this.height);
      c.updateProjectionMatrix();
      return { camera: c, matrix: seenBy(c), limits: this.limitsOf(piece) };
    });
    Object.assign(this, { matrix: this.drawn[0].matrix, limits: this.drawn[0].limits });
  }
  get passes() { return this.drawn; }
  touches(node) {
    const c = node.centre, r = node.radius, w = (this.rect.width * this.scale) / 2 + r;
    if (Math.abs(c.z - this.height) > (this.rect.height * this.scaleUp) / 2 + r) return false;
    if (this.box && !this.box.outside && !near(this.box, c, r)) return false;
    return this.pieces.some((p) => {
      const x = c.x - p.a[0], y = c.y - p.a[1], s = x * p.u[0] + y * p.u[1];
      if (Math.abs(y * p.u[0] - x * p.u[1]) > this.thickness / 2 + r || Math.abs(p.from + s - this.along) > w) return false;
      return (p.first || s > -r) && (p.last || s < p.to - p.from + r);
    });
  }
  toPixel(p) { return [this.rect.width / 2 + (this.place(p).along - this.along) / this.scale, this.rowOf(p[2]), 1]; }
  ray(px, py) {
    const [along, z] = this.toWorld(px, py), { a, u: [ux, uy], from } = this.pieceAt(along), s = along - from;
    return { origin: [a[0] + ux * s + uy * 10000, a[1] + uy * s - ux * 10000, z], direction: [-uy, ux, 0], slope: 0, width: this.scale };
  }
  pixelsPerMetre() { return 1 / this.scale; }
  toWorld(px, py) {
    return [this.along + (px - this.rect.width / 2) * this.scale, this.height - (py - this.rect.height / 2) * this.scaleUp];
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
    this.scale = Math.max(this.length / (this.rect.width - 60), (box.max[2] - box.min[2]) / (this.rect.height - 30), 1e-3);
  }
}
