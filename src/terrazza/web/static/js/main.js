// The table: one renderer, three linked views, the tools, and the wiring to sheets and field book.
import * as THREE from "../vendor/three.module.js";
import { Cloud, modes } from "./cloud.js";
import * as boxes from "./boxes.js";
import { Edges } from "./edges.js";
import * as frame from "./frame.js";
import * as files from "./files.js";
import * as marks from "./marks.js";
import { classColour, scanColour } from "./palette.js";
import { field, metres, said } from "./notation.js";
import { notice } from "./notice.js";
import { nearest } from "./picking.js";
import * as places from "./places.js";
import { wirePointers } from "./pointers.js";
import { PlanPicture } from "./plan.js";
import { StationView } from "./station.js";
import { Regions } from "./regions.js";
import { readout } from "./readout.js";
import * as tables from "./tables.js";
import { send, show } from "./gestures.js";
import { TOOLS } from "./tools.js";
import { TryOut } from "./tryout.js";
import { PlanView, SlabView, SpaceView, TwinView } from "./views.js";

const REST = 250; // ms without a change, and the views are drawn in full
const $ = (id) => document.getElementById(id), host = $("table"), canvas = $("canvas");

class Table {
  constructor() {
    this.job = document.body.dataset.job;
    this.cloud = new Cloud(this.job, () => this.arrived(), () => this.rest());
    this.plan = new PlanView($("plan"));
    this.space = new SpaceView($("space"));
    this.slab = new SlabView($("slab"));
    this.twin = new TwinView($("twin"), this.space);
    this.all = [this.plan, this.space, this.slab, this.twin];
    this.station = new StationView($("station"), this);
    this.regions = new Regions(this);
    this.tries = new TryOut(this);
    this.picture = new PlanPicture($("plan-picture"), this);
    Object.assign(this, { mode: "intensity", planMode: "walls", floor: null, pitch: 0.1, size: 2, marks: true, tool: "pick", draft: null, box: null, grow: false, facing: false, picked: null, outline: null, moving: null, slabOn: false, slabHeight: 0, slabThickness: 0.1, fitted: false, waiters: [] });
    new ResizeObserver(() => this.dirty()).observe(host);
    wirePointers(this);
    this.makeRenderer();
  }

  get views() { return this.all.filter((v) => !v.pane.hidden); }

