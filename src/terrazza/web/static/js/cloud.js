// The cloud in the browser: scans with their nodes, what is loaded of them, and the materials that draw them.
import * as THREE from "../vendor/three.module.js";
import { holds } from "./boxes.js";
import { early, nodesIn } from "./glance.js";
import { Heap } from "./heap.js";
import { layout, planeAt, planesOf, setLayout, strideOf } from "./layout.js";
import { classColour, rgb, scanColour } from "./palette.js";
import { marksMaterial, pointsMaterial, sharedUniforms } from "./shader.js";
import { again, ask, notice, tell } from "./trouble.js";

const CACHE_BYTES = 256e6,
  FLIGHTS = 4,
  ANSWER = { points: 40_000, nodes: 64 };

const TRIED = "#b4512f",
  TRIED_SIZE = 3; // colour and size (px) of points that a try-out would take

export class Cloud {
  constructor(job, state, { onChange, onMore, onStale }) {
    this.job = job;
    this.onStale = onStale; // the job has changed meanwhile: the scene must be loaded anew
    state.lend(this, ["hiddenScans", "hiddenClasses", "shade"]);
    this.onChange = onChange; // nodes have come
    this.onMore = onMore; // a tree has come: other nodes may be wanted
    this.scene = new THREE.Scene();
    this.scene.matrixWorldAutoUpdate = false;
    this.scans = new Map();
    this.loaded = 0;
    this.flights = 0;
    this.clock = 0;
    this.classData = new Uint8Array(256 * 4);
    this.classTexture = new THREE.DataTexture(this.classData, 256, 1);
    this.shared = sharedUniforms(this.classTexture);
    this.paintClasses();
  }

  paintClasses() {
    for (let c = 0; c < 256; c++) {
      const [r, g, b] = rgb(classColour(c));
      this.classData.set([r * 255, g * 255, b * 255, this.hiddenClasses.has(c) ? 0 : 255], 4 * c);
    }
    this.classTexture.needsUpdate = true;
  }

  async askScene() {
    return (await ask(`/jobs/${this.job}/scene.json`, { cache: "reload" })).json();
  }

  // Fetch the scene; scans whose points did not change keep their nodes, whatever their new pose. An answer that a later one overtook says nothing.
  async load() {
    const data = await (this.data ? this.askScene() : early.scene);
    this.shift = null;
    if (data.state < this.data?.state) return this.data;
    const moved = !this.data || this.data.origin.some((v, k) => v !== data.origin[k]);
    this.shift = moved && this.data ? data.origin.map((v, k) => v - this.data.origin[k]) : null;
    this.data = data;
    setLayout(data.layout);
    const there = new Set(data.scans.map((s) => s.id));
    for (const [id, scan] of this.scans) if (!there.has(id)) this.dropScan(scan, id);
    for (const record of data.scans) {
      let scan = this.scans.get(record.id);
      if (scan && (scan.record.size !== record.size || scan.record.points !== record.points)) {
        this.dropScan(scan, record.id);
        scan = null;
      }
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
    for (const node of scan.nodes)
      if (record.blocks[node.block] !== scan.record.blocks[node.block]) node.old = true;
  }

  // A scan begins with its root alone, so that its first points need not wait for the tree.
  makeScan(record) {
    const tone = record.intensity ?? [0, 65535];
    const stand = new THREE.Vector4(0, 0, 0, record.station ? 1 : 0);
    const about = { colour: scanColour(record.id), tone, stand };
    const make = (faint) => pointsMaterial(this.shared, { ...about, faint });
    const scan = {
      id: record.id,
      nodes: [],
      record,
      matrix: new THREE.Matrix4(),
      stand,
      solid: make(false),
      faint: make(true),
      whole: false,
    };
    this.addNode(scan, null, 0, record.root, record.blocks.length - 1);
    return scan;
  }

  addNode(scan, parent, octant, count, block) {
    const edge = parent ? parent.edge / 2 : scan.record.size,
      low = parent ? parent.corner : scan.record.low;
    const corner = parent ? low.map((v, k) => v + ((octant >> k) & 1) * edge) : [...low];
    const node = {
      scan,
      number: scan.nodes.length,
      level: parent ? parent.level + 1 : 0,
      count,
      block,
      spacing: edge / 32,
      edge,
      corner,
      children: [],
      points: null,
      pending: false,
      old: false,
      used: 0,
      centre: new THREE.Vector3(),
      radius: edge * 0.8661,
    };
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
      const url = `/jobs/${this.job}/scene/tree/${scan.id}/${scan.record.version}`;
      const buffer = await (await again(() => ask(url))).arrayBuffer();
      if (!scan.gone) this.grow(scan, buffer);
    } catch (error) {
      if (!scan.gone) this.lost(scan, error);
    } finally {
      this.flights--;
      this.onMore();
    }
  }

  // The nodes of a scan, from the columns that the server says them in.
  grow(scan, buffer) {
    const n = buffer.byteLength / 13;
    const [parent, count, block] = [Int32Array, Uint32Array, Uint32Array].map(
      (of, k) => new of(buffer, 4 * k * n, n),
    );
    const octant = new Uint8Array(buffer, 12 * n, n);
    scan.nodes[0].block = block[0];
    for (let k = 1; k < n; k++) {
      this.aim(this.addNode(scan, scan.nodes[parent[k]], octant[k], count[k], block[k]));
    }
  }

  // Points that did not come although they were asked for again and again: said, and not asked for before the scan changes.
  lost(scan, error) {
    if (error.status === 404) return this.onStale();
    tell(error);
    notice(`Some points of scan ${scan.id} did not arrive; load the page anew to ask for them again.`);
  }

