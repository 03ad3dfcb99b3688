// Pointers on the panes: drags turn and shift the views, bend the section line, move the band or go to the tool in hand; the wheel goes nearer.
import { nearest } from "./picking.js";

const STILL = 3; // px that a pointer may move and still touch
const GRIP = 9; // px around a bend
const WHEEL = { most: 60, rate: 0.0025 }; // px of a notch that count, and how much nearer each goes

// What one pane does with the pointer; `drag` is what is under way.
class Hand {
  constructor(app, view) {
    this.app = app;
    this.view = view;
    this.drag = null;
    const { pane } = view;
    pane.addEventListener("pointerdown", (e) => this.down(e));
    pane.addEventListener("pointermove", (e) => this.move(e));
    pane.addEventListener("pointerup", (e) => this.up(e));
    pane.addEventListener("dblclick", (e) => this.unbend(e));
    pane.addEventListener("pointercancel", () => (this.drag = null));
    pane.addEventListener("contextmenu", (e) => e.preventDefault());
    pane.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
  }

  get tool() {
    return this.app.tools[this.app.tool];
  }

  at(e) {
    const r = this.view.pane.getBoundingClientRect();
    return [e.clientX - r.left - 1, e.clientY - r.top - 1];
  }

  down(e) {
    if (e.target.closest(".opts, .tag")) return;
    const [x, y] = this.at(e),
      { end, mid } = e.target.dataset ?? {},
      band = e.target.classList?.contains("band");
    this.view.pane.setPointerCapture(e.pointerId);
    this.drag = { x, y, from: [x, y], moved: false, end, mid, band, shift: e.shiftKey || e.button !== 0 };
    const free = !end && !mid && e.button === 0;
    this.drag.tool = free && this.tool.drags && this.tool.down(this.app, this.view, x, y, e);
  }

  move(e) {
    const { app, view, drag } = this,
      [x, y] = this.at(e);
    if (!drag) return app.hover(view, x, y);
    const by = [x - drag.x, y - drag.y];
    if (Math.hypot(x - drag.from[0], y - drag.from[1]) > STILL) drag.moved = true;
    Object.assign(drag, { x, y });
    if (drag.tool) return this.tool.move(app, view, x, y, e);
    if (drag.mid && drag.moved) this.bend(x, y);
    this.steer(by, x, y);
  }

  // A bend is drawn out of the middle of a piece, and from there on dragged like any other.
  bend(x, y) {
    const { app, drag } = this;
    drag.end = String(+drag.mid + 1);
    drag.mid = null;
    app.slab.path.splice(+drag.end, 0, app.plan.toWorld(x, y));
  }

  steer(/** @type {number[]} */ [dx, dy], x, y) {
    const { app, view, drag } = this,
      { path } = app.slab;
    if (drag.end) path[{ a: 0, b: path.length - 1 }[drag.end] ?? +drag.end] = app.plan.toWorld(x, y);
    else if (drag.band && drag.moved) app.slabHeight = view.toWorld(x, y)[1];
    else if (view.kind === "space" && !drag.shift) view.orbit(dx, dy);
    else view.shift(dx, dy);
    app.dirty(drag.end || drag.band ? undefined : (view.first ?? view));
  }

  up(e) {
    const { app, view, drag } = this,
      [x, y] = this.at(e);
    this.drag = null;
    if (!drag) return;
    if (drag.tool) return this.tool.up(app, view, x, y);
    if (drag.end && drag.moved) {
      app.slab.along = app.slab.length / 2;
      app.dirty();
    }
    if (drag.moved || e.button !== 0) return;
    const mark = e.target.closest?.(".go");
    mark && !this.tool.stations ? app.stand(mark.dataset.scan) : app.clicked(view, x, y);
  }

  // A double click takes a bend of the section line out.
  unbend(e) {
    const { app, view } = this,
      [x, y] = this.at(e),
      { path } = app.slab;
    if (view !== app.plan) return;
    const close = (p) => {
      const q = view.toPixel([...p, 0]);
      return Math.hypot(q[0] - x, q[1] - y) < GRIP;
    };
    const bend = path.findIndex((p, k) => k > 0 && k < path.length - 1 && close(p));
    if (bend < 0) return;
    path.splice(bend, 1);
    app.dirty();
  }

  // Nearer and farther; with Alt a step through the building.
  wheel(e) {
    const { app, view } = this,
      [x, y] = this.at(e);
    e.preventDefault();
    if (e.altKey && view.kind !== "space") {
      const by = Math.sign(e.deltaY || e.deltaX) * app.pitch;
      if (view.kind === "slab") app.stepSlab(by);
      else app.slabHeight -= by;
      return;
    }
    const hit = view.kind === "space" ? nearest(view, app.cloud, x, y) : null;
    const notch = Math.max(-WHEEL.most, Math.min(WHEEL.most, e.deltaY));
    view.zoom(Math.exp(notch * WHEEL.rate), x, y, hit?.place);
    app.dirty(view.first ?? view);
  }
}

export function wirePointers(app) {
  for (const view of app.all) new Hand(app, view);
}