  makeRenderer() {
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: false, alpha: false, stencil: false, preserveDrawingBuffer: true, powerPreference: "high-performance" });
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2));
    this.renderer.autoClear = false;
    this.renderer.setScissorTest(true);
    const gl = this.renderer.getContext(), info = gl.getExtension("WEBGL_debug_renderer_info");
    this.soft = /swiftshader|llvmpipe|softpipe|software/i.test(info ? gl.getParameter(info.UNMASKED_RENDERER_WEBGL) : "");
    this.share(+localStorage.getItem("points") || (this.soft ? 1e6 : 4e6));
    this.shaded = !this.soft;
    this.edges = null;
  }

  // How many points a view draws: few while something moves, and as many as are wanted when all has come to rest. One sum for all views.
  share(points) {
    this.points = Math.min(Math.max(points, 5e4), 2e7);
    const moving = Math.min(this.points, this.soft ? 1e5 : 2e6), parts = [0.1, 1, 0.3, 1];
    this.all.forEach((v, k) => (v.budgets = [Math.max(moving * parts[k], Math.min(moving, 7e4)), Math.max(this.points * parts[k], Math.min(this.points, 7e4))]));
  }

  // All views draw more, or fewer, points when at rest; remembered in this browser.
  detail(factor) {
    this.share(this.points * factor);
    localStorage.setItem("points", this.points);
    this.dirty();
  }

  // Nodes have come: ask for the next at once, and draw, but not for every few while many are on their way.
  arrived() {
    this.cloud.fetchMissing(this.views.map((v) => v.chosen));
    if (!this.first || this.cloud.flights + this.cloud.waiting === 0) return this.draw();
    this.drawing ??= setTimeout(() => { this.drawing = null; this.draw(); }, this.soft ? 900 : 60);
  }

  // Nothing moves: all views are drawn in full, what is coarse first.
  rest() {
    clearTimeout(this.resting);
    this.still = true;
    this.views.forEach((v) => (v.dirty = true));
    this.draw();
  }

  state(name) {
    host.dataset.state = name;
    if (name === "idle") this.waiters.splice(0).forEach((done) => done());
  }

  idle() { return host.dataset.state === "idle" ? Promise.resolve() : new Promise((done) => this.waiters.push(done)); }

  async reload() {
    this.state("loading");
    try {
      const data = await this.cloud.load();
      document.body.dataset.loaded = data.state;
    } catch (error) {
      this.state("error");
      notice(error.message);
      return;
    }
    if (!this.fitted) this.cloud.fetchRoots();
    setTimeout(() => { this.cloud.fetchTrees(); this.picture.load(); });
    if (this.cloud.shift) this.shiftViews(this.cloud.shift);
    if (!this.fitted || this.wasPlaced !== this.placedKey()) this.fit();
    this.lists();
    const coming = this.comingBox?.(this.cloud.data);
    if (coming) { this.comingBox = null; this.showBox(coming); }
    if (this.station.shown) this.stand(this.station.about.key);
    this.rest();
  }

  placedKey() { return this.cloud.data.scans.map((s) => `${s.id}${s.placed}`).join() + this.cloud.data.georeferenced; }

  shiftViews(d) {
    for (const p of [this.plan.centre, ...this.slab.path]) { p[0] -= d[0]; p[1] -= d[1]; }
    this.space.target.sub(new THREE.Vector3(...d));
    this.slab.height -= d[2];
    this.slabHeight -= d[2];
    this.picked = null;
    this.draft = null;
  }

  // The places people worked at: stations with some metres around, within what the scans reach.
  extent() {
    return frame.extent(this.cloud.visibleScans().map((s) => ({ bounds: s.record.bounds, at: [...s.matrix.elements.slice(12, 15)], how: s.record.how })));
  }

  fit() {
    const box = this.extent(), rect = canvas.getBoundingClientRect();
    this.views.forEach((v) => v.layout(rect));
    const scans = this.cloud.visibleScans(), first = scans.find((s) => s.record.placed) ?? scans[0];
    const middle = first ? [first.matrix.elements[12], first.matrix.elements[13]] : [0, 0];
    this.slab.path = lineThrough(middle, this.cloud.data.direction, box);
    this.views.forEach((v) => v.fit(box));
    this.cloud.shared.uHeights.value.set(box.min[2], box.max[2]);
    if (!this.slabOn) this.slabHeight = first ? first.matrix.elements[14] - 0.3 : 0;
    this.fitted = scans.length > 0;
    this.wasPlaced = this.placedKey();
    this.showSlab();
    this.dirty();
  }

  slabSaid() { return `slab at ${said(this.cloud.data.notation, this.slabHeight + this.cloud.data.origin[2], 2)}`; }

  planSlab() { return [this.slabHeight - this.slabThickness / 2, this.slabHeight + this.slabThickness / 2]; }

  showSlab() {
    const note = this.cloud.data?.notation, height = this.slabHeight + (this.cloud.data?.origin[2] ?? 0);
    for (const [id, value] of [["slab-height", height], ["slab-thickness", this.slabThickness], ["wall-thickness", this.slab.thickness], ["slab-pitch", this.pitch]]) $(id).value = field(note, value);
    $("slab-unit").textContent = note?.unit ?? "m";
    $("slab-on").checked = this.slabOn;
    const asked = document.querySelector('form[data-operation="draw.plan_slab"] input[name="height"]');
    if (asked && this.slabOn) asked.value = field(note, height);
  }

  // Something moved: in one view, or in all.
  dirty(only) {
    clearTimeout(this.resting);
    this.still = this.all.every((v) => v.budgets[0] === v.budgets[1]);
    const moved = only ? this.views.filter((v) => v === only || v.first === only) : this.views;
    moved.forEach((v) => (v.dirty = true));
    this.draw(moved);
  }

  // Draw some views anew with the next frame, by default all.
  draw(views = this.all) {
    views.forEach((v) => (v.stale = true));
    this.paint = true;
    this.overlay();
  }

  // What lies over the points only: marks, the outline being drawn, measures.
  overlay() {
    if (this.frame) return;
    this.frame = requestAnimationFrame(() => { this.frame = 0; this.paint ? this.render(false) : this.markViews(); });
  }

  markViews(views = this.views) {
    const by = { plan: marks.plan, space: marks.space, twin: marks.space, slab: marks.slab };
    for (const view of views) $(`${view.pane.id}-marks`).innerHTML = by[view.pane.id](view, this);
    if (views.length > 1) this.station.draw();
  }

  render(all = true) {
    if (all) this.all.forEach((v) => (v.stale = true));
    const rect = canvas.getBoundingClientRect(), { cloud, renderer } = this;
    if (!cloud.data || !renderer) return;
    this.paint = false;
    const ratio = renderer.getPixelRatio(), resized = canvas.width !== Math.floor(rect.width * ratio) || canvas.height !== Math.floor(rect.height * ratio);
    if (resized) {
      renderer.setSize(rect.width, rect.height, false);
      this.views.forEach((v) => (v.stale = true));
    }
    const slab = this.slabOn ? this.planSlab() : null;
    this.space.limits = this.twin.limits = { slab, box: this.box };
    this.plan.limits = { slab: within(slab, this.picture.floor()), box: this.box };
    this.slab.box = this.box;
    for (const view of this.views) {
      view.layout(rect);
      view.prepare();
      this.regions.want(view);
      const { parts, current } = this.regions.parts(view), cutOut = this.regions.of(view).wanted; // nodes fill in until a region's own points are there
      view.parts = parts;
      if (cutOut && current && view.chosen.length) { view.chosen = []; view.stale = true; }
      view.budget = view.budgets[cutOut ? 0 : +this.still];
      if (cutOut && current) view.dirty = false;
      if (view.dirty) { view.chosen = cloud.select(view); view.stale = true; }
      view.dirty = false;
    }
    cloud.fetchMissing(this.views.map((v) => v.chosen));
    const style = getComputedStyle(document.body);
    if (this.views.every((v) => v.stale)) {
      renderer.setScissorTest(false);
      renderer.setClearColor(style.backgroundColor);
      renderer.clear();
    }
    renderer.setScissorTest(true);
    renderer.setClearColor(style.getPropertyValue("--canvas").trim());
    cloud.shared.uInk.value.set(document.body.classList.contains("dusk") ? 0xe8e2d2 : 0x1d2b2a);
    const stale = this.views.filter((v) => v.stale);
    let shown = 0;
    if (this.shaded) this.edges ??= new Edges();
    const pictured = (this.picture.whole && !this.plan.stale) || this.picture.paint();
    for (const view of this.views) {
      const covered = view === this.plan && pictured; // its points would not be seen, and are drawn when they would
      if (!covered && (view.stale || view.behind)) this.renderView(view);
      view.behind = covered && (view.stale || view.behind);
      view.stale = false;
      shown = Math.max(shown, view.shown ?? 0);
    }
    this.note();
    this.markViews(stale);
    if (shown && !this.first) { this.first = true; performance.mark("live-points"); $("glance").remove(); }
    this.restate();
    clearTimeout(this.resting);
    const pause = performance.now() - (this.drawnAt ?? 0);
    this.drawnAt = performance.now();
    if (!this.still) this.resting = setTimeout(() => this.rest(), pause < 2000 ? Math.max(REST, 2 * pause) : REST);
  }

  get busy() { return this.regions.busy || this.cloud.flights > 0 || this.cloud.waiting > 0 || this.picture.busy || !this.still; }

  restate() {
    if (this.busy) this.state("rendering");
    else if (host.dataset.state !== "idle") requestAnimationFrame(() => { if (!this.busy && !this.frame) this.state("idle"); });
  }

  // A tile of the plan has come: the points need not be drawn again, unless they lie below it.
  pictured() {
    if (this.tiled) return;
    this.tiled = requestAnimationFrame(() => { this.tiled = 0; this.picture.whole === this.picture.paint() ? this.restate() : this.draw(); });
  }

  renderView(view) {
    const { renderer, cloud } = this, s = cloud.shared, r = view.rect;
    const faint = view === this.plan && ["walls", "density"].includes(this.planMode);
    s.uMode.value = faint ? -1 : modes().indexOf(view === this.plan && modes().includes(this.planMode) ? this.planMode : view.mode ?? this.mode);
    s.uSize.value = this.size * renderer.getPixelRatio() * (view.kind === "space" ? 1 : 0.85);
    s.uSlabOn.value = Boolean(view.limits.slab);
    if (view.limits.slab) s.uSlab.value.set(...view.limits.slab);
    let shown = 0;
    view.parts.forEach(Regions.aim);
    view.painted = [...view.chosen, ...view.parts];
    for (const node of view.painted) {
      if (!node.points) continue;
      node.points.visible = true;
      node.points.material = faint ? node.scan.faint : node.scan.solid;
      shown += node.count;
    }
    view.shown = shown;
    const parallel = view.camera.isOrthographicCamera;
    s.uFacing.value = this.facing;
    s.uGrow.value = this.grow && !parallel ? view.distance : 0;
    if (this.shaded) this.edges.begin(renderer);
    renderer.setViewport(r.x, r.y, r.width, r.height);
    renderer.setScissor(r.x, r.y, r.width, r.height);
    renderer.clear();
    for (const { camera, limits: { wall, along } } of view.passes) {
      const e = camera.matrixWorld.elements;
      parallel ? s.uEye.value.set(e[8], e[9], e[10], 0) : s.uEye.value.set(e[12], e[13], e[14], 1);
      s.uWallOn.value = Boolean(wall);
      if (wall) { s.uWall.value.set(...wall); s.uAlong.value.set(...along); }
      for (const node of view.painted) if (node.points) node.points.material.uniformsNeedUpdate = true;
      renderer.render(cloud.scene, camera);
    }
    if (this.shaded) this.edges.show(renderer, view, !faint);
    for (const node of view.painted) if (node.points) node.points.visible = false;
  }

  notice(message) { notice(message); }

  note() {
    const there = this.cloud.visibleScans().reduce((n, s) => n + s.record.points, 0), m = (v) => (v >= 999_500 ? `${(v / 1e6).toFixed(1)} M` : `${Math.round(v / 1e3)} k`);
    $("space-note").textContent = there ? `${m(this.space.shown)} of ${m(there)}` : "no points yet";
    $("plan-note").textContent = this.slabOn ? this.slabSaid() : "";
    const bends = this.slab.path.length - 2;
    $("slab-note").textContent = `A to B${bends ? `, ${bends} ${bends === 1 ? "bend" : "bends"}` : ""} · ${this.slab.stretch === 1 ? "true scale" : `heights × ${this.slab.stretch}`}`;
  }

  lists() {
    const { data } = this.cloud;
    $("scan-list").innerHTML = data.scans.map((s) => `<label><input type="checkbox" value="${s.id}" ${this.cloud.hiddenScans.has(s.id) ? "" : "checked"}><span class="swatch" style="background:${scanColour(s.id)}"></span>${s.id} ${s.name.replace(/[<&]/g, "")}</label>`).join("") || "no scans yet";
    $("class-list").innerHTML = Object.entries(data.classes).map(([c, n]) => `<label><input type="checkbox" value="${c}" ${this.cloud.hiddenClasses.has(+c) ? "" : "checked"}><span class="swatch" style="background:${classColour(+c)}"></span>${c} ${n}</label>`).join("") || "no classes yet";
    for (const b of document.querySelectorAll('[data-group="twin"] button')) b.classList.toggle("on", b.dataset.value === this.twin.mode);
    const any = (k) => data.scans.some((s) => s[k]);
    for (const b of document.querySelectorAll('[data-group="colour"] button, [data-group="twin"] button')) b.disabled = (b.dataset.value === "native" && !any("native")) || (b.dataset.value === "photo" && !any("photo"));
    this.colour(this.mode);
    dressSheet();
  }

  colour(mode) {
    if (mode !== this.mode) this.before = this.mode;
    this.mode = mode;
    for (const b of document.querySelectorAll('[data-group="colour"] button')) b.classList.toggle("on", b.dataset.value === mode);
    this.draw();
  }

  use(tool) {
    TOOLS[this.tool].leave?.(this);
    this.tool = tool;
    TOOLS[tool].enter?.(this);
    this.overlay();
    for (const b of document.querySelectorAll("[data-tool]")) b.classList.toggle("on", b.dataset.tool === tool);
  }

  clicked(view, x, y) {
    return TOOLS[this.tool].click?.(this, view, x, y);
  }

  planAs(how) {
    this.planMode = how;
    $("plan-as").value = how;
    this.draw();
  }

  showBox(box) { boxes.use(this, box && { ...box, kept: true }); }

  // Bring all views to a place in the grid or job frame.
  jump(at) {
    const p = at.map((v, k) => v - this.cloud.data.origin[k]);
    this.plan.centre = [p[0], p[1]];
    this.plan.scale = Math.min(this.plan.scale, 0.03);
    this.space.target.set(...p);
    this.space.distance = Math.min(this.space.distance, 8);
    this.slab.along = this.slab.place(p).along;
    this.slab.height = p[2];
    this.dirty();
  }

  // Look from a station: the one named, the one of the point picked last, the one looked from last, or the first.
  async stand(scan) {
    const there = this.cloud.visibleScans().map((s) => s.id), wanted = scan ?? this.picked?.scan ?? this.station.about?.key ?? there[0];
    if (wanted === undefined) return;
    try {
      await this.station.open(wanted);
    } catch (error) {
      notice(error.message);
    }
  }

  hover(view, x, y) {
    clearTimeout(this.hovering);
    this.hovering = setTimeout(() => {
      if (!this.cloud.data) return;
      const hit = nearest(view, this.cloud, x, y);
      this.under = hit ? { at: hit.place.map((v, k) => v + this.cloud.data.origin[k]), scan: hit.node.scan.id } : null;
      this.readout();
    }, 40);
  }

  readout() { $("readout").innerHTML = readout(this); }
}

