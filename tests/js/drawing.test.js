// Lines drawn and changed by hand: where a touch lands, what goes to the server, and outlines of every shape.
import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { page } from "./page.js";

globalThis.document = page();
document.body.dataset.step = "classify";
let sent = [];
globalThis.window = { htmx: { ajax: async (...asked) => void sent.push(asked) } };
const { snapped } = await import("../../src/terrazza/web/static/js/snap.js");
const { returnsHidden, setLayout } = await import("../../src/terrazza/web/static/js/layout.js");
const [line, mend, outline, along] = await Promise.all(
  ["line", "mend", "outline", "along"].map(
    async (name) => (await import(`../../src/terrazza/web/static/js/tools/${name}.js`)).default,
  ),
);
const THREE = await import("../../src/terrazza/web/static/vendor/three.module.js");

const METRIC = { per_unit: 1, unit: "m", decimals: 3, decimal: ".", thousands: "", order: "E N H" };
const panel = () => document.getElementById("action");
const press = (what) => panel().onclick({ target: { dataset: { do: what } } });
// A plan of ten pixels a metre.
const plan = {
  kind: "plan",
  toPixel: ([x, y]) => [10 * x, 10 * y],
  toWorld: (px, py) => [px / 10, py / 10],
  toScreen: (px, py) => [px / 100, py / 100],
  matrix: new THREE.Matrix4(),
};
const DRAWN = [
  {
    id: 4,
    lines: [
      {
        name: "Wall",
        closed: false,
        at: [
          [0, 0, 1],
          [10, 0, 2],
        ],
      },
      {
        name: "Bed",
        closed: true,
        at: [
          [5, -5, 1],
          [5, 5, 1],
          [20, 5, 1],
        ],
      },
    ],
  },
];

function table(points = []) {
  const station = { pick: async () => points.shift() ?? null, toPixel: (p) => [10 * p[0], 10 * p[1]] };
  const frame = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1];
  const data = {
    origin: [100, 200, 0],
    frame,
    drawings: DRAWN,
    notation: METRIC,
    classes: {},
    all_classes: [[6, "Building"]],
  };
  return {
    job: 7,
    tool: "line",
    tools: { line, mend, outline, along },
    station,
    slab: { u: [1, 0] },
    hiddenClasses: new Set(),
    planSlab: () => [0, 1],
    cloud: { data, visibleScans: () => [{ id: 1, record: { placed: true } }] },
    overlay() {},
  };
}
const point = (x, y, z) => ({
  scan: 1,
  placed: true,
  shown: [x + 100, y + 200, z],
  own: [x, y, z],
  at: [x, y, z],
});
const asked = () => [sent.at(-1)[1].split("/do/")[1], sent.at(-1)[2].values];

beforeEach(() => {
  sent = [];
  line.leave();
  mend.leave();
  along.leave();
});

test("a touch means the corner, the crossing, the middle, the foot or the line, in this order", () => {
  for (const [at, from, kind, place] of [
    [[3, 4], null, "corner", [0, 0, 1]],
    [[47, 3], null, "crossing", [5, 0, 1.5]],
    [[126, 51], null, "middle", [12.5, 5, 1]],
    [[72, 5], [7, 8, 0], "foot", [7, 0, 1.7]],
    [[24, 6], null, "line", [2.4, 0, 1.24]],
  ]) {
    const found = snapped(plan, DRAWN, at, from);
    assert.equal(found.kind, kind, `${at}`);
    assert.ok(
      found.place.every((v, k) => Math.abs(v - place[k]) < 1e-9),
      `${kind} ${found.place}`,
    );
  }
  assert.equal(snapped(plan, DRAWN, [24, 30]), null);
});

test("places on points and lines become a line, an area or an arc, and go to the server in the grid", async () => {
  const app = table([point(1, 9, 3)]);
  line.enter(app);
  await line.click(app, app.station, 10, 90);
  await line.click(app, app.station, 3, 4);
  await line.click(app, app.station, 60, 90);
  assert.match(panel().innerHTML, /no point here, and no line/);
  document.getElementById("side-length").value = "5";
  document.getElementById("side-bearing").value = "90";
  press("typed");
  assert.equal((line.marks(app, app.station).match(/<circle/g) ?? []).length, 3);
  press("area");
  const [operation, values] = asked();
  assert.equal(operation, "draw.line");
  assert.equal(values.closed, "on");
  assert.deepEqual(
    JSON.parse(values.at).map((p) => p.map((v) => +v.toFixed(6))),
    [
      [101, 209, 3],
      [100, 200, 1],
      [100, 205, 1],
    ],
  );
  assert.equal(line.marks(app, app.station), "", "the next one begins anew");
});

test("what is drawn gives a class at once, along a line only with a width", async () => {
  const app = table([point(1, 1, 0), point(4, 30, 0)]);
  for (let k = 0; k < 2; k++) await line.click(app, app.station, 500, 500);
  document.getElementById("line-class").value = "6";
  document.getElementById("line-width").value = "";
  press("line-class");
  assert.match(panel().innerHTML, /needs a width/);
  assert.equal(sent.length, 0);
  document.getElementById("line-width").value = "2";
  press("line-class");
  const [operation, values] = asked();
  assert.equal(operation, "classify.by_place");
  assert.deepEqual(
    [JSON.parse(values.lines), values.width, values.to],
    [
      [
        [
          [101, 201],
          [104, 230],
        ],
      ],
      2,
      "6",
    ],
  );
});

