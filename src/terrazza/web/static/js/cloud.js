// The cloud in the browser: scans with their nodes, what is loaded of them, and the materials that draw them.
import * as THREE from "../vendor/three.module.js";
import { holds } from "./boxes.js";
import { early, nodesIn } from "./glance.js";
import { declarations, layout, planeAt, rampModes, setLayout } from "./layout.js";
import { classColour, rgb, scanColour } from "./palette.js";

const MODES = ["intensity", "native", "photo", "scan", "class", "height"];
export const modes = () => [...MODES, ...rampModes()]; // colourings, in the shader's numbers
// both kinds count as not opaque, so that they share one compiled program
const NO_BLENDING = 0, NORMAL_BLENDING = 1;
const CACHE_BYTES = 256e6, FLIGHTS = 4, ANSWER = { points: 40_000, nodes: 64 };

const vertex = () => `precision highp float; precision highp int;
${declarations()}
uniform mat4 modelMatrix, viewMatrix, projectionMatrix;
uniform int uMode, uBoxOn; uniform float uSize, uGrow; uniform mat4 uBox; uniform bool uFacing; uniform vec4 uEye, uStand; uniform vec2 uHeights, uTone, uSlab; uniform bool uSlabOn, uWallOn; uniform vec3 uScan, uInk; uniform vec4 uWall, uAlong;
uniform highp sampler2D uClasses;
out vec3 vColour;
vec3 ramp(float t) {
  vec3 a = vec3(.173, .431, .561), b = vec3(.424, .478, .184), c = vec3(.914, .773, .231), d = vec3(.706, .318, .184);
  return t < .33 ? mix(a, b, t * 3.) : t < .66 ? mix(b, c, t * 3. - 1.) : mix(c, d, min(t * 3. - 2., 1.));
}
void main() {
  vec4 w = modelMatrix * vec4(position.xyz, 1.);
  vec4 kind = texelFetch(uClasses, ivec2(int(KIND * 255. + .5), 0), 0);
  bool gone = FLAGS > .001 || kind.a < .5 || (uSlabOn && (w.z < uSlab.x || w.z > uSlab.y)) || (uWallOn && (abs(dot(uWall.xy, w.xy) - uWall.z) > uWall.w || dot(uAlong.xy, w.xy) < uAlong.z || dot(uAlong.xy, w.xy) > uAlong.w));
  bool boxed = all(lessThanEqual(abs((uBox * w).xyz), vec3(1.)));
  gone = gone || (uBoxOn == 1 && !boxed) || (uBoxOn == 2 && boxed);
  // a point is seen from behind where the eye lies on the other side of it than its station
  gone = gone || (uFacing && uStand.w > .5 && dot(uEye.w > .5 ? uEye.xyz - w.xyz : uEye.xyz, uStand.xyz - w.xyz) < 0.);
  gl_Position = gone ? vec4(3., 3., 3., 1.) : projectionMatrix * viewMatrix * w;
  gl_PointSize = uGrow > 0. ? clamp(uSize * uGrow / gl_Position.w, 1., 4. * uSize) : uSize;
  float tone = clamp((TONE * 65535. - uTone.x) / max(uTone.y - uTone.x, 1.), 0., 1.);
  if (uMode == 0) vColour = mix(vec3(.09, .12, .12), vec3(.93, .90, .82), pow(tone, .8));
  else if (uMode == 1) vColour = dot(NATIVE, vec3(1.)) > 0. ? NATIVE : vec3(.62, .60, .55) * (.6 + .4 * tone);
  else if (uMode == 2) vColour = dot(PHOTO, vec3(1.)) > 0. ? PHOTO : vec3(.62, .60, .55) * (.6 + .4 * tone);
  else if (uMode == 3) vColour = uScan * (.72 + .28 * tone);
  else if (uMode == 4) vColour = kind.rgb * (.75 + .25 * tone);
  else if (uMode == 5) vColour = ramp(clamp((w.z - uHeights.x) / (uHeights.y - uHeights.x), 0., 1.)) * (.75 + .25 * tone);
  else if (uMode < 0) vColour = uInk;
  else vColour = ramp(RAMP(uMode));
}`;
const FRAGMENT = `precision mediump float; in vec3 vColour; uniform float uAlpha; out vec4 colour; void main() { colour = vec4(vColour, uAlpha); }`;

// A queue that gives back what weighs most.
class Heap {
  constructor() { this.items = []; this.weights = []; }
  push(item, weight) {
    const { items, weights } = this;
    let k = items.length;
    for (let up; k && weights[(up = (k - 1) >> 1)] < weight; k = up) { items[k] = items[up]; weights[k] = weights[up]; }
    items[k] = item;
    weights[k] = weight;
  }
  pop() {
    const { items, weights } = this, top = items[0], item = items.pop(), weight = weights.pop();
    if (!items.length) return top;
    let k = 0;
    for (let down; (down = 2 * k + 1) < items.length; k = down) {
      if (down + 1 < items.length && weights[down + 1] > weights[down]) down++;
      if (weights[down] <= weight) break;
      items[k] = items[down];
      weights[k] = weights[down];
    }
    items[k] = item;
    weights[k] = weight;
    return top;
  }
}

