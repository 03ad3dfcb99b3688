// Surfaces of triangles: shaded in space, cut by the slab, their rim in plan and in the view from a station.
import * as THREE from "../vendor/three.module.js";
import { again, ask, tell } from "./trouble.js";

const BOTH_SIDES = 2; // of a triangle, as the renderer numbers them
const COARSE = 100; // cells along the longest side of a large surface, as it is drawn while a view moves
const LARGE = 50_000; // triangles
const EARTH = [0.66, 0.6, 0.48]; // colour of a surface, red, green, blue

const VERTEX = `precision highp float;
uniform mat4 modelMatrix, viewMatrix, projectionMatrix;
in vec3 position;
out vec3 vPlace;
void main() {
  vec4 w = modelMatrix * vec4(position, 1.);
  vPlace = w.xyz;
  gl_Position = projectionMatrix * viewMatrix * w;
  gl_Position.z += 2e-4 * gl_Position.w; // points on a surface are seen
}`;
// Light from north-west and above, by the slope of each triangle.
const FRAGMENT = `precision highp float;
uniform mat4 uBox; uniform int uBoxOn; uniform vec2 uSlab; uniform bool uSlabOn; uniform vec3 uEarth;
in vec3 vPlace;
out vec4 colour;
void main() {
  bool boxed = all(lessThanEqual(abs((uBox * vec4(vPlace, 1.)).xyz), vec3(1.)));
  if ((uBoxOn == 1 && !boxed) || (uBoxOn == 2 && boxed)) discard;
  if (uSlabOn && (vPlace.z < uSlab.x || vPlace.z > uSlab.y)) discard;
  vec3 n = normalize(cross(dFdx(vPlace), dFdy(vPlace)));
  float light = .45 + .55 * max(0., dot(n.z < 0. ? -n : n, normalize(vec3(-1., 1., 1.6))));
  colour = vec4(uEarth * light, 1.);
}`;

export class Surfaces {
  constructor(app) {
    this.app = app;
    this.held = new Map(); // by number: version, vertices from the scene's origin, triangles, mesh
  }

  get shown() {
    return [...this.held.values()].filter((s) => s.mesh && !this.app.hiddenSurfaces.has(s.id));
  }

  // What the ink of a view depends on.
  get key() {
    return this.shown.map((s) => `${s.id}.${s.version}.${s.at.join()}`).join();
  }

  // The scene has come: fetch what is new, let go of what is no more.
  async load() {
    const { surfaces, origin } = this.app.cloud.data,
      there = new Map(surfaces.map((s) => [s.id, s]));
    for (const held of this.held.values()) if (there.get(held.id)?.version !== held.version) this.drop(held);
    for (const { id, version } of surfaces) {
      if (!this.held.has(id)) await this.fetch({ id, version }).catch(tell);
    }
    for (const held of this.held.values()) this.place(held, origin);
    this.app.draw();
  }

  async fetch(surface) {
    this.held.set(surface.id, surface);
    const url = `/jobs/${this.app.job}/scene/surface/${surface.id}/${surface.version}`;
    const buffer = await (await again(() => ask(url))).arrayBuffer(),
      [n, m] = new Uint32Array(buffer, 0, 2);
    surface.base = [...new Float64Array(buffer, 8, 3)];
    surface.vertices = new Float32Array(buffer, 32, 3 * n);
    surface.triangles = new Uint32Array(buffer, 32 + 12 * n, 3 * m);
    surface.full = geometryOf(surface.vertices, surface.triangles);
    surface.coarse =
      m > LARGE ? geometryOf(...coarsened(surface.vertices, surface.triangles, COARSE)) : surface.full;
    const { uBox, uBoxOn, uSlab, uSlabOn } = this.app.cloud.shared,
      uEarth = { value: new THREE.Color(...EARTH) };
    const material = new THREE.RawShaderMaterial({
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      glslVersion: THREE.GLSL3,
      side: BOTH_SIDES,
      uniforms: { uBox, uBoxOn, uSlab, uSlabOn, uEarth },
    });
    surface.mesh = new THREE.Mesh(surface.full, material);
    Object.assign(surface.mesh, {
      frustumCulled: false,
      matrixAutoUpdate: false,
      matrixWorldAutoUpdate: false,
    });
    surface.mesh.visible = false;
    surface.rim = rimOf(surface.triangles, n);
    this.place(surface, this.app.cloud.data.origin);
    this.app.cloud.scene.add(surface.mesh);
  }

  place(surface, origin) {
    if (!surface.mesh) return;
    surface.at = surface.base.map((v, k) => v - origin[k]);
    surface.mesh.matrix.makeTranslation(surface.at[0], surface.at[1], surface.at[2]);
    surface.mesh.matrixWorld.copy(surface.mesh.matrix);
  }

