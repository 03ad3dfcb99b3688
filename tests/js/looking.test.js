// The view from a station, lines laid flat in it, and addresses that bring a view back.
import assert from "node:assert/strict";
import { test } from "node:test";
import { element, page } from "./page.js";
import { looking, near, numbers } from "./pane.js";

globalThis.location = { pathname: "/jobs/7/draw", hash: "" };
globalThis.document = page();
globalThis.ResizeObserver = class {
  observe() {}
};
globalThis.requestAnimationFrame = () => 0;
globalThis.cancelAnimationFrame = () => {};
const strokes = [];
globalThis.Path2D = class {
  constructor() {
    this.lines = [];
  }
  moveTo(...at) {
    this.lines.push([at]);
  }
  lineTo(...at) {
    this.lines.at(-1).push(at);
  }
  addPath(path, matrix) {
    this.lines.push(...path.lines);
    this.matrix = matrix;
  }
};
globalThis.DOMMatrix = class {
  constructor(values) {
    this.values = values;
  }
};
globalThis.window = { devicePixelRatio: 1 };
globalThis.getComputedStyle = () => ({ getPropertyValue: (name) => name });
const THREE = await import("../../src/terrazza/web/static/vendor/three.module.js");
const { StationView } = await import("../../src/terrazza/web/static/js/station.js");
const { Ink } = await import("../../src/terrazza/web/static/js/ink.js");
const { SlabView } = await import("../../src/terrazza/web/static/js/slab.js");
const { PlanView } = await import("../../src/terrazza/web/static/js/views.js");
const places = await import("../../src/terrazza/web/static/js/places.js");

// A dome scanned column by column, one a degree, turning to the left as azimuths fall.
function station(more = {}) {
  const pose = new THREE.Matrix4().makeRotationZ(0.3).setPosition(5, -2, 1.5);
  const falling = (from, to, n) => Array.from({ length: n }, (_, k) => from + ((to - from) * k) / (n - 1));
  const app = { cloud: { scans: new Map([[4, { matrix: pose }]]), data: { notation: null } }, marks: true };
  const view = new StationView(element(), app);
  view.about = {
    key: "4",
    scan: 4,
    version: "v",
    rows: 120,
    columns: 360,
    tile: 256,
    turn: true,
    eye: [0, 0, 0],
    marks: [],
    azimuth: falling(Math.PI, -Math.PI, 361),
    across: falling(-0.5, 359.5, 361),
    elevation: falling(1, -1, 121),
    down: falling(-0.5, 119.5, 121),
    ...more,
  };
  view.fit();
  return { view, pose };
}

test("a place is seen in the column and row of its direction, whatever lap is in view", () => {
  const { view, pose } = station(),
    random = numbers(2);
  for (let k = 0; k < 100; k++) {
    const azimuth = 2 * Math.PI * (random() - 0.5),
      elevation = 1.8 * (random() - 0.5),
      far = 1 + 20 * random();
    const own = new THREE.Vector3(
      Math.cos(azimuth) * Math.cos(elevation),
      Math.sin(azimuth) * Math.cos(elevation),
      Math.sin(elevation),
    );
    const place = own.multiplyScalar(far).applyMatrix4(pose).toArray(),
      seen = view.seen(place);
    assert.ok(
      near(seen, [((Math.PI - azimuth) * 180) / Math.PI - 0.5, 119.5 - 60 * (elevation + 1)], 1e-6),
      `${seen}`,
    );
    view.x = 360 * random();
    view.settle();
    const pixel = view.toPixel(place),
      back = pixel && view.toGrid(...pixel);
    if (pixel)
      assert.ok(
        Math.abs(((back[0] - 0.5 - seen[0] + 540) % 360) - 180) < 1e-6 &&
          Math.abs(back[1] - 0.5 - seen[1]) < 1e-6,
      );
  }
  assert.equal(view.seen(new THREE.Vector3(0, 0, -3).applyMatrix4(pose).toArray()), null, "below the grid");
});

test("a straight line is bent as the grid bends it, and parted at the seam", () => {
  const { view } = station(),
    a = [9, -6, 1.5],
    b = [9, 4, 1.5],
    parts = view.flatParts(a, b);
  assert.ok(parts > 20 && parts <= 60, `${parts} parts`);
  const [from, to] = view.flatPiece(a, b),
    [u, v, , d, e, f] = view.flatTo();
  assert.equal(v, 0);
  assert.ok(near([u * from[0] + e, d * from[1] + f], view.toPane(...from)), "as pixels are");
  assert.ok(to[0] < from[0], "to the left");
  assert.equal(view.flatPiece([3, -2.2, 1.5], [3, -2.2, -90]), null);
});