// A line through a place in the building's main direction (rad), or across it where that is longer, as long as the box is around it.
function lineThrough([x, y], direction, box) {
  const reach = (angle) => {
    const u = [Math.cos(angle), Math.sin(angle)], ways = [[box.min[0], box.min[1]], [box.min[0], box.max[1]], [box.max[0], box.min[1]], [box.max[0], box.max[1]]].map((p) => (p[0] - x) * u[0] + (p[1] - y) * u[1]);
    const [low, high] = [Math.min(...ways, -1), Math.max(...ways, 1)];
    return { length: high - low, path: [[x + low * u[0], y + low * u[1]], [x + high * u[0], y + high * u[1]]] };
  };
  const [along, across] = [reach(direction), reach(direction + Math.PI / 2)];
  return along.length >= across.length ? along.path : across.path;
}

// What two stretches of heights share; either may be null: all.
function within(a, b) {
  return a && b ? [Math.max(a[0], b[0]), Math.min(a[1], b[1])] : a ?? b;
}

function dressSheet() {
  files.wire(app.job, () => refreshSheet());
  files.sum();
  tables.wire();
  for (const s of document.querySelectorAll(".swatch[data-class]")) s.style.background = classColour(+s.dataset.class);
  for (const s of document.querySelectorAll(".swatch[data-scan]")) s.style.background = scanColour(+s.dataset.scan);
  app.showSlab();
}

