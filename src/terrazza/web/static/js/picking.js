// Picking: under the moving pointer the nearest drawn point, from the loaded nodes; on a click the stored point, from the server.
import { returnsHidden } from "./layout.js";
import { ask } from "./trouble.js";

const RINGS = [1.5, 3, 6, 10]; // px: the nearest point within the smallest ring that has any

// The nearest drawn point to pane pixel (px, py): { node, index, place } or null.
export function nearest(view, cloud, px, py) {
  const found = RINGS.map(() => null),
    m = new view.camera.matrixWorld.constructor(),
    reach = RINGS[RINGS.length - 1] ** 2;
  for (const { matrix, limits } of view.passes)
    for (const node of [...view.chosen, ...view.parts]) {
      if (!node.points) continue;
      m.multiplyMatrices(matrix, node.points.matrixWorld);
      const e = m.elements,
        w = node.points.matrixWorld.elements,
        a = node.points.geometry.attributes.position.array,
        unit = node.unit ?? 65535,
        hw = view.rect.width / 2,
        hh = view.rect.height / 2;
      for (let k = 0; k < node.count; k++) {
        const x = a[4 * k] / unit,
          y = a[4 * k + 1] / unit,
          z = a[4 * k + 2] / unit,
          q = e[3] * x + e[7] * y + e[11] * z + e[15];
        if (q <= 0) continue;
        const dx = ((e[0] * x + e[4] * y + e[8] * z + e[12]) / q + 1) * hw - px,
          dy = (1 - (e[1] * x + e[5] * y + e[9] * z + e[13]) / q) * hh - py,
          off = dx * dx + dy * dy;
        if (off > reach) continue;
        const depth = (e[2] * x + e[6] * y + e[10] * z + e[14]) / q,
          ring = RINGS.findIndex((r) => off <= r * r);
        if (found[ring] && found[ring].depth <= depth) continue;
        const wx = w[0] * x + w[4] * y + w[8] * z + w[12],
          wy = w[1] * x + w[5] * y + w[9] * z + w[13],
          wz = w[2] * x + w[6] * y + w[10] * z + w[14];
        if (cloud.shows(node, k, wx, wy, wz, limits ?? {}))
          found[ring] = { node, index: k, depth, place: [wx, wy, wz] };
      }
    }
  return found.find((f) => f) ?? null;
}

// The stored point behind a pane pixel, found by the server among all points; null where there is none.
export async function exact(app, view, px, py) {
  const { slab, wall, along } = view.limitsAt(px, py) ?? {};
  const ray = {
    ...view.ray(px, py),
    scans: app.cloud.visibleScans().map((s) => s.id),
    hidden_classes: [...app.cloud.hiddenClasses],
    returns: returnsHidden(app.returns),
    slab: slab ?? null,
    wall: wall ?? null,
    along: along ?? null,
    box: app.box?.kept ? app.box.name : "",
  };
  return (await ask(`/jobs/${app.job}/scene/pick`, { json: ray })).json();
}