export class Cloud {
  constructor(job, onChange, onMore) {
    this.job = job;
    this.onChange = onChange; // nodes have come
    this.onMore = onMore; // a tree has come: other nodes may be wanted
    this.scene = new THREE.Scene();
    this.scene.matrixWorldAutoUpdate = false;
    this.scans = new Map();
    this.loaded = 0;
    this.flights = 0;
    this.clock = 0;
    this.hiddenScans = new Set();
    this.hiddenClasses = new Set();
    this.classData = new Uint8Array(256 * 4);
    this.classTexture = new THREE.DataTexture(this.classData, 256, 1);
    this.shared = {
      uMode: { value: 0 }, uSize: { value: 2 }, uHeights: { value: new THREE.Vector2(0, 10) }, uSlab: { value: new THREE.Vector2(-1e9, 1e9) }, uSlabOn: { value: false }, uWallOn: { value: false },
      uWall: { value: new THREE.Vector4() }, uAlong: { value: new THREE.Vector4() }, uBox: { value: new THREE.Matrix4() }, uBoxOn: { value: 0 }, uFacing: { value: false }, uEye: { value: new THREE.Vector4() }, uGrow: { value: 0 }, uClasses: { value: this.classTexture }, uInk: { value: new THREE.Color(0x1d2b2a) },
    };
    this.paintClasses();
  }

  paintClasses() {
    for (let c = 0; c < 256; c++) {
      const [r, g, b] = rgb(classColour(c));
      this.classData.set([r * 255, g * 255, b * 255, this.hiddenClasses.has(c) ? 0 : 255], 4 * c);
    }
    this.classTexture.needsUpdate = true;
  }

  async ask() {
    const answer = await fetch(`/jobs/${this.job}/scene.json`, { cache: "reload" });
    if (!answer.ok) throw new Error((await answer.json()).message);
    return answer.json();
  }

  // Fetch the scene; scans whose points did not change keep their nodes, whatever their new pose.
  async load() {
    const data = await (this.data ? this.ask() : early.scene);
    const moved = !this.data || this.data.origin.some((v, k) => v !== data.origin[k]);
    this.shift = moved && this.data ? data.origin.map((v, k) => v - this.data.origin[k]) : null;
    this.data = data;
    setLayout(data.layout);
    const there = new Set(data.scans.map((s) => s.id));
    for (const [id, scan] of this.scans) if (!there.has(id)) this.dropScan(scan), this.scans.delete(id);
    for (const record of data.scans) {
      let scan = this.scans.get(record.id);
      if (scan && (scan.record.size !== record.size || scan.record.points !== record.points)) this.dropScan(scan), scan = null;
      if (!scan) this.scans.set(record.id, (scan = this.makeScan(record)));
      else this.renew(scan, record);
      Object.assign(scan, { record, name: record.name });
      this.setPose(scan, record.pose);
    }
    return data;
  }

  // Nodes in blocks that changed are asked for again; until they come, the old ones stay on screen.
  renew(scan, record) {
    if (scan.record.version === record.version) return;
    for (const node of scan.nodes) if (record.blocks[node.block] !== scan.record.blocks[node.block]) node.old = true;
  }

  // A scan begins with its root alone, so that its first points need not wait for the tree.
  makeScan(record) {
    const tone = record.intensity ?? [0, 65535];
    const stand = new THREE.Vector4(0, 0, 0, record.station ? 1 : 0);
    const make = (faint) => new THREE.RawShaderMaterial({
      vertexShader: vertex(), fragmentShader: FRAGMENT, glslVersion: THREE.GLSL3, blending: faint ? NORMAL_BLENDING : NO_BLENDING, depthTest: !faint, depthWrite: !faint, transparent: faint,
      uniforms: { ...this.shared, uScan: { value: new THREE.Color(...rgb(scanColour(record.id))) }, uTone: { value: new THREE.Vector2(...tone) }, uAlpha: { value: faint ? 0.2 : 1 }, uStand: { value: stand } },
    });
    const scan = { id: record.id, nodes: [], record, matrix: new THREE.Matrix4(), stand, solid: make(false), faint: make(true), whole: false };
    this.addNode(scan, null, 0, record.root, record.blocks.length - 1);
    return scan;
  }