test("lines are laid flat once, and only moved when the view moves", () => {
  const canvas = { ...element(), getContext: () => ({ scale() {}, stroke: (path) => strokes.push(path) }) };
  globalThis.document.createElement = () => canvas;
  const drawings = [
    {
      lines: [
        {
          at: [
            [0, 0, 1],
            [10, 0, 1],
            [10, 5, 1],
          ],
          closed: true,
        },
        {
          at: [
            [1, 1, 0],
            [2, 2, 9],
          ],
          closed: false,
          colour: "#123456",
        },
      ],
    },
  ];
  const app = {
    cloud: { data: { drawings, state: "1" } },
    surfaces: { key: "", shown: [], lines: () => [] },
  };
  const ink = new Ink(app),
    view = looking(PlanView, { centre: [5, 2], scale: 0.05 });
  Object.assign(view.pane, { insertBefore() {}, querySelector: () => null });
  ink.paint(view);
  assert.deepEqual(
    strokes.map((p) => p.lines.map((l) => l.length)),
    [[4], [2]],
    "a closed line comes back, colours apart",
  );
  const paths = ink.of(view).paths;
  view.shift(40, 0);
  ink.paint(view);
  assert.equal(ink.of(view).paths, paths, "the same paths");
  assert.notDeepEqual(strokes.at(-1).matrix.values, strokes[0].matrix.values);
  app.cloud.data.state = "2";
  app.cloud.data.drawings = [];
  ink.paint(view);
  assert.ok(canvas.hidden && ink.of(view).paths !== paths);
});

test("an address brings the same view back, wherever the scene's origin lies", () => {
  const target = (x, y, z) => new THREE.Vector3(x, y, z);
  const table = (origin) => ({
    cloud: { data: { origin, boxes: [{ id: 1, name: "Nord & Süd" }] } },
    plan: { centre: [0, 0], scale: 1 },
    space: { target: target(0, 0, 0), distance: 1, azimuth: 0, elevation: 0 },
    slab: looking(SlabView, {}),
    station: { shown: false },
    colour(mode) {
      this.mode = mode;
    },
    planAs(how) {
      this.planMode = how;
    },
    showBox(box) {
      this.box = box;
    },
    showSlab() {},
    dirty() {},
  });
  const first = table([100, 200, 300]);
  Object.assign(first, {
    slabOn: true,
    slabHeight: 1.25,
    slabThickness: 0.3,
    mode: "scan",
    planMode: "height",
    box: { name: "Nord & Süd" },
  });
  Object.assign(first.plan, { centre: [3.5, -4], scale: 0.02 });
  Object.assign(first.space, { target: target(1, 2, 3), distance: 7, azimuth: 0.4, elevation: 0.5 });
  Object.assign(first.slab, {
    path: [
      [0, 0],
      [5, 0],
      [5, 9],
    ],
    along: 2,
    height: 1,
    scale: 0.01,
    thickness: 0.4,
  });
  const words = places.address(first),
    second = table([110, 190, 290]);
  places.look(second, `#${words}`);
  assert.equal(places.address(second), words);
  assert.ok(near(second.plan.centre, [-6.5, 6]) && near(second.space.target.toArray(), [-9, 12, 13]));
  assert.deepEqual(second.slab.path, [
    [-10, 10],
    [-5, 10],
    [-5, 19],
  ]);
  assert.deepEqual([second.slabOn, second.slabHeight, second.mode, second.box.id], [true, 11.25, "scan", 1]);
  places.look(second, "#plan=1,2;space=x,y,z,1,2,3;colour=class");
  assert.ok(near(second.plan.centre, [-6.5, 6]), "what is not whole changes nothing");
  assert.equal(second.mode, "class");
});

test("of very many places some are drawn while a view moves, and all when it rests", async () => {
  const strokes = [];
  class Path {
    points = 0;
    moveTo() {
      this.points += 1;
    }
    lineTo() {
      this.points += 1;
    }
    addPath(other) {
      this.points += other.points;
    }
  }
  const real = globalThis.Path2D;
  globalThis.Path2D = Path;
  const canvas = { ...element(), getContext: () => ({ scale() {}, stroke: (path) => strokes.push(path) }) };
  globalThis.document.createElement = () => canvas;
  const at = Array.from({ length: 20 }, (_, k) => [k, Math.sin(k), 0]);
  const lines = Array.from({ length: 500 }, () => ({ at, closed: false }));
  const app = {
    cloud: { data: { drawings: [{ lines }], state: "1" } },
    surfaces: { key: "", shown: [], lines: () => [] },
  };
  const ink = new Ink(app),
    view = looking(PlanView, { centre: [5, 2], scale: 0.05 });
  Object.assign(view.pane, { insertBefore() {}, querySelector: () => null });
  const drawn = () => strokes.map((path) => path.points);
  ink.paint(view);
  ink.paint(view);
  assert.deepEqual(drawn(), [500 * 20], "once, as long as nothing changes");
  view.shift(40, 0);
  ink.paint(view);
  assert.ok(drawn()[1] < 500 * 8 && drawn()[1] >= 500 * 2, `${drawn()[1]} while it moves`);
  ink.paint(view);
  assert.equal(drawn().length, 2, "marks drawn anew do not draw lines anew");
  await new Promise((done) => setTimeout(done, 350));
  assert.deepEqual(drawn().slice(2), [500 * 20], "all at rest");
  lines.length = 10;
  app.cloud.data.state = "2";
  view.shift(40, 0);
  ink.paint(view);
  assert.equal(drawn().at(-1), 10 * 20, "few are always drawn whole");
  globalThis.Path2D = real;
});
