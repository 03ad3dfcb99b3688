// The handover folder's scripts: stored numbers to places, pictures to directions, and which points are asked for.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";
import { createContext, runInContext } from "node:vm";

const FOLDER = new URL("../../src/terrazza/web/static/handover/", import.meta.url);
const turned = [
  [0, -1, 0, 600],
  [1, 0, 0, 200],
  [0, 0, 1, 50],
  [0, 0, 0, 1],
];
const view = {
  rows: 180,
  columns: 360,
  across: [0, 90, 180, 270, 359],
  azimuth: [0, 90, 180, 270, 359].map((k) => Math.PI - (k * Math.PI) / 180),
  down: [0, 90, 179],
  elevation: [0, 90, 179].map((k) => Math.PI / 2 - (k * Math.PI) / 180),
};
const scan = { id: 4, name: "A", pose: turned, scale: [0.001, 0.001, 0.001], offset: [1, 2, 3] };
const from = { scan: 4, stop: 0, name: "A", file: "views/4.jpg", pose: turned, ...view };
const part = (name, level, middle, count = 10) => ({ name, scan: 4, level, count, middle, radius: 1 });

// The scripts run as a page would run them, one after the other, over one JOB.
function opened(more = {}) {
  const scripts = [],
    canvas = { clientWidth: 800, clientHeight: 400 };
  const job = {
    origin: [600, 200, 50],
    scans: [scan],
    views: [from],
    parts: [],
    plan: { corner: [590, 220], pixel: 0.5, width: 100, height: 80 },
    ...more,
  };
  const page = createContext({
    document: {
      getElementById: () => canvas,
      createElement: () => ({ remove() {} }),
      head: { append: (script) => scripts.push(script) },
    },
    atob,
    Image: class {},
    console,
  });
  runInContext(`const JOB = ${JSON.stringify(job)};`, page);
  for (const name of ["points.js", "space.js", "flat.js"])
    runInContext(readFileSync(new URL(name, FOLDER), "utf8"), page);
  return { page, scripts, ask: (text) => runInContext(text, page) };
}

const text = (values) => Buffer.from(values.buffer).toString("base64");
const near = (a, b, off = 1e-9) =>
  a.forEach((v, k) => assert.ok(Math.abs(v - b[k]) < off, `${a} is not ${b}`));

test("stored numbers become places by their scan's scale, offset and pose", () => {
  const { ask, page } = opened();
  page.numbers = new Int32Array([500, -1500, 7]);
  // own: 1.5, 0.5, 3.007; turned by 90 degrees and moved
  near(Array.from(ask("placeOf(SCANS.get(4), numbers, 0)")), [600 - 0.5, 200 + 1.5, 53.007], 1e-12);
});

test("a script hands its points over, and the best one is found among them", () => {
  const { ask, page } = opened();
  const stored = new Int32Array([0, 0, 0, 1000, 0, 0, 0, 0, 9000]);
  page.told = [text(stored), text(new Uint8Array([1, 2, 3, 4, 5, 6, 7, 8, 9]))];
  ask(`WAITING.set("p", ${JSON.stringify(part("p", 0, [600, 200, 50], 3))}); handed("p", ...told)`);
  assert.equal(ask("POINTS.count"), 3);
  near(Array.from(ask("POINTS.parts.get('p').shown")), [-2, 1, 3, -2, 2, 3, -2, 1, 12], 1e-5);
  const highest = ask("bestPoint((x, y, z) => -z)");
  assert.equal(highest.scan, 4);
  near(Array.from(highest.at), [598, 201, 62], 1e-12);
  assert.equal(ask("bestPoint(() => NaN)"), null);
});

test("coarse points of everything come first, then finer ones nearby, to the budget", () => {
  const parts = [
    part("far-fine", 2, [900, 200, 50]),
    part("near-fine", 2, [601, 200, 50]),
    part("far", 0, [900, 200, 50]),
    part("near", 0, [601, 200, 50]),
    part("too-many", 3, [600, 200, 50], 9e6),
  ];
  const { ask, scripts } = opened({ parts });
  ask("wantPoints([600, 200, 50])");
  const order = [];
  while (scripts.length) {
    const script = scripts.shift();
    order.push(script.src);
    script.onload();
  }
  const wanted = ["near", "far", "near-fine", "far-fine"].map((name) => `points/${name}.js`);
  assert.deepEqual(order, wanted);
  ask("wantPoints([600, 200, 50])");
  assert.equal(scripts.length, 0, "what is there is not asked for again");
});

test("the plan puts places where they lie, and goes nearer about the pointer", () => {
  const { ask } = opened();
  ask("Object.assign(FLAT, { scale: 2, x: 10, y: 20 }); globalThis.look = { plan: JOB.plan }");
  near(Array.from(ask("planPixel([591, 219])")), [10 + 4, 20 + 4]);
  const before = Array.from(ask("flatPlace(100, 50)"));
  ask("zoomFlat(100, 50, 3)");
  near(Array.from(ask("flatPlace(100, 50)")), before);
  assert.equal(ask("FLAT.scale"), 6);
});

test("a view shows a place in the direction it is in, and picks it back", () => {
  const { ask, page } = opened();
  ask("Object.assign(FLAT, { scale: 1, x: 0, y: 0 })");
  // in the scan's own frame 3 m ahead along y: azimuth 90 degrees, level
  page.at = [600 - 3, 200, 50];
  near(Array.from(ask("directionOf(JOB.views[0], at)")), [Math.PI / 2, 0, 3]);
  near(Array.from(ask("viewPixel(JOB.views[0], at)")), [90, 90], 1e-6);
  page.told = [text(new Int32Array([-1000, 1000, -3000, -1000, 1000, 5000])), text(new Uint8Array(6))];
  ask(`WAITING.set("q", ${JSON.stringify(part("q", 0, [600, 200, 50], 2))}); handed("q", ...told)`);
  const found = ask("pickView(JOB.views[0], 90, 90)");
  near(Array.from(found.at), [597, 200, 50], 1e-12);
  assert.equal(ask("pickView(JOB.views[0], 270, 90)"), null, "behind it is nothing");
});

test("the eye sees what it looks at in the middle, and nothing behind itself", () => {
  const { ask } = opened();
  ask("Object.assign(eye, { at: [1, 2, 3], distance: 10, turn: 0.7, lift: 0.4 })");
  near(Array.from(ask("spacePixel([1, 2, 3])")).slice(0, 2), [400, 200], 1e-3);
  assert.equal(ask("(({ from, look }) => spacePixel(from.map((v, k) => v - look[k])))(axes())"), null);
  const [x] = Array.from(ask("spacePixel([1, 2, 3].map((v, k) => v + axes().right[k]))"));
  assert.ok(x > 410, "to the right is to the right");
  const [, y] = Array.from(ask("spacePixel([1, 2, 4])"));
  assert.ok(y < 190, "up is up");
});