  addNode(scan, parent, octant, count, block) {
    const edge = parent ? parent.edge / 2 : scan.record.size, low = parent ? parent.corner : scan.record.low;
    const corner = parent ? low.map((v, k) => v + ((octant >> k) & 1) * edge) : [...low];
    const node = { scan, number: scan.nodes.length, level: parent ? parent.level + 1 : 0, count, block, spacing: edge / 32, edge, corner, children: [], points: null, pending: false, old: false, used: 0, centre: new THREE.Vector3(), radius: edge * 0.8661 };
    scan.nodes.push(node);
    parent?.children.push(node);
    return node;
  }

  fetchTrees() {
    for (const scan of this.scans.values()) if (!scan.whole) this.fetchTree(scan);
  }

  async fetchTree(scan) {
    scan.whole = true;
    this.flights++;
    try {
      const answer = await fetch(`/jobs/${this.job}/scene/tree/${scan.id}/${scan.record.version}`);
      if (!answer.ok) throw new Error();
      const buffer = await answer.arrayBuffer(), n = buffer.byteLength / 13;
      const parent = new Int32Array(buffer, 0, n), count = new Uint32Array(buffer, 4 * n, n), block = new Uint32Array(buffer, 8 * n, n), octant = new Uint8Array(buffer, 12 * n, n);
      if (scan.gone) return;
      scan.nodes[0].block = block[0];
      for (let k = 1; k < n; k++) this.aim(this.addNode(scan, scan.nodes[parent[k]], octant[k], count[k], block[k]));
    } catch {
      scan.whole = false;
      await new Promise((done) => setTimeout(done, 400));
    } finally {
      this.flights--;
      this.onMore();
    }
    if (!scan.whole && !scan.gone) this.fetchTree(scan);
  }

  dropScan(scan) {
    for (const node of scan.nodes) this.unload(node);
    scan.solid.dispose();
    scan.faint.dispose();
    scan.gone = true;
  }

  unload(node) {
    if (!node.points) return;
    this.loaded -= node.count * layout.stride;
    node.old = false;
    this.scene.remove(node.points);
    node.points.geometry.dispose();
    node.points = null;
  }

  setPose(scan, rowMajor) {
    scan.matrix.set(...rowMajor);
    scan.stand.set(rowMajor[3], rowMajor[7], rowMajor[11], scan.stand.w);
    for (const node of scan.nodes) this.aim(node);
  }

  aim(node) {
    const half = node.edge / 2;
    node.centre.set(node.corner[0] + half, node.corner[1] + half, node.corner[2] + half).applyMatrix4(node.scan.matrix);
    if (node.points) this.place(node);
  }

  place(node) {
    const m = node.points.matrix;
    const drift = node.scan.record.drift, edge = node.edge + 2 * drift; // the cube that a node's points are counted in
    m.makeScale(edge, edge, edge).setPosition(...node.corner.map((v) => v - drift)).premultiply(node.scan.matrix);
    node.points.matrixWorld.copy(m);
  }

  // Points over the others in the colour of what would go, or none (null).
  setMarks(places) {
    if (this.marks) {
      this.scene.remove(this.marks);
      this.marks.geometry.dispose();
      this.marks.material.dispose();
      this.marks = null;
    }
    if (!places?.length) return;
    const n = places.length / 3, geometry = new THREE.BufferGeometry(), first = new Float32Array(4 * n);
    for (let k = 0; k < n; k++) first.set(places.subarray(3 * k, 3 * k + 3), 4 * k);
    geometry.setAttribute("position", new THREE.BufferAttribute(first, 4));
    for (const name of layout.planes.slice(1)) geometry.setAttribute(name, new THREE.BufferAttribute(new Uint8Array(4 * n), 4, true));
    const ink = new THREE.Color(...rgb("#b4512f"));
    const material = new THREE.RawShaderMaterial({
      vertexShader: vertex(), fragmentShader: FRAGMENT, glslVersion: THREE.GLSL3, blending: NO_BLENDING, depthTest: false, depthWrite: false,
      uniforms: { ...this.shared, uMode: { value: -1 }, uSize: { value: 3 }, uGrow: { value: 0 }, uFacing: { value: false }, uInk: { value: ink }, uScan: { value: ink }, uTone: { value: new THREE.Vector2(0, 1) }, uAlpha: { value: 1 }, uStand: { value: new THREE.Vector4() } },
    });
    this.marks = new THREE.Points(geometry, material);
    this.marks.frustumCulled = this.marks.matrixAutoUpdate = this.marks.matrixWorldAutoUpdate = false;
    this.marks.renderOrder = 9;
    this.scene.add(this.marks);
  }

  visibleScans() {
    return [...this.scans.values()].filter((s) => !this.hiddenScans.has(s.id));
  }

