// Pointers on the panes: drags turn and shift the views, bend the section line, move the band or go to the tool in hand; the wheel goes nearer.
import { nearest } from "./picking.js";
import { TOOLS } from "./tools.js";

const $ = (id) => document.getElementById(id);

export function wirePointers(app) {
  for (const view of app.all) {
    const pane = view.pane;
    let drag = null;
    const at = (e) => { const r = pane.getBoundingClientRect(); return [e.clientX - r.left - 1, e.clientY - r.top - 1]; };
    pane.addEventListener("pointerdown", (e) => {
      if (e.target.closest(".opts, .tag")) return;
      const [x, y] = at(e), tool = TOOLS[app.tool];
      pane.setPointerCapture(e.pointerId);
      drag = { x, y, from: [x, y], moved: false, end: e.target.dataset?.end, mid: e.target.dataset?.mid, band: e.target.classList?.contains("band"), shift: e.shiftKey || e.button !== 0 };
      drag.tool = !drag.end && !drag.mid && e.button === 0 && tool.drags && tool.down(app, view, x, y, e);
    });
    pane.addEventListener("pointermove", (e) => {
      const [x, y] = at(e);
      if (!drag) return app.hover(view, x, y);
      const dx = x - drag.x, dy = y - drag.y;
      if (Math.hypot(x - drag.from[0], y - drag.from[1]) > 3) drag.moved = true;
      Object.assign(drag, { x, y });
      if (drag.mid && drag.moved) {
        drag.end = String(+drag.mid + 1);
        drag.mid = null;
        app.slab.path.splice(+drag.end, 0, app.plan.toWorld(x, y));
      }
      if (drag.end) app.slab.path[{ a: 0, b: app.slab.path.length - 1 }[drag.end] ?? +drag.end] = app.plan.toWorld(x, y);
      else if (drag.tool) return TOOLS[app.tool].move(app, view, x, y, e);
      else if (drag.band && drag.moved) { app.slabHeight = view.toWorld(x, y)[1]; app.showSlab(); }
      else if (view.kind === "space" && !drag.shift) view.orbit(dx, dy);
      else view.shift(dx, dy);
      app.dirty(drag.end || drag.band ? undefined : view.first ?? view);
    });
    pane.addEventListener("pointerup", (e) => {
      if (!drag) return;
      const [x, y] = at(e), was = drag;
      drag = null;
      if (was.tool) return TOOLS[app.tool].up(app, view, x, y);
      if (was.end && was.moved) { app.slab.along = app.slab.length / 2; app.dirty(); }
      if (was.moved || e.button !== 0) return;
      const mark = e.target.closest?.(".go");
      mark ? app.stand(mark.dataset.scan) : app.clicked(view, x, y);
    });
    pane.addEventListener("dblclick", (e) => {
      if (view !== app.plan) return;
      const [x, y] = at(e), bend = app.slab.path.findIndex((p, k) => { const q = view.toPixel([...p, 0]); return k > 0 && k < app.slab.path.length - 1 && Math.hypot(q[0] - x, q[1] - y) < 9; });
      if (bend > 0) { app.slab.path.splice(bend, 1); app.dirty(); }
    });
    pane.addEventListener("pointercancel", () => (drag = null));
    pane.addEventListener("contextmenu", (e) => e.preventDefault());
    pane.addEventListener("wheel", (e) => {
      e.preventDefault();
      if (e.altKey && view.kind !== "space") {
        const by = Math.sign(e.deltaY || e.deltaX) * app.pitch;
        view.kind === "slab" ? view.step(by) : (app.slabHeight -= by);
        app.showSlab();
        return app.dirty();
      }
      const [x, y] = at(e), hit = view.kind === "space" ? nearest(view, app.cloud, x, y) : null;
      view.zoom(Math.exp(Math.max(-60, Math.min(60, e.deltaY)) * 0.0025), x, y, hit?.place);
      app.dirty(view.first ?? view);
    }, { passive: false });
  }
}
