// The table: linked views of one cloud, what they show, and the tool in hand.
import * as THREE from "../vendor/three.module.js";
import * as boxes from "./boxes.js";
import { Cloud } from "./cloud.js";
import * as frame from "./frame.js";
import { Ink } from "./ink.js";
import { returnsHidden } from "./layout.js";
import { fillLists, markColourings } from "./lists.js";
import { said } from "./notation.js";
import { Painter } from "./painter.js";
import { nearest } from "./picking.js";
import { PlanPicture } from "./plan.js";
import { wirePointers } from "./pointers.js";
import { readout } from "./readout.js";
import { Regions } from "./regions.js";
import { showSlab } from "./sheets.js";
import { SlabView } from "./slab.js";
import { State } from "./state.js";
import { StationView } from "./station.js";
import { Surfaces } from "./surfaces.js";
import { tell } from "./trouble.js";
import { TryOut } from "./tryout.js";
import { Underlay } from "./underlay.js";
import { PlanView, SpaceView, TwinView } from "./views.js";

const $ = (id) => document.getElementById(id);
const STALE = 200; // ms for other answers of an older scene to come in
const HOVER = 40; // ms that the pointer rests before what is under it is looked for
const SPACE_NEAR = 8,
  PLAN_NEAR = 0.03; // m, m a pixel: how near a jump goes at least
const EYE = 0.3; // m below the first station: where the plan slab lies at first

// Everything that can be changed on the table: value at first, and what a change asks of the views (state.js).
const DECLARED = {
  mode: ["intensity", "draw"], // colouring of the points
  before: [null, "none"], // and the one before it
  shade: [null, "dirty"], // the dimension that points bring with them, as the scene tells of it
  returns: ["all", "draw"], // which returns of a pulse are shown: all, first, last, only
  planMode: ["walls", "draw"],
  floor: [null, "dirty"], // number of the floor in plan; null: all
  size: [2, "draw"], // px
  grow: [false, "draw"], // points that are near are larger
  facing: [false, "draw"], // points seen from behind are hidden
  shaded: [true, "draw"], // edge shading
  marks: [true, "overlay"],
  slabOn: [false, "dirty"],
  slabHeight: [0, "dirty"], // m over the origin of the scene, middle of the plan slab
  slabThickness: [0.1, "dirty"], // m
  pitch: [0.1, "none"], // m a step
  box: [null, "dirty"],
  hiddenScans: [new Set(), "dirty"], // numbers; never changed, always another set
  hiddenClasses: [new Set(), "dirty"],
  hiddenSurfaces: [new Set(), "draw"],
  tool: ["pick", "overlay"],
  draft: [null, "overlay"], // the measure being taken
  picked: [null, "overlay"], // the point touched last
  under: [null, "none"], // the point under the pointer
  outline: [null, "overlay"], // { view, path } while one is drawn
  moving: [null, "none"], // the scan moved by hand
};

export class Table {
  constructor(tools) {
    this.job = document.body.dataset.job;
    this.tools = tools;
    this.host = $("table");
    this.canvas = $("canvas");
    this.state = new State(DECLARED, (effect) => this.painter?.[effect]());
    this.state.lend(this);
    this.cloud = new Cloud(this.job, this.state, {
      onChange: () => this.painter.arrived(),
      onMore: () => this.painter.rest(),
      onStale: () => this.reloadSoon(),
    });
    this.plan = new PlanView($("plan"));
    this.space = new SpaceView($("space"));
    this.slab = new SlabView($("slab"));
    this.twin = new TwinView($("twin"), this.space);
    this.all = [this.plan, this.space, this.slab, this.twin];
    this.painter = new Painter(this);
    this.station = new StationView($("station"), this);
    this.regions = new Regions(this);
    this.ink = new Ink(this);
    this.underlay = new Underlay(this);
    this.surfaces = new Surfaces(this);
    this.tries = new TryOut(this);
    this.picture = new PlanPicture($("plan-picture"), this);
    this.fitted = false;
    this.waiters = [];
    this.watch();
    new ResizeObserver(() => this.dirty()).observe(this.host);
    wirePointers(this);
  }

  // What follows from a change, beside that the views are drawn.
  watch() {
    this.state.on(["slabOn", "slabHeight", "slabThickness", "pitch"], () => this.showSlab());
    this.state.on(["picked", "under", "draft"], () => this.readout());
    this.state.on(["hiddenClasses"], () => this.cloud.paintClasses());
    this.state.on(["box"], () => boxes.shown(this));
    this.state.on(["returns"], () => {
      this.cloud.shared.uHidden.value = returnsHidden(this.returns);
    });
    this.state.on(["shade"], () => {
      this.cloud.shared.uAboutZero.value = Boolean(this.shade?.about_zero);
      markColourings(this);
    });
    this.state.on(["mode"], ({ mode }) => {
      this.before = mode;
      markColourings(this);
    });
    this.state.on(["planMode"], () => ($("plan-as").value = this.planMode));
    this.state.on(["tool"], () => {
      for (const b of document.querySelectorAll("[data-tool]"))
        b.classList.toggle("on", b.dataset.tool === this.tool);
      this.host.style.setProperty("--cursor", this.tools[this.tool].cursor ?? "default");
    });
  }

  get views() {
    return this.all.filter((v) => !v.pane.hidden);
  }

  get renderer() {
    return this.painter.renderer;
  }

  get still() {
    return this.painter.still;
  }

  // Something moved, in one view or in all: other points are wanted.
  dirty(only) {
    this.painter.dirty(only);
  }

  // Some views are drawn anew with the next frame, by default all.
  draw(views) {
    this.painter.draw(views);
  }

  // What lies over the points only: marks, the outline being drawn, measures.
  overlay() {
    this.painter.overlay();
  }