const step = () => document.body.dataset.step;
const refreshSheet = () => htmx.ajax("GET", `/jobs/${app.job}/sheet/${step()}`, { target: "#sheet" });
const refreshTerraces = () => htmx.ajax("GET", `/jobs/${app.job}/part/terraces/${step()}`, { target: "#terraces" });

async function book(open = $("book").hidden) {
  $("book").hidden = !open;
  if (open) await htmx.ajax("GET", `/jobs/${app.job}/part/fieldbook`, { target: "#book" });
  tables.wire($("book"));
}

async function notes(open = $("notes").hidden) {
  $("notes").hidden = !open;
  if (open) await htmx.ajax("GET", `/jobs/${app.job}/table/notes`, { target: "#notes" });
  tables.wire($("notes"));
}

function keepView() {
  show(`<label class="row"><span>keep this view as</span><input id="view-name" class="mini wide" maxlength="100"></label><button class="minor" data-do="keep">keep it</button><button class="plain link" data-do="no">leave it</button>`, (what) => {
    const name = $("view-name").value.trim();
    if (what === "keep" && name) send(app, "table.keep_view", { name, address: places.address(app) });
    if (what === "no" || name) show("");
  });
  $("view-name").focus();
}

async function savePicture() {
  const pane = document.activeElement.closest?.(".pane") ?? (app.station.shown ? $("station") : $("space")), name = pane.getAttribute("aria-label"), job = document.querySelector(".jobname").textContent;
  const canvas = await places.picture(app, pane, `${job} · ${name}${app.slabOn ? ` · ${app.slabSaid()}` : ""}`);
  app.saved = { width: canvas.width, height: canvas.height };
  places.save(canvas, `${job} ${name}.png`);
}