test("a touched line is changed: a corner dragged, one put in, one taken out, the whole made parallel", async () => {
  const app = table();
  app.tool = "mend";
  globalThis.fetch = async () => new Response("null");
  const view = { ...plan, ray: () => ({}), limitsAt: () => ({}) };
  app.cloud.hiddenClasses = new Set();
  setLayout({ hides: 3, not_first: 4, not_last: 8 });
  mend.enter(app);
  mend.click(app, view, 24, 3);
  assert.match(panel().innerHTML, /<b>Wall<\/b>/);
  assert.equal(mend.down(app, view, 99, 2), true);
  mend.move(app, view, 110, 38);
  await mend.up(app, view, 110, 38);
  mend.down(app, view, 55, 19);
  press("keep");
  let [operation, values] = asked();
  assert.equal(operation, "draw.move_corners");
  assert.deepEqual(JSON.parse(values.at), [
    [100, 200, 1],
    [105.5, 201.9, 1.5],
    [111, 203.8, 2],
  ]);
  mend.click(app, view, 24, 3);
  document.getElementById("mend-by").value = "0.5";
  press("parallel");
  [operation, values] = asked();
  assert.deepEqual([operation, values.how, values.by, values.line], ["draw.reshape", "parallel", 0.5, 1]);
  mend.click(app, view, 24, 3);
  document.getElementById("mend-h").value = "2.8";
  document.getElementById("mend-count").value = "3";
  press("copy");
  [operation, values] = asked();
  assert.deepEqual([values.how, values.shift, values.count], ["copy", "[0,0,2.8]", 3]);
  mend.click(app, view, 24, 3);
  press("bring");
  mend.click(app, view, 126, 50);
  [operation, values] = asked();
  assert.deepEqual([values.how, values.other], ["bring", 2]);
});

test("many lines at once: touched one by one, or all of a drawing", () => {
  const app = table();
  app.tool = "mend";
  app.cloud.data = {
    ...app.cloud.data,
    drawings: [
      {
        ...DRAWN[0],
        lines: [
          ...DRAWN[0].lines,
          {
            name: "Third",
            closed: false,
            at: [
              [0, 30, 0],
              [10, 30, 0],
            ],
          },
        ],
      },
    ],
  };
  mend.enter(app);
  mend.click(app, plan, 24, 3);
  press("also");
  assert.match(panel().innerHTML, /more lines of the drawing/);
  mend.click(app, plan, 52, 301);
  mend.click(app, plan, 52, 301);
  press("no");
  assert.match(panel().innerHTML, /<b>2 lines<\/b>/);
  document.getElementById("mend-h").value = "1";
  press("move");
  assert.deepEqual([asked()[1].also, asked()[1].line], ["[3]", 1]);
  mend.click(app, plan, 24, 3);
  press("whole");
  press("gone");
  assert.deepEqual(asked(), ["draw.reshape", { drawing: 4, line: 1, how: "gone", also: "[0]" }]);
});

test("corners touched in order are a shape across a direction, that goes to the server about the first", async () => {
  const app = table([point(2, 5, 0.12), point(2, 4.7, 0.12), point(2, 4.7, 0), point(2, 4.7, 0.3)]);
  app.tool = "along";
  along.enter(app);
  for (let k = 0; k < 3; k++) await along.click(app, app.station, 0, 0);
  document.getElementById("along-names").value = "back, top";
  press("follow");
  assert.match(panel().innerHTML, /2 names for 3 corners/);
  document.getElementById("along-names").value = "back, top, flow";
  press("follow");
  const [operation, values] = asked();
  assert.equal(operation, "draw.break_lines");
  assert.deepEqual(JSON.parse(values.at), [[102, 205, 0.12]]);
  // from north to south: what lies to the left of going west
  assert.equal(Math.abs(Math.round(values.heading_deg)), 180);
  assert.deepEqual(
    JSON.parse(values.corners).map((c) => c.map((v) => Math.round(100 * v) / 100 + 0)),
    [
      [0, 0],
      [0.3, 0],
      [0.3, -0.12],
    ],
  );
  assert.deepEqual(JSON.parse(values.names), ["back", "top", "flow"]);
});

test("a thing like one drawn before takes one touch", async () => {
  const app = table([point(1, 1, 0), point(9, 9, 1)]);
  app.cloud.data = {
    ...app.cloud.data,
    drawings: [{ id: 8, name: "Break lines 8", followed: true, lines: [] }],
  };
  app.tool = "along";
  along.enter(app);
  panel().onchange({ target: { id: "along-like", value: "8" } });
  for (let k = 0; k < 2; k++) await along.click(app, app.station, 0, 0);
  press("follow");
  assert.deepEqual(asked()[1], { at: "[[109,209,1]]", like: "8" });
});

test("outlines are freehand, corners, a rectangle or a circle, on the screen of their view", () => {
  for (const [shape, sides] of [
    ["rectangle", 4],
    ["circle", 96],
    ["corners", 3],
  ]) {
    const app = table();
    app.tool = "outline";
    outline.enter(app);
    press(shape);
    if (shape === "corners") {
      for (const at of [
        [0, 0],
        [50, 0],
        [50, 50],
      ])
        outline.click(app, plan, ...at);
      press("close");
    } else {
      outline.down(app, plan, 10, 20);
      outline.move(app, plan, 40, 60);
      outline.up(app, plan);
    }
    press("inside");
    const [operation, values] = asked(),
      polygon = JSON.parse(values.polygon);
    assert.deepEqual([operation, polygon.length], ["clean.outline", sides]);
    if (shape === "rectangle") assert.deepEqual(polygon[2], [0.4, 0.6]);
    if (shape === "circle")
      assert.ok(polygon.every(([x, y]) => Math.abs(Math.hypot(x - 0.1, y - 0.2) - 0.5) < 1e-9));
  }
  outline.enter(table());
  press("freehand");
});

test("which returns are hidden", () => {
  assert.deepEqual(["all", "first", "last", "only"].map(returnsHidden), [0, 4, 8, 12]);
});
