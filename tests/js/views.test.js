// Where the views see what: pixels and places, lines laid flat, and the planes that the server cuts by.
import assert from "node:assert/strict";
import { test } from "node:test";
import * as boxes from "../../src/terrazza/web/static/js/boxes.js";
import { nearest } from "../../src/terrazza/web/static/js/picking.js";
import { pieces, regionOf } from "../../src/terrazza/web/static/js/regions.js";
import { SlabView } from "../../src/terrazza/web/static/js/slab.js";
import { PlanView, SpaceView, TwinView } from "../../src/terrazza/web/static/js/views.js";
import * as THREE from "../../src/terrazza/web/static/vendor/three.module.js";
import { looking, near, numbers, pane } from "./pane.js";

const BENT = [
  [0, 0],
  [10, 0],
  [10, 8],
];
const SLAB = { path: BENT, along: 9, height: 1, scale: 0.05, thickness: 0.5 };

// Pane pixels of a place laid flat, by the view's own matrix.
function flatPixel(view, [u, v]) {
  const [a, b, c, d, e, f] = view.flatTo();
  return [a * u + c * v + e, b * u + d * v + f];
}

test("plan: a pixel is a place and back, and the place under the pointer stays when going nearer", () => {
  const view = looking(PlanView, { centre: [120.5, -33.25], scale: 0.02 });
  for (const at of [
    [0, 0],
    [400, 300],
    [123, 45],
  ]) {
    const [x, y] = view.toWorld(...at),
      [px, py] = view.toPixel([x, y, 7]);
    assert.ok(near([px, py], at, 1e-6), `${px} ${py}`);
    assert.ok(near(flatPixel(view, [x, y]), at, 1e-6));
    view.zoom(0.7, ...at);
    assert.ok(near(view.toWorld(...at), [x, y], 1e-9));
    view.prepare();
  }
  view.fit({ min: [0, 0, 0], max: [30, 20, 5] });
  const low = view.toWorld(0, 300),
    high = view.toWorld(400, 0);
  assert.ok(low[0] <= 0 && low[1] <= 0 && high[0] >= 30 && high[1] >= 20);
  const before = view.toWorld(200, 150);
  view.shift(10, -4);
  assert.ok(near(view.toWorld(210, 146), before, 1e-9), "what is dragged stays under the pointer");
});

test("space: the ray of a pixel passes through what is seen there, and nothing is seen behind the eye", () => {
  const view = looking(SpaceView, { distance: 12, azimuth: 0.4, elevation: 0.5 });
  view.target.set(3, -2, 1);
  view.prepare();
  const random = numbers(7);
  for (let k = 0; k < 50; k++) {
    const place = [3, -2, 1].map((v) => v + 6 * (random() - 0.5)),
      seen = view.toPixel(place);
    const { origin, direction, slope } = view.ray(seen[0], seen[1]);
    const to = place.map((v, axis) => v - origin[axis]),
      along = to.reduce((n, v, axis) => n + v * direction[axis], 0);
    const off = Math.hypot(...to.map((v, axis) => v - along * direction[axis]));
    assert.ok(off < 1e-4 * along, `${off} m beside it at ${along} m`);
    assert.ok(along * slope < 0.1, "a pixel is centimetres wide there");
  }
  const eye = view.camera.position.toArray(),
    behind = eye.map((v, k) => v + (v - view.target.toArray()[k]));
  assert.equal(view.toPixel(behind), null);
  view.orbit(0, 1e5);
  assert.ok(view.elevation <= 1.55);
  for (let k = 0; k < 200; k++) view.zoom(0.5, 0, 0);
  assert.ok(view.distance >= 0.05);
});

test("a second space looks from where the first looks", () => {
  const first = looking(SpaceView, { distance: 9 }),
    twin = new TwinView(pane(), first);
  twin.distance = 4;
  twin.orbit(30, 0);
  assert.equal(first.distance, 4);
  assert.equal(first.azimuth, twin.azimuth);
});

test("slab: the way along a bent line, heights, and what lies beside it", () => {
  const view = looking(SlabView, SLAB);
  assert.equal(view.length, 18);
  for (const [place, along, off] of [
    [[4, 0.2, 1], 4, 0.2],
    [[10.3, 5, 0], 15, 0.3],
    [[-2, 0, 3], -2, 0],
    [[10, 11, 3], 21, 0],
    [[12, -1, 0], 10, Math.hypot(2, 1)],
  ]) {
    const found = view.place(place);
    assert.ok(
      Math.abs(found.along - along) < 1e-9 && Math.abs(found.off - off) < 1e-9,
      JSON.stringify(found),
    );
    assert.ok(near(view.toPixel(place).slice(0, 2), [200 + (along - 9) / 0.05, 150 - (place[2] - 1) / 0.05]));
  }
  const { origin, direction } = view.ray(200 + 6 / 0.05, 150); // 15 m along: on the second piece
  assert.ok(near([direction[0], direction[1]], [-1, 0]) && Math.abs(origin[1] - 5) < 1e-9);
  view.stretch = 5;
  assert.ok(Math.abs(view.toWorld(200, 140)[1] - 1.1) < 1e-9, "heights five times as tall");
  view.step(0.25);
  assert.ok(view.path.every((p, k) => Math.abs(Math.hypot(p[0] - BENT[k][0], p[1] - BENT[k][1]) - 0) < 0.3));
});