  // Nodes to draw in a view, coarse first and then where they cover most of the screen, within its budget.
  select(view) {
    const heap = new Heap(), chosen = [];
    const push = (node) => { if (view.touches(node)) heap.push(node, node.radius * view.pixelsPerMetre(node.centre)); };
    for (const scan of this.visibleScans()) push(scan.nodes[0]);
    let total = 0;
    for (let node; (node = heap.pop());) {
      if (total + node.count > view.budget && node.level > 0) break;
      total += node.count;
      node.used = this.clock;
      chosen.push(node);
      if (node.spacing * view.pixelsPerMetre(node.centre) > 0.9) node.children.forEach(push);
    }
    return chosen;
  }

  // Ask for what the views want and do not have yet, most urgent first.
  fetchMissing(lists) {
    this.clock++;
    const wanted = new Map();
    for (const list of lists) list.forEach((node, rank) => {
      if ((!node.points || node.old) && !node.pending && node.count) wanted.set(node, Math.min(rank, wanted.get(node) ?? 1e9));
    });
    let queue = [...wanted.keys()].sort((a, b) => wanted.get(a) - wanted.get(b));
    while (queue.length && this.flights < FLIGHTS) {
      const scan = queue[0].scan, batch = [], rest = [];
      let points = 0;
      for (const node of queue) {
        const fits = node.scan === scan && points < ANSWER.points && batch.length < ANSWER.nodes;
        (fits ? batch : rest).push(node);
        if (fits) points += node.count;
      }
      queue = rest;
      this.fetchNodes(scan, batch);
    }
    if (this.loaded > CACHE_BYTES) this.evict();
    this.waiting = queue.length;
  }

  // The coarsest points of all scans in one answer.
  async fetchRoots() {
    const roots = [...this.scans.values()].map((scan) => scan.nodes[0]);
    this.flights++;
    roots.forEach((n) => (n.pending = true));
    try {
      const buffer = await early.roots;
      for (const node of nodesIn(buffer)) if (this.scans.has(node.scan)) this.receive(this.scans.get(node.scan), buffer, node);
    } finally {
      this.flights--;
      roots.forEach((n) => (n.pending = false));
      this.onChange();
    }
  }

  async fetchNodes(scan, batch) {
    this.flights++;
    batch.forEach((n) => (n.pending = true));
    const { version } = scan.record;
    try {
      const answer = await fetch(`/jobs/${this.job}/scene/nodes/${scan.id}/${version}?n=${batch.map((n) => n.number).join(",")}`);
      if (answer.ok && !scan.gone && version === scan.record.version) this.receiveAll(scan, await answer.arrayBuffer());
      else if (!answer.ok) await new Promise((done) => setTimeout(done, 400));
    } catch {
      await new Promise((done) => setTimeout(done, 800));
    } finally {
      this.flights--;
      batch.forEach((n) => (n.pending = false));
      this.onChange();
    }
  }

  receiveAll(scan, buffer) {
    for (const node of nodesIn(buffer, scan.id)) this.receive(scan, buffer, node);
  }

  receive(scan, buffer, { number, count, at }) {
    const node = scan.nodes[number];
    if (node.points && node.old) this.unload(node);
    if (node.points) return;
    const geometry = new THREE.BufferGeometry();
    for (const name of layout.planes) {
      const from = at + planeAt(name, count), first = name === "first", values = first ? new Uint16Array(buffer, from, 4 * count) : new Uint8Array(buffer, from, 4 * count);
      geometry.setAttribute(first ? "position" : name, new THREE.BufferAttribute(values, 4, true));
    }
    node.points = new THREE.Points(geometry, scan.solid);
    node.points.frustumCulled = false;
    node.points.matrixAutoUpdate = node.points.matrixWorldAutoUpdate = false;
    node.points.visible = false;
    this.place(node);
    this.scene.add(node.points);
    this.loaded += layout.stride * count;
  }

  evict() {
    const idle = [];
    for (const scan of this.scans.values()) for (const node of scan.nodes) if (node.points && node.used < this.clock - 2) idle.push(node);
    idle.sort((a, b) => a.used - b.used);
    while (this.loaded > CACHE_BYTES * 0.8 && idle.length) this.unload(idle.shift());
  }

  // Whether a loaded point is drawn, by the same rules as the shader (world z, class, cut, slab, wall slab).
  shows(node, k, x, y, z, limits) {
    if (limits.box && !holds(limits.box, x, y, z)) return false;
    const value = ([plane, slot]) => node.points.geometry.attributes[plane].array[4 * k + slot];
    if (value(layout.flags) || this.hiddenClasses.has(value(layout.slots.class))) return false;
    if (limits.slab && (z < limits.slab[0] || z > limits.slab[1])) return false;
    if (!limits.wall) return true;
    const [ux, uy, from, to] = limits.along, s = ux * x + uy * y;
    return Math.abs(limits.wall[0] * x + limits.wall[1] * y - limits.wall[2]) <= limits.wall[3] && s >= from && s <= to;
  }
}