  drop(surface) {
    this.held.delete(surface.id);
    if (!surface.mesh) return;
    this.app.cloud.scene.remove(surface.mesh);
    for (const geometry of [surface.full, surface.coarse]) geometry.dispose();
    surface.mesh.material.dispose();
  }

  // Shaded in space only: the plan has its picture, and the slab the line where it cuts them.
  show(view) {
    for (const s of this.held.values()) {
      if (!s.mesh) continue;
      s.mesh.visible = view?.kind === "space" && this.shown.includes(s);
      s.mesh.geometry = this.app.still ? s.full : s.coarse;
    }
  }

  // Lines that a view shows of the surfaces, as pairs of places in the scene.
  *lines(view) {
    for (const s of this.shown) {
      if (view.kind === "plan" || view.kind === "station") yield* pairs(s, s.rim);
      if (view.kind === "slab") for (const piece of view.pieces) yield* cuts(s, piece);
    }
  }
}

function geometryOf(vertices, triangles) {
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(vertices, 3));
  geometry.setIndex(new THREE.BufferAttribute(triangles, 1));
  return geometry;
}

// A surface with one vertex of each cell of a cubic grid, so many along its longest side: vertices, and what of its triangles has corners in three cells.
export function coarsened(vertices, triangles, cells) {
  const low = [Infinity, Infinity, Infinity],
    high = [-Infinity, -Infinity, -Infinity];
  for (let k = 0; k < vertices.length; k++) {
    low[k % 3] = Math.min(low[k % 3], vertices[k]);
    high[k % 3] = Math.max(high[k % 3], vertices[k]);
  }
  const size = Math.max(...high.map((v, axis) => v - low[axis]), 1e-9) / cells,
    first = new Map(),
    stands = new Uint32Array(vertices.length / 3), // for each vertex the one of its cell
    kept = [];
  for (let k = 0; k < stands.length; k++) {
    const [x, y, z] = [0, 1, 2].map((axis) => Math.floor((vertices[3 * k + axis] - low[axis]) / size)),
      key = (x * (cells + 1) + y) * (cells + 1) + z;
    if (!first.has(key)) {
      first.set(key, kept.length / 3);
      kept.push(vertices[3 * k], vertices[3 * k + 1], vertices[3 * k + 2]);
    }
    stands[k] = first.get(key);
  }
  const out = [];
  for (let t = 0; t < triangles.length; t += 3) {
    const [a, b, c] = [0, 1, 2].map((k) => stands[triangles[t + k]]);
    if (a !== b && b !== c && a !== c) out.push(a, b, c);
  }
  return [new Float32Array(kept), new Uint32Array(out)];
}

const placeOf = ({ vertices, at }, k) => [0, 1, 2].map((axis) => vertices[3 * k + axis] + at[axis]);

function* pairs(surface, ends) {
  for (let k = 0; k < ends.length; k += 2) yield [placeOf(surface, ends[k]), placeOf(surface, ends[k + 1])];
}

// Edges that only one triangle has, as pairs of vertices.
export function rimOf(triangles, count) {
  const seen = new Map();
  for (let t = 0; t < triangles.length; t += 3) {
    for (let k = 0; k < 3; k++) {
      const a = triangles[t + k],
        b = triangles[t + ((k + 1) % 3)],
        key = Math.min(a, b) * count + Math.max(a, b);
      if (seen.has(key)) seen.set(key, null);
      else seen.set(key, [a, b]);
    }
  }
  return [...seen.values()].filter(Boolean).flat();
}

// Where the vertical plane of a piece of the slab's line cuts the triangles.
export function* cuts(surface, { a, u: [ux, uy] }) {
  const { vertices, triangles, at } = surface,
    n = vertices.length / 3,
    off = new Float32Array(n);
  for (let k = 0; k < n; k++) {
    off[k] = (vertices[3 * k + 1] + at[1] - a[1]) * ux - (vertices[3 * k] + at[0] - a[0]) * uy;
  }
  for (let t = 0; t < triangles.length; t += 3) {
    const corners = [triangles[t], triangles[t + 1], triangles[t + 2]],
      above = corners.map((k) => off[k] >= 0);
    if (above[0] === above[1] && above[1] === above[2]) continue;
    const ends = [];
    for (let k = 0; k < 3; k++) {
      const i = corners[k],
        j = corners[(k + 1) % 3];
      if (above[k] === above[(k + 1) % 3]) continue;
      const p = placeOf(surface, i),
        q = placeOf(surface, j),
        share = off[i] / (off[i] - off[j]);
      ends.push(p.map((v, axis) => v + share * (q[axis] - v)));
    }
    yield ends;
  }
}