// After a classification the views show the classes; the colouring before is one key away.
let classified = lastClassified();

function lastClassified() {
  const last = document.querySelector("#strip .last.done[data-last]");
  return last?.dataset.operation?.startsWith("classify.") ? last.dataset.last : "";
}

async function changed() {
  app.state("loading");
  const now = lastClassified();
  if (now && now !== classified) app.colour("class");
  classified = now || classified;
  if (!$("notes").hidden) notes(true);
  await refreshSheet();
  await refreshTerraces();
  if (!$("book").hidden) await book(true);
  await app.reload();
}

function go(slug) {
  document.querySelector(`#terraces a[data-step="${slug}"]`)?.click();
}

const ACTS = { fit: () => app.fit(), help: () => $("keys").showModal(), dusk: () => { document.body.classList.toggle("dusk"); app.draw(); }, book: () => book(), notes: () => notes(), twin: () => { $("twin").hidden = !$("twin").hidden; document.body.classList.toggle("two", !$("twin").hidden); app.dirty(); }, keep: keepView, picture: savePicture, shade: () => { app.shaded = !app.shaded; app.draw(); }, grow: () => { app.grow = !app.grow; app.draw(); }, facing: () => { app.facing = !app.facing; app.draw(); }, station: () => (app.station.shown ? app.station.close() : app.stand()) };