  render(all) {
    this.painter.render(all);
  }

  // All views draw more, or fewer, points when at rest; remembered in this browser.
  detail(factor) {
    this.painter.share(this.painter.points * factor);
    localStorage.setItem("points", String(this.painter.points));
    this.dirty();
  }

  // Loading, rendering, idle or error: who waits for idle is told.
  phase(name) {
    this.host.dataset.state = name;
    if (name === "idle") for (const done of this.waiters.splice(0)) done();
  }

  idle() {
    return this.host.dataset.state === "idle"
      ? Promise.resolve()
      : new Promise((done) => this.waiters.push(done));
  }

  async reload() {
    this.phase("loading");
    try {
      const data = await this.cloud.load();
      document.body.dataset.loaded = data.state;
    } catch (error) {
      this.phase("error");
      return tell(error);
    }
    if (!this.fitted) this.cloud.fetchRoots();
    setTimeout(() => {
      this.cloud.fetchTrees();
      this.picture.load();
      this.surfaces.load();
    });
    if (this.cloud.shift) this.shiftViews(this.cloud.shift);
    if (!this.fitted || this.wasPlaced !== this.placedKey()) this.fit();
    if (this.shade) this.showShade();
    fillLists(this);
    this.showSlab();
    const coming = this.comingBox?.(this.cloud.data);
    if (coming) {
      this.comingBox = null;
      this.showBox(coming);
    }
    if (this.station.shown) this.stand(this.station.about.key);
    this.painter.rest();
  }

  // Several answers may say at once that the job has changed.
  reloadSoon() {
    clearTimeout(this.reloading);
    this.reloading = setTimeout(() => this.reload(), STALE);
  }

  placedKey() {
    return this.cloud.data.scans.map((s) => `${s.id}${s.placed}`).join() + this.cloud.data.georeferenced;
  }

  shiftViews(d) {
    for (const p of [this.plan.centre, ...this.slab.path]) {
      p[0] -= d[0];
      p[1] -= d[1];
    }
    this.space.target.sub(new THREE.Vector3(...d));
    this.slab.height -= d[2];
    this.state.set({ slabHeight: this.slabHeight - d[2], picked: null, draft: null });
  }

  // The places people worked at: stations with some metres around, within what the scans reach.
  extent() {
    const around = (s) => ({
      bounds: s.record.bounds,
      at: [...s.matrix.elements.slice(12, 15)],
      how: s.record.how,
    });
    return frame.extent(this.cloud.visibleScans().map(around));
  }

  fit() {
    const box = this.extent(),
      rect = this.canvas.getBoundingClientRect();
    for (const v of this.views) v.layout(rect);
    const scans = this.cloud.visibleScans(),
      first = scans.find((s) => s.record.placed) ?? scans[0];
    const [x, y, z] = first ? first.matrix.elements.slice(12, 15) : [0, 0, EYE];
    this.slab.path = frame.lineThrough([x, y], this.cloud.data.direction, box);
    for (const v of this.views) v.fit(box);
    this.cloud.shared.uHeights.value.set(box.min[2], box.max[2]);
    if (!this.slabOn) this.slabHeight = z - EYE;
    this.fitted = scans.length > 0;
    this.wasPlaced = this.placedKey();
    this.dirty();
  }

  slabSaid() {
    return `slab at ${said(this.cloud.data.notation, this.slabHeight + this.cloud.data.origin[2], 2)}`;
  }

  showSlab() {
    showSlab(this);
  }

  planSlab() {
    return [this.slabHeight - this.slabThickness / 2, this.slabHeight + this.slabThickness / 2];
  }

  stepSlab(by) {
    this.slab.step(by);
    this.dirty();
  }

  colour(mode) {
    if (mode === "dimension") this.showShade();
    this.mode = mode;
  }

  // Points bring a dimension with them: the one named, the one they brought already, or the first.
  showShade(name = this.shade?.name) {
    const { shades } = this.cloud.data;
    this.shade = shades.find((s) => s.name === name) ?? shades[0] ?? null;
  }

  use(tool) {
    this.tools[this.tool].leave?.(this);
    this.tool = tool;
    this.tools[tool].enter?.(this);
  }

  async clicked(view, x, y) {
    await this.tools[this.tool].click?.(this, view, x, y);
  }

  planAs(how) {
    this.planMode = how;
  }

  showBox(box) {
    boxes.use(this, box && { ...box, kept: true });
  }

  // Bring all views to a place in the grid or job frame.
  jump(at) {
    const p = at.map((v, k) => v - this.cloud.data.origin[k]);
    this.plan.centre = [p[0], p[1]];
    this.plan.scale = Math.min(this.plan.scale, PLAN_NEAR);
    this.space.target.fromArray(p);
    this.space.distance = Math.min(this.space.distance, SPACE_NEAR);
    this.slab.along = this.slab.place(p).along;
    this.slab.height = p[2];
    this.dirty();
  }

  // Look from a station: the one named, the one of the point picked last, the one looked from last, or the first.
  async stand(scan) {
    const first = this.cloud.visibleScans()[0]?.id;
    const wanted = scan ?? this.picked?.scan ?? this.station.about?.key ?? first;
    if (wanted !== undefined) await this.station.open(wanted).catch(tell);
  }

  hover(view, x, y) {
    clearTimeout(this.hovering);
    this.hovering = setTimeout(() => {
      if (!this.cloud.data) return;
      const hit = nearest(view, this.cloud, x, y),
        { origin } = this.cloud.data;
      this.under = hit && { at: hit.place.map((v, k) => v + origin[k]), scan: hit.node.scan.id };
    }, HOVER);
  }

  readout() {
    $("readout").innerHTML = readout(this);
  }
}