test("slab: lines are shown as far as they lie within it", () => {
  const view = looking(SlabView, {
    ...SLAB,
    path: [
      [0, 0],
      [10, 0],
      [10, 8],
    ],
  });
  const across = view.flatPiece([4, -1, 2], [4, 1, 3]); // enters and leaves
  assert.ok(near(across[0].slice(0, 2), [4, 2.375]) && near(across[1].slice(0, 2), [4, 2.625]), `${across}`);
  assert.equal(view.flatPiece([4, 0.3, 2], [5, 0.4, 2]), null, "beside it");
  const second = view.flatPiece([10.1, 2, 0], [10.1, 6, 0]);
  assert.ok(near([second[0][0], second[1][0]], [12, 16]));
  const pixels = second.map((at) => flatPixel(view, at));
  assert.ok(near(pixels[0], view.toPixel([10.1, 2, 0]).slice(0, 2)));
  assert.notEqual(view.flatKey(), looking(SlabView, { ...SLAB, thickness: 0.6 }).flatKey());
});

test("a box holds what brute force says it holds, inside out too", () => {
  const random = numbers(3),
    box = { centre: [5, 2, 1], size: [4, 2, 3], heading: 0.7, outside: false };
  const held = { ...box, unit: boxes.toUnit(box) },
    out = { ...held, outside: true };
  let inside = 0;
  for (let k = 0; k < 500; k++) {
    const p = box.centre.map((v) => v + 6 * (random() - 0.5));
    const [x, y] = boxes.turn(p[0] - 5, p[1] - 2, -0.7);
    const really = Math.abs(x) <= 2 && Math.abs(y) <= 1 && Math.abs(p[2] - 1) <= 1.5;
    inside += really;
    assert.equal(boxes.holds(held, ...p), really);
    assert.equal(boxes.holds(out, ...p), !really);
    if (really) assert.ok(boxes.near(held, new THREE.Vector3(...p), 0.01));
  }
  assert.ok(inside > 20 && inside < 200);
  const [a, b, c] = boxes.corners(box);
  assert.ok(Math.abs(Math.hypot(b[0] - a[0], b[1] - a[1]) - 4) < 1e-9);
  assert.ok(Math.abs(Math.hypot(c[0] - b[0], c[1] - b[1]) - 2) < 1e-9);
});

test("the planes that go to the server hold what the view shows, and little else", () => {
  const box = { centre: [5, 0, 1], size: [8, 0.4, 2], heading: 0.1, outside: false },
    random = numbers(11);
  box.unit = boxes.toUnit(box);
  const plan = looking(PlanView, { centre: [5, 0], scale: 0.05, limits: { slab: [0.5, 1.5], box } });
  const slab = looking(SlabView, {
    ...SLAB,
    path: [
      [0, 0],
      [10, 0],
    ],
    along: 5,
    box: null,
  });
  assert.equal(
    regionOf(looking(PlanView, { centre: [5, 0], scale: 0.05, limits: {} })),
    null,
    "no slab, no box",
  );
  for (const [view, really] of [
    [plan, (p) => p[2] >= 0.5 && p[2] <= 1.5 && boxes.holds(box, ...p)],
    [slab, (p) => Math.abs(p[1]) <= 0.25],
  ]) {
    const planes = regionOf(view);
    assert.equal(planes.length, 1);
    assert.deepEqual(planes, pieces(view));
    let shown = 0;
    for (let k = 0; k < 5000; k++) {
      const p = [30 * (random() - 0.3), 1.2 * (random() - 0.5), 5 * (random() - 0.3)];
      const [px, py] = view.toPixel(p),
        seen = px >= 0 && px <= 400 && py >= 0 && py <= 300 && really(p);
      const kept = planes[0].every(([a, b, c, d]) => a * p[0] + b * p[1] + c * p[2] <= d + 1e-9);
      const margin = px >= -20 && px <= 420 && py >= -20 && py <= 320 && really(p);
      if (seen) assert.ok(kept, `${p} is seen and not asked for`);
      if (kept) assert.ok(margin, `${p} is asked for and not near what is seen`);
      shown += seen;
    }
    assert.ok(shown > 20);
  }
});

test("the nearest drawn point under the pointer, in front of what lies behind it", () => {
  const view = looking(PlanView, { centre: [0.5, 0.5], scale: 0.01 });
  const at = [
    [0.5, 0.5, 0.1],
    [0.5, 0.5, 0.9],
    [0.52, 0.5, 0.95],
    [0.9, 0.9, 0.5],
  ];
  const values = new Uint16Array(at.flatMap((p) => [...p.map((v) => Math.round(v * 65535)), 0]));
  const points = {
    matrixWorld: new THREE.Matrix4(),
    geometry: { attributes: { position: { array: values } } },
  };
  view.chosen = [{ points, count: 4 }];
  const all = { shows: () => true },
    [px, py] = view.toPixel([0.5, 0.5, 0]);
  assert.equal(nearest(view, all, px, py).index, 1, "the upper of two in one place");
  assert.equal(nearest(view, all, px + 1.8, py).index, 2, "the nearer one first");
  assert.equal(nearest(view, { shows: (_node, k) => k === 0 }, px, py).index, 0, "of those that are shown");
  assert.equal(nearest(view, all, px, py - 60), null);
});