function onKey(e) {
  if (e.ctrlKey || e.metaKey || e.altKey || e.target.closest("input:not([type=checkbox]), select, textarea, dialog")) return;
  const key = e.key.toLowerCase(), { pitch } = app;
  const acts = {
    p: () => app.use("pick"), m: () => app.use("measure"), o: () => app.use("outline"), i: () => app.use("pin"), x: () => app.use("box"), k: ACTS.notes, v: ACTS.keep, w: ACTS.picture, e: ACTS.shade, z: ACTS.grow, r: ACTS.facing, d: () => app.use("move"), f: ACTS.fit, g: ACTS.station, ",": () => app.station.shown && app.station.step(-1), ".": () => app.station.shown && app.station.step(1), n: ACTS.dusk, b: ACTS.book, "?": ACTS.help,
    l: () => { app.slabOn = !app.slabOn; }, h: () => { app.marks = !app.marks; }, c: () => { if (app.station.shown) return app.station.next(); const usable = [...document.querySelectorAll('[data-group="colour"] button:not(:disabled)')].map((b) => b.dataset.value); app.colour(usable[(usable.indexOf(app.mode) + 1) % usable.length]); },
    "[": () => { app.slabHeight -= pitch; }, "]": () => { app.slabHeight += pitch; }, "{": () => { app.slabThickness = Math.max(0.01, app.slabThickness / 1.25); }, "}": () => { app.slabThickness *= 1.25; },
    "+": () => { app.size = Math.min(app.size * 1.25, 12); }, "=": () => { app.size = Math.min(app.size * 1.25, 12); }, "-": () => { app.size = Math.max(app.size / 1.25, 0.8); }, "<": () => app.detail(0.5), ">": () => app.detail(2),
    a: () => app.planAs(next(options("plan-as"), app.planMode)), u: () => { app.floor = next([null, ...(app.picture.about?.floors.keys() ?? [])], app.floor); $("plan-floor").value = app.floor ?? ""; },
    ";": () => app.slab.step(-pitch), "'": () => app.slab.step(pitch), y: () => { app.slab.stretch = { 1: 2, 2: 5, 5: 10, 10: 1 }[app.slab.stretch]; }, t: ACTS.twin,
    q: () => app.before && app.colour(app.before),
    escape: () => { app.use("pick"); app.draft = null; app.picked = null; app.readout(); $("book").hidden = $("notes").hidden = true; },
  };
  if (/^[1-8]$/.test(key)) return go([...document.querySelectorAll("#terraces a.step")][+key - 1].dataset.step);
  if (!acts[key]) return;
  e.preventDefault();
  acts[key]();
  app.showSlab();
  app.dirty();
}

