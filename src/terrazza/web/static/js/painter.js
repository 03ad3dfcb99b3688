// When and what the views draw: few points while something moves, all that are wanted when nothing does.
import * as THREE from "../vendor/three.module.js";

import { Edges } from "./edges.js";
import * as marks from "./marks.js";
import { Regions } from "./regions.js";
import { modes } from "./shader.js";

const REST = 250; // ms without a change, and the views are drawn in full
const SLOW = 2000; // ms between pictures: not a rest, but a machine that takes its time
const INK = { paper: 0x1d2b2a, dusk: 0xe8e2d2 };
// Points: with a graphics card and without, when at rest and while moving; the least and the most one may ask for.
const RESTING = { card: 4e6, none: 1e6 },
  MOVING = { card: 2e6, none: 1e5 },
  LEAST = 5e4,
  MOST = 2e7,
  ANY = 7e4;
const SHARES = [0.1, 1, 0.3, 1]; // of plan, space, slab and second space
const GATHERED = { card: 60, none: 900 }; // ms over which nodes that come are drawn together

export class Painter {
  constructor(app) {
    this.app = app;
    this.still = true;
    this.makeRenderer(app.canvas);
  }

  makeRenderer(canvas) {
    const how = { antialias: false, alpha: false, stencil: false, preserveDrawingBuffer: true };
    this.renderer = new THREE.WebGLRenderer({ canvas, ...how, powerPreference: "high-performance" });
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2));
    this.renderer.autoClear = false;
    this.renderer.setScissorTest(true);
    const gl = this.renderer.getContext(),
      info = gl.getExtension("WEBGL_debug_renderer_info");
    const name = info ? gl.getParameter(info.UNMASKED_RENDERER_WEBGL) : "";
    this.kind = /swiftshader|llvmpipe|softpipe|software/i.test(name) ? "none" : "card";
    this.share(+localStorage.getItem("points") || RESTING[this.kind]);
    this.app.shaded = this.kind === "card";
    this.edges = null;
  }

  // How many points each view draws. One sum for all views.
  share(points) {
    this.points = Math.min(Math.max(points, LEAST), MOST);
    const moving = Math.min(this.points, MOVING[this.kind]);
    this.app.all.forEach((v, k) => {
      v.budgets = [moving, this.points].map((all) => Math.max(all * SHARES[k], Math.min(all, ANY)));
    });
  }

  // Nodes have come: ask for the next at once, and draw, but not for every few while many are on their way.
  arrived() {
    const { cloud, views } = this.app;
    cloud.fetchMissing(views.map((v) => v.chosen));
    if (!this.first || cloud.flights + cloud.waiting === 0) return this.draw();
    this.drawing ??= setTimeout(() => {
      this.drawing = null;
      this.draw();
    }, GATHERED[this.kind]);
  }

  // Nothing moves: all views are drawn in full, what is coarse first.
  rest() {
    clearTimeout(this.resting);
    this.still = true;
    for (const v of this.app.views) v.dirty = true;
    this.draw();
  }

  dirty(only) {
    const { all, views } = this.app;
    clearTimeout(this.resting);
    this.still = all.every((v) => v.budgets[0] === v.budgets[1]);
    const moved = only ? views.filter((v) => v === only || v.first === only) : views;
    for (const v of moved) v.dirty = true;
    this.draw(moved);
  }

  draw(views = this.app.all) {
    for (const v of views) v.stale = true;
    this.paint = true;
    if (this.renderer && this.app.host.dataset.state === "idle") this.app.phase("rendering"); // at once: until the frame, places are those of the view before
    this.overlay();
  }

  overlay() {
    if (this.frame) return;
    this.frame = requestAnimationFrame(() => {
      this.frame = 0;
      if (this.paint) return this.render(false);
      this.markViews();
      this.restate();
    });
  }

  markViews(views = this.app.views) {
    for (const view of views) {
      this.app.ink.paint(view);
      if (view.kind === "plan") this.app.underlay.paint(view);
      document.getElementById(`${view.pane.id}-marks`).innerHTML = marks.of(view, this.app);
    }
    if (views.length > 1) this.app.station.draw();
  }

  render(all = true) {
    const { app, renderer } = this,
      { cloud, views } = app;
    if (all) for (const v of app.all) v.stale = true;
    if (!cloud.data || !renderer) return;
    this.paint = false;
    const rect = this.resize();
    this.limit();
    for (const view of views) this.choose(view, rect);
    cloud.fetchMissing(views.map((v) => v.chosen));
    this.clear(views);
    const stale = views.filter((v) => v.stale),
      shown = this.paintViews(views);
    this.note();
    this.markViews(stale);
    if (shown && !this.first) this.began();
    this.restate();
    this.restLater();
  }

  // The canvas is as large as its place on the page.
  resize() {
    const { canvas, views } = this.app,
      rect = canvas.getBoundingClientRect(),
      ratio = this.renderer.getPixelRatio();
    if (
      canvas.width !== Math.floor(rect.width * ratio) ||
      canvas.height !== Math.floor(rect.height * ratio)
    ) {
      this.renderer.setSize(rect.width, rect.height, false);
      for (const v of views) v.stale = true;
    }
    return rect;
  }

  limit() {
    const { app } = this,
      { box } = app,
      slab = app.slabOn ? app.planSlab() : null;
    app.space.limits = app.twin.limits = { slab, box };
    app.plan.limits = { slab: within(slab, app.picture.floor()), box };
    app.slab.box = box;
  }

  // The nodes that a view draws; they fill in until a region's own points are there.
  choose(view, rect) {
    const { cloud, regions } = this.app;
    view.layout(rect);
    view.prepare();
    regions.want(view);
    const { parts, current } = regions.parts(view),
      cutOut = regions.of(view).wanted;
    view.parts = parts;
    if (cutOut && current && view.chosen.length) {
      view.chosen = [];
      view.stale = true;
    }
    view.budget = view.budgets[cutOut ? 0 : +this.still];
    if (cutOut && current) view.dirty = false;
    if (view.dirty) {
      view.chosen = cloud.select(view);
      view.stale = true;
    }
    view.dirty = false;
  }

  clear(views) {
    const { renderer } = this,
      style = getComputedStyle(document.body);
    if (views.every((v) => v.stale)) {
      renderer.setScissorTest(false);
      renderer.setClearColor(style.backgroundColor);
      renderer.clear();
    }
    renderer.setScissorTest(true);
    renderer.setClearColor(style.getPropertyValue("--canvas").trim());
    const dusk = document.body.classList.contains("dusk");
    this.app.cloud.shared.uInk.value.set(dusk ? INK.dusk : INK.paper);
  }

  // Draw what is stale; the most points that a view shows.
  paintViews(views) {
    const { plan, picture, shaded } = this.app;
    if (shaded) this.edges ??= new Edges();
    const pictured = (picture.whole && !plan.stale) || picture.paint();
    for (const view of views) {
      const covered = view === plan && pictured; // its points would not be seen, and are drawn when they would
      if (!covered && (view.stale || view.behind)) this.renderView(view);
      view.behind = covered && (view.stale || view.behind);
      view.stale = false;
    }
    return Math.max(...views.map((v) => v.shown ?? 0));
  }

  began() {
    this.first = true;
    performance.mark("live-points");
    document.getElementById("glance").remove();
  }

  restLater() {
    clearTimeout(this.resting);
    const pause = performance.now() - (this.drawnAt ?? 0);
    this.drawnAt = performance.now();
    if (!this.still)
      this.resting = setTimeout(() => this.rest(), pause < SLOW ? Math.max(REST, 2 * pause) : REST);
  }

  get busy() {
    const { cloud, regions, picture } = this.app;
    return regions.busy || cloud.flights > 0 || cloud.waiting > 0 || picture.busy || !this.still;
  }

  restate() {
    if (this.busy) this.app.phase("rendering");
    else if (this.app.host.dataset.state !== "idle") {
      requestAnimationFrame(() => {
        if (!this.busy && !this.frame) this.app.phase("idle");
      });
    }
  }

  // A tile of the plan has come: the points need not be drawn again, unless they lie below it.
  pictured() {
    if (this.tiled) return;
    this.tiled = requestAnimationFrame(() => {
      const { picture } = this.app;
      this.tiled = 0;
      picture.whole === picture.paint() ? this.restate() : this.draw();
    });
  }

  renderView(view) {
    const { app, renderer } = this,
      { cloud } = app,
      s = cloud.shared,
      r = view.rect;
    const faint = view === app.plan && ["walls", "density"].includes(app.planMode);
    this.aim(view, faint);
    app.surfaces.show(view);
    if (app.shaded) this.edges.begin(renderer);
    renderer.setViewport(r.x, r.y, r.width, r.height);
    renderer.setScissor(r.x, r.y, r.width, r.height);
    renderer.clear();
    for (const { camera, limits } of view.passes) {
      const e = camera.matrixWorld.elements,
        { wall, along } = limits;
      if (view.camera.isOrthographicCamera) s.uEye.value.set(e[8], e[9], e[10], 0);
      else s.uEye.value.set(e[12], e[13], e[14], 1);
      s.uWallOn.value = Boolean(wall);
      if (wall) {
        s.uWall.value.set(...wall);
        s.uAlong.value.set(...along);
      }
      for (const node of view.painted) if (node.points) node.points.material.uniformsNeedUpdate = true;
      renderer.render(cloud.scene, camera);
    }
    if (app.shaded) this.edges.show(renderer, view, !faint);
    for (const node of view.painted) if (node.points) node.points.visible = false;
    app.surfaces.show(null);
  }

  // What a view shows and how, for the shader.
  aim(view, faint) {
    const { app } = this,
      s = app.cloud.shared,
      own = view === app.plan && modes().includes(app.planMode);
    s.uMode.value = faint ? -1 : modes().indexOf(own ? app.planMode : (view.mode ?? app.mode));
    s.uSize.value = app.size * this.renderer.getPixelRatio() * (view.kind === "space" ? 1 : 0.85);
    s.uSlabOn.value = Boolean(view.limits.slab);
    if (view.limits.slab) s.uSlab.value.set(...view.limits.slab);
    s.uFacing.value = app.facing;
    s.uGrow.value = app.grow && !view.camera.isOrthographicCamera ? view.distance : 0;
    view.parts.forEach(Regions.aim);
    view.painted = [...view.chosen, ...view.parts];
    view.shown = 0;
    for (const node of view.painted) {
      if (!node.points) continue;
      node.points.visible = true;
      node.points.material = faint ? node.scan.faint : node.scan.solid;
      view.shown += node.count;
    }
  }

  // What stands in the heads of the panes.
  note() {
    const { app } = this,
      there = app.cloud.visibleScans().reduce((n, s) => n + s.record.points, 0);
    const short = (v) => (v >= 999_500 ? `${(v / 1e6).toFixed(1)} M` : `${Math.round(v / 1e3)} k`);
    const bends = app.slab.path.length - 2,
      bent = bends ? `, ${bends} ${bends === 1 ? "bend" : "bends"}` : "";
    const scale = app.slab.stretch === 1 ? "true scale" : `heights × ${app.slab.stretch}`;
    const said = {
      "space-note": there ? `${short(app.space.shown)} of ${short(there)}` : "no points yet",
      "plan-note": app.slabOn ? app.slabSaid() : "",
      "slab-note": `A to B${bent} · ${scale}`,
    };
    for (const [id, words] of Object.entries(said)) document.getElementById(id).textContent = words;
  }
}

// What two stretches of heights share; either may be null: all.
function within(a, b) {
  return a && b ? [Math.max(a[0], b[0]), Math.min(a[1], b[1])] : (a ?? b);
}
