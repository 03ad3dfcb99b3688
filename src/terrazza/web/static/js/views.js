// Plan, space and slab: three cameras over one cloud, drawn by one renderer into three rectangles.
import * as THREE from "../vendor/three.module.js";
import { near } from "./boxes.js";
import { AZIMUTH, ELEVATION, FIELD, planOf, spaceOf } from "./frame.js";

const frustum = new THREE.Frustum(),
  product = new THREE.Matrix4(),
  sphere = new THREE.Sphere();

// The matrix from the world to the screen of a camera that has been aimed.
export function seenBy(camera) {
  camera.updateMatrixWorld();
  camera.matrixWorldInverse.copy(camera.matrixWorld).invert();
  return product.multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).clone();
}

export class View {
  constructor(pane, camera) {
    this.pane = pane;
    this.camera = camera;
    this.budget = 100000;
    this.chosen = []; // nodes
    this.parts = []; // points of a region of its own
    this.limits = null; // slab and box that points lie within
    this.scale = 0; // m a pixel, in parallel views
    this.focal = 1; // px, in perspective
    this.dirty = true;
    camera.matrixWorldAutoUpdate = true;
  }

  layout(canvasRect) {
    const r = this.pane.getBoundingClientRect();
    const next = {
      x: r.left - canvasRect.left + 1,
      y: canvasRect.bottom - r.bottom + 1,
      width: Math.max(r.width - 2, 1),
      height: Math.max(r.height - 2, 1),
    };
    if (!this.rect || Object.keys(next).some((k) => next[k] !== this.rect[k])) this.dirty = true;
    this.rect = next;
  }

  // Set the camera to where the view looks.
  aim() {}

  prepare() {
    this.aim();
    this.matrix = seenBy(this.camera);
    frustum.setFromProjectionMatrix(this.matrix);
  }

  // What is drawn one after the other: cameras, each with its limits.
  get passes() {
    return [this];
  }
  limitsAt() {
    return this.limits;
  }

  touches(node) {
    sphere.center.copy(node.centre);
    sphere.radius = node.radius;
    if (!frustum.intersectsSphere(sphere)) return false;
    const { slab, box } = this.limits ?? {};
    if (slab && (node.centre.z + node.radius < slab[0] || node.centre.z - node.radius > slab[1]))
      return false;
    return !(box && !box.outside && !near(box, node.centre, node.radius));
  }

  // Pixel place of a world point in the pane: [x, y, depth], or null behind the eye.
  toPixel(p) {
    const e = this.matrix.elements,
      w = e[3] * p[0] + e[7] * p[1] + e[11] * p[2] + e[15];
    if (w <= 1e-9) return null;
    const x = (e[0] * p[0] + e[4] * p[1] + e[8] * p[2] + e[12]) / w,
      y = (e[1] * p[0] + e[5] * p[1] + e[9] * p[2] + e[13]) / w;
    return [((x + 1) / 2) * this.rect.width, ((1 - y) / 2) * this.rect.height, w];
  }

  // The ray behind a pane pixel, and how wide a pixel is along it: width + slope · distance (m).
  /** @returns {{ origin: number[], direction: number[], slope: number, width: number }} */
  ray(px, py) {
    const near = new THREE.Vector3(...this.toScreen(px, py), -1).unproject(this.camera),
      far = new THREE.Vector3(...this.toScreen(px, py), 1).unproject(this.camera);
    const flat = this.camera.isOrthographicCamera,
      from = flat ? near : this.camera.position;
    return {
      origin: from.toArray(),
      direction: far.sub(near).normalize().toArray(),
      slope: flat ? 0 : 1 / this.focal,
      width: flat ? this.scale : 0,
    };
  }

  // How lines are laid flat (ink.js): what they lie flat in depends on, the two ends of the piece of a line that is shown, and the way from there to pane pixels.
  flatKey() {
    return [...this.matrix.elements, this.rect.width, this.rect.height].join();
  }
  flatPiece(a, b) {
    const from = this.toPixel(a),
      to = this.toPixel(b);
    return from && to && [from, to];
  }
  flatTo() {
    return [1, 0, 0, 1, 0, 0];
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
    const c = this.camera,
      w = (this.rect.width * this.scale) / 2,
      h = (this.rect.height * this.scale) / 2;
    Object.assign(c, { left: -w, right: w, top: h, bottom: -h });
    c.position.set(this.centre[0], this.centre[1], 10000);
    c.up.set(0, 1, 0);
    c.lookAt(this.centre[0], this.centre[1], 0);
    c.updateProjectionMatrix();
  }
  flatKey() {
    return "plan";
  }
  flatPiece(a, b) {
    return [a, b];
  }
  flatTo() {
    const { width, height } = this.rect,
      s = 1 / this.scale,
      [x, y] = this.centre;
    return [s, 0, 0, -s, width / 2 - x * s, height / 2 + y * s];
  }
  pixelsPerMetre() {
    return 1 / this.scale;
  }
  toWorld(px, py) {
    return [
      this.centre[0] + (px - this.rect.width / 2) * this.scale,
      this.centre[1] - (py - this.rect.height / 2) * this.scale,
    ];
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
    const c = this.camera,
      ce = Math.cos(this.elevation);
    c.aspect = this.rect.width / this.rect.height;
    c.near = Math.max(this.distance / 300, 0.03);
    c.far = this.distance * 40 + 400;
    c.up.set(0, 0, 1);
    c.position.set(
      this.target.x + this.distance * ce * Math.cos(this.azimuth),
      this.target.y + this.distance * ce * Math.sin(this.azimuth),
      this.target.z + this.distance * Math.sin(this.elevation),
    );
    c.lookAt(this.target);
    c.updateProjectionMatrix();
    this.focal = this.rect.height / 2 / Math.tan((c.fov * Math.PI) / 360);
  }
  pixelsPerMetre(centre) {
    return this.focal / Math.max(this.camera.position.distanceTo(centre), this.camera.near);
  }
  orbit(dx, dy) {
    this.azimuth -= dx * 0.006;
    this.elevation = Math.min(Math.max(this.elevation + dy * 0.006, -1.55), 1.55);
  }
  shift(dx, dy) {
    const step = this.distance / this.focal,
      e = this.camera.matrixWorld.elements;
    this.target.x += (-dx * e[0] + dy * e[4]) * step;
    this.target.y += (-dx * e[1] + dy * e[5]) * step;
    this.target.z += (-dx * e[2] + dy * e[6]) * step;
  }
  zoom(factor, _px, _py, at) {
    const next = Math.min(Math.max(this.distance * factor, 0.05), 4000);
    if (at)
      this.target.lerp(
        new THREE.Vector3().fromArray(at),
        Math.min(Math.max(1 - next / this.distance, -0.3), 0.3),
      );
    this.distance = next;
  }
  fit(box) {
    const { target, distance } = spaceOf(box);
    this.target.fromArray(target);
    this.distance = distance;
  }
}

// A second space beside the first: it looks from the same place, in a colouring of its own.
export class TwinView extends SpaceView {
  constructor(pane, first) {
    super(pane);
    this.first = first;
    for (const name of ["target", "distance", "azimuth", "elevation"])
      Object.defineProperty(this, name, { get: () => first[name], set: (v) => (first[name] = v) });
    this.mode = "height";
  }
  fit() {}
}