  dropScan(scan, id) {
    this.scans.delete(id);
    for (const node of scan.nodes) this.unload(node);
    scan.solid.dispose();
    scan.faint.dispose();
    scan.gone = true;
  }

  unload(node) {
    if (!node.points) return;
    this.loaded -= node.count * strideOf(node.shade);
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
    node.centre
      .set(node.corner[0] + half, node.corner[1] + half, node.corner[2] + half)
      .applyMatrix4(node.scan.matrix);
    if (node.points) this.place(node);
  }

  place(node) {
    const m = node.points.matrix;
    const drift = node.scan.record.drift,
      edge = node.edge + 2 * drift; // the cube that a node's points are counted in
    m.makeScale(edge, edge, edge)
      .setPosition(...node.corner.map((v) => v - drift))
      .premultiply(node.scan.matrix);
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
    const n = places.length / 3,
      geometry = new THREE.BufferGeometry(),
      first = new Float32Array(4 * n);
    for (let k = 0; k < n; k++) first.set(places.subarray(3 * k, 3 * k + 3), 4 * k);
    geometry.setAttribute("position", new THREE.BufferAttribute(first, 4));
    for (const name of layout.planes.slice(1))
      geometry.setAttribute(name, new THREE.BufferAttribute(new Uint8Array(4 * n), 4, true));
    const material = marksMaterial(this.shared, TRIED, TRIED_SIZE);
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
    const heap = new Heap(),
      chosen = [];
    const push = (node) => {
      if (view.touches(node)) heap.push(node, node.radius * view.pixelsPerMetre(node.centre));
    };
    for (const scan of this.visibleScans()) push(scan.nodes[0]);
    let total = 0;
    for (let node; (node = heap.pop()); ) {
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
    for (const list of lists)
      list.forEach((node, rank) => {
        if (
          (!node.points || node.old || this.unshaded(node)) &&
          !node.pending &&
          node.count &&
          node.lost !== node.scan.record.version
        )
          wanted.set(node, Math.min(rank, wanted.get(node) ?? 1e9));
      });
    let queue = [...wanted.keys()].sort((a, b) => wanted.get(a) - wanted.get(b));
    while (queue.length && this.flights < FLIGHTS) {
      const scan = queue[0].scan,
        batch = [],
        rest = [];
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
      for (const node of nodesIn(buffer))
        if (this.scans.has(node.scan)) this.receive(this.scans.get(node.scan), buffer, node);
    } finally {
      this.flights--;
      roots.forEach((n) => (n.pending = false));
      this.onChange();
    }
  }

  // Whether a node has come without the dimension that is shown.
  unshaded(node) {
    return this.shade !== null && node.shade !== this.shade.key;
  }

  async fetchNodes(scan, batch) {
    const shade = this.shade?.key ?? "";
    this.flights++;
    for (const n of batch) n.pending = true;
    const { version } = scan.record,
      current = () => !scan.gone && version === scan.record.version;
    try {
      const url = `/jobs/${this.job}/scene/nodes/${scan.id}/${version}?n=${batch.map((n) => n.number).join(",")}${shade && `&shade=${shade}`}`;
      const buffer = await (await again(() => ask(url))).arrayBuffer();
      if (current()) this.receiveAll(scan, buffer, shade);
    } catch (error) {
      if (current()) {
        for (const n of batch) n.lost = version;
        this.lost(scan, error);
      }
    } finally {
      this.flights--;
      for (const n of batch) n.pending = false;
      this.onChange();
    }
  }

  receiveAll(scan, buffer, shade) {
    for (const node of nodesIn(buffer, scan.id)) this.receive(scan, buffer, node, shade);
  }

  receive(scan, buffer, { number, count, at }, shade = "") {
    const node = scan.nodes[number];
    if (node.points && (node.old || (shade && node.shade !== shade))) this.unload(node);
    if (node.points) return;
    const geometry = new THREE.BufferGeometry();
    node.shade = shade;
    for (const name of planesOf(shade)) {
      const from = at + planeAt(name, count),
        first = name === "first",
        values = first ? new Uint16Array(buffer, from, 4 * count) : new Uint8Array(buffer, from, 4 * count);
      geometry.setAttribute(first ? "position" : name, new THREE.BufferAttribute(values, 4, true));
    }
    node.points = new THREE.Points(geometry, scan.solid);
    node.points.frustumCulled = false;
    node.points.matrixAutoUpdate = node.points.matrixWorldAutoUpdate = false;
    node.points.visible = false;
    this.place(node);
    this.scene.add(node.points);
    this.loaded += strideOf(shade) * count;
  }

  evict() {
    const idle = [];
    for (const scan of this.scans.values())
      for (const node of scan.nodes) if (node.points && node.used < this.clock - 2) idle.push(node);
    idle.sort((a, b) => a.used - b.used);
    while (this.loaded > CACHE_BYTES * 0.8 && idle.length) this.unload(idle.shift());
  }

  // Whether a loaded point is drawn, by the same rules as the shader (world z, class, cut, slab, wall slab).
  shows(node, k, x, y, z, limits) {
    if (limits.box && !holds(limits.box, x, y, z)) return false;
    const value = ([plane, slot]) => node.points.geometry.attributes[plane].array[4 * k + slot];
    if (
      value(layout.flags) & (layout.hides | this.shared.uHidden.value) ||
      this.hiddenClasses.has(value(layout.slots.class))
    )
      return false;
    if (limits.slab && (z < limits.slab[0] || z > limits.slab[1])) return false;
    if (!limits.wall) return true;
    const [ux, uy, from, to] = limits.along,
      s = ux * x + uy * y;
    return (
      Math.abs(limits.wall[0] * x + limits.wall[1] * y - limits.wall[2]) <= limits.wall[3] &&
      s >= from &&
      s <= to
    );
  }
}
