// Slabs and boxes: their own points, cut out by the server, a few at once and as many as a view draws when it rests.
import * as THREE from "../vendor/three.module.js";
import { planesOf } from "./layout.js";
import { again, ask, tell } from "./trouble.js";

const MARGIN = 1.08,
  FIRST = 30_000;

// The planes (a, b, c, d: a x + b y + c z ≤ d) within which a view shows points, a list a pass; null where it has no slab and no box.
export function regionOf(view) {
  const { slab, box } = view.limits ?? {};
  if (!view.passes[0]?.limits?.wall && !slab && !(box && !box.outside)) return null;
  return view.passes.map(({ matrix, limits }) => [...limited(limits), ...frustum(matrix)]);
}

// The planes within which a view shows points whether or not it has a slab or a box.
export const pieces = (view) =>
  view.passes.map(({ matrix, limits }) => [
    ...limited({ slab: view.limits?.slab, box: view.limits?.box, ...limits }),
    ...frustum(matrix),
  ]);

function limited({ slab, wall, along, box }) {
  const out = [];
  if (slab) out.push([0, 0, 1, slab[1]], [0, 0, -1, -slab[0]]);
  if (wall) {
    const [x, y, d, half] = wall,
      [ux, uy, from, to] = along;
    out.push([x, y, 0, d + half], [-x, -y, 0, half - d]);
    if (to < 1e8) out.push([ux, uy, 0, to]);
    if (from > -1e8) out.push([-ux, -uy, 0, -from]);
  }
  if (box && !box.outside) out.push(...sides(box));
  return out;
}

const sides = ({ unit: m }) =>
  [0, 4, 8].flatMap((r) => [
    [m[r], m[r + 1], m[r + 2], 1 - m[r + 3]],
    [-m[r], -m[r + 1], -m[r + 2], 1 + m[r + 3]],
  ]);

// What lies on the screen, with a small margin; in perspective also before the eye.
function frustum(matrix) {
  const e = matrix.elements,
    row = (r) => [e[r], e[r + 4], e[r + 8], e[r + 12]],
    w = row(3),
    out = [];
  for (const r of [0, 1])
    for (const sign of [1, -1]) {
      const [a, b, c, d] = row(r).map((v, k) => sign * v - MARGIN * w[k]);
      out.push([a, b, c, -d]);
    }
  if (w[0] || w[1] || w[2]) out.push([-w[0], -w[1], -w[2], w[3]]);
  return out;
}

export class Regions {
  constructor(app) {
    this.app = app;
    this.held = new Map(); // by view: what is shown, what is asked for
  }

  get busy() {
    return [...this.held.values()].some((h) => h.asking);
  }

  of(view) {
    if (!this.held.has(view))
      this.held.set(view, { key: "", budget: 0, parts: [], asking: null, wanted: null });
    return this.held.get(view);
  }

  // The parts to draw in a view, and whether they are what it asks for now.
  parts(view) {
    const held = this.of(view);
    return { parts: held.parts, current: Boolean(held.key) && held.key === held.wanted?.key };
  }

  // A view wants the points of its slab or box: few at first, then as many as it draws.
  want(view) {
    const { app } = this,
      pieces = view.pane.hidden ? null : regionOf(view),
      held = this.of(view);
    if (!pieces || !app.cloud.data) {
      held.wanted = null;
      if (held.parts.length) this.drop(held);
      return;
    }
    const { box } = view.limits;
    const region = {
      pieces,
      but: box?.outside ? sides(box) : [],
      scans: app.cloud.visibleScans().map((s) => s.id),
      hidden: [...app.cloud.hiddenClasses],
    };
    const shade = app.shade?.key ?? "";
    const key =
      shade +
      JSON.stringify(region) +
      app.cloud
        .visibleScans()
        .map((s) => s.record.version + (app.moving?.scan === s ? "" : s.record.pose))
        .join();
    held.wanted = { key, shade, region, budget: Math.round(view.budgets[+app.still]) };
    if (!held.asking) this.fetch(view, held);
  }

  async fetch(view, held) {
    const { key, shade, region, budget } = held.wanted,
      first = key !== held.key;
    if (!first && (held.whole || held.budget >= budget || !this.app.still)) return; // the rest comes when nothing moves any more
    const asked = first ? Math.min(budget, FIRST) : budget;
    held.asking = true;
    try {
      const url = `/jobs/${this.app.job}/scene/region`;
      const answer = await again(() => ask(url, { json: { ...region, shade, budget: asked } }), { tries: 3 });
      this.receive(held, await answer.arrayBuffer(), shade);
      Object.assign(held, { key, budget: asked, failed: false });
    } catch (error) {
      if (!held.failed) tell(error); // once, and not with every movement
      Object.assign(held, { key, budget, failed: true });
    }
    held.asking = null;
    this.app.draw([view]);
    if (held.wanted) this.fetch(view, held);
  }

  receive(held, buffer, shade) {
    this.drop(held);
    const head = new DataView(buffer),
      { cloud } = this.app,
      count = head.getUint32(0, true),
      planes = planesOf(shade);
    held.whole = head.getUint32(4, true) === 1;
    for (let k = 0, at = 16; k < count; k++) {
      const scan = cloud.scans.get(head.getUint32(at, true)),
        n = head.getUint32(at + 4, true),
        place = [8, 16, 24].map((d) => head.getFloat64(at + d, true)),
        geometry = new THREE.BufferGeometry();
      const bytes = 16 + 4 * (planes.length - 1),
        from = buffer.slice(at + 32, at + 32 + bytes * n);
      planes.forEach((name, p) => {
        const values = p ? new Uint8Array(from, (12 + 4 * p) * n, 4 * n) : new Float32Array(from, 0, 4 * n);
        geometry.setAttribute(p ? name : "position", new THREE.BufferAttribute(values, 4, p > 0));
      });
      at += 32 + bytes * n;
      if (!scan) continue;
      const points = new THREE.Points(geometry, scan.solid);
      points.frustumCulled = points.matrixAutoUpdate = points.matrixWorldAutoUpdate = points.visible = false;
      cloud.scene.add(points);
      held.parts.push({ scan, count: n, points, place, unit: 1 });
    }
  }

  // Parts follow their scans, also while one is moved by hand.
  static aim({ points, scan, place }) {
    points.matrix.makeTranslation(...place).premultiply(scan.matrix);
    points.matrixWorld.copy(points.matrix);
  }

  drop(held) {
    for (const { points } of held.parts) {
      this.app.cloud.scene.remove(points);
      points.geometry.dispose();
    }
    Object.assign(held, { parts: [], key: "", budget: 0, whole: false });
  }
}