const next = (list, now) => list[(list.indexOf(now) + 1) % list.length];
const options = (id) => [...$(id).options].map((o) => o.value);

htmx.config.historyCacheSize = 0;
htmx.config.refreshOnHistoryMiss = true;
const app = new Table();
window.terrazza = app;

document.addEventListener("keydown", onKey);
document.addEventListener("click", (e) => {
  const act = e.target.closest("[data-act]")?.dataset.act, tool = e.target.closest("[data-tool]")?.dataset.tool, colour = e.target.closest('[data-group="colour"] button')?.dataset.value;
  if (act) ACTS[act]();
  if (e.target.closest("[data-close]")) e.target.closest(".notice").remove();
  if (tool) app.use(tool);
  if (colour) app.colour(colour);
  const twin = e.target.closest('[data-group="twin"] button')?.dataset.value;
  if (twin) { app.twin.mode = twin; app.lists(); app.draw(); }
  const jump = e.target.closest("[data-jump]")?.dataset.jump, box = e.target.closest("[data-box]")?.dataset.box;
  if (jump) app.jump(JSON.parse(jump));
  if (box) { app.showBox(app.cloud.data.boxes.find((b) => b.id === +box)); app.use("box"); }
});
document.addEventListener("change", (e) => {
  const choose = e.target.closest("[data-choose]"); // what is chosen from a list stands in its head
  if (choose) {
    const label = choose.querySelector("[data-chosen]");
    label.textContent = [...choose.querySelectorAll("input:checked")].map((i) => i.value).join(", ") || label.dataset.all;
  }
  if (e.target.name === "take") files.sum();
  const list = e.target.closest(".chooser-list");
  if (list) {
    const set = list.id === "scan-list" ? app.cloud.hiddenScans : app.cloud.hiddenClasses;
    e.target.checked ? set.delete(+e.target.value) : set.add(+e.target.value);
    app.cloud.paintClasses();
    app.dirty();
  }
  const value = +e.target.value, length = metres(app.cloud.data.notation, value);
  if (e.target.id === "plan-as") return app.planAs(e.target.value);
  if (e.target.id === "plan-floor") app.floor = e.target.value === "" ? null : value;
  else if (e.target.id === "slab-on") app.slabOn = e.target.checked;
  else if (e.target.id === "slab-height" && Number.isFinite(value)) app.slabHeight = length - app.cloud.data.origin[2];
  else if (e.target.id === "slab-thickness" && value > 0) app.slabThickness = length;
  else if (e.target.id === "wall-thickness" && value > 0) app.slab.thickness = length;
  else if (e.target.id === "slab-pitch" && value > 0) app.pitch = Math.max(length, 0.001);
  else return;
  app.showSlab();
  app.dirty();
});
document.body.addEventListener("changed", changed);
document.body.addEventListener("brought", () => refreshSheet());
document.body.addEventListener("htmx:afterSwap", (e) => {
  const slug = e.detail.requestConfig?.elt?.dataset?.step;
  if (e.detail.target.id === "sheet" && slug && slug !== step()) {
    document.body.dataset.step = slug;
    document.title = document.title.replace(/· \w+ ·/, `· ${slug} ·`);
    refreshTerraces();
  }
  if (["sheet", "inbox", "book"].includes(e.detail.target.id)) dressSheet();
});
app.readout();
dressSheet();
window.addEventListener("hashchange", () => { if (location.hash.includes("=") && location.hash.slice(1) !== app.said) places.look(app, location.hash); });
app.reload().then(() => {
  if (location.hash.includes("=")) places.look(app, location.hash);
  // the address follows the view, so that it can be handed on
  setInterval(() => {
    const words = app.cloud.data && places.address(app);
    if (words && words !== app.said && app.said !== undefined) history.replaceState(history.state, "", `#${words}`);
    app.said = words;
  }, 700);
});
