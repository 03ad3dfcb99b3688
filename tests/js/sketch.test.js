// Sketches under the plan, and what is touched on them.
import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { element, page } from "./page.js";

globalThis.location = { pathname: "/jobs/7/register", hash: "" };
globalThis.document = page();
globalThis.window = { addEventListener() {} };
const { laid, pixelOf, placeOf, Underlay, within } = await import(
  "../../src/terrazza/web/static/js/underlay.js"
);
const { default: tool } = await import("../../src/terrazza/web/static/js/tools/sketch.js");

const near = (got, wanted) => got.forEach((v, k) => assert.ok(Math.abs(v - wanted[k]) < 1e-9, `${got}`));
const TURNED = {
  id: 3,
  name: "Skizze",
  url: "/s",
  width: 400,
  height: 300,
  stations: { 1: [10, 20] },
  matrix: [0.04, 0.03, -5, 0.03, -0.04, 12],
};
const toPixel = ([x, y]) => [200 + x / 0.05, 100 - y / 0.05, 1]; // a plan of 5 cm a pixel

test("pixels and places are each other's inverse", () => {
  for (const pixel of [
    [0, 0],
    [400, 300],
    [17.5, 260],
  ])
    near(pixelOf(TURNED, placeOf(TURNED, pixel)), pixel);
  near(placeOf(TURNED, [100, 0]), [-1, 15]);
  assert.ok(within(TURNED, [400, 0]) && !within(TURNED, [401, 0]) && !within(TURNED, [5, -1]));
});

test("the picture lies where its pixels are in the plan", () => {
  const [a, b, c, d, e, f] = laid(TURNED, toPixel);
  for (const [column, row] of [
    [0, 0],
    [400, 0],
    [123, 45],
  ])
    near(
      [a * column + c * row + e, b * column + d * row + f],
      toPixel(placeOf(TURNED, [column, row])).slice(0, 2),
    );
});

test("pictures come, move with the plan, are switched off, and go with their sketch", () => {
  const made = [],
    pane = element({ insertBefore: (image) => made.push(image) }),
    box = element({ checked: true });
  document.getElementById("plan-sketch").querySelector = () => box;
  document.createElement = () => element({ style: {}, remove: () => made.pop() });
  const app = { cloud: { data: { sketches: [TURNED] } }, overlay() {} },
    underlay = new Underlay(app),
    view = { pane, toPixel };
  underlay.paint(view);
  underlay.paint(view);
  assert.equal(made.length, 1);
  assert.equal(made[0].style.transform, `matrix(${laid(TURNED, toPixel).join()})`);
  assert.equal(underlay.switched.hidden, false);
  box.checked = false;
  underlay.paint(view);
  assert.equal(made[0].hidden, true);
  app.cloud.data.sketches = [];
  underlay.paint(view);
  assert.deepEqual([made.length, underlay.switched.hidden], [0, true]);
});

let asked, app;
const plan = { kind: "plan", toWorld: (x, y) => [x, y, 0], toPixel };
const on = (...pixel) => placeOf(TURNED, pixel);

beforeEach(() => {
  asked = [];
  window.htmx = { ajax: async (method, url, { values }) => asked.push({ method, url, values }) };
  const scan = (id, placed) => [id, { id, record: { name: `Scan ${id}`, placed } }];
  app = {
    job: "7",
    tool: "sketch",
    tools: { sketch: tool },
    cloud: {
      scans: new Map([scan(1, true), scan(2, false), scan(3, false)]),
      data: { sketches: [TURNED], origin: [100, 200, 0] },
    },
    overlay() {},
  };
  tool.leave(app);
  tool.enter(app);
});
const panel = () => document.getElementById("action");
const choose = (value) =>
  document.getElementById("sketch-what").listeners.change.at(-1)({ target: { value } });
const press = (what) => panel().onclick({ target: { dataset: { do: what } } });

test("scans without a place come first, one after the other, then known places", () => {
  assert.match(panel().innerHTML, /Scan 2 stood/);
  tool.click(app, plan, ...on(50, 60));
  assert.match(panel().innerHTML, /Scan 3 stood/);
  tool.click(app, plan, ...on(70, 80));
  assert.match(panel().innerHTML, /a place on the sketch that you know/);
  assert.match(panel().innerHTML, /lay by 2 scans/);
});

test("a known place is touched on the sketch and in the plan, and both are sent", () => {
  choose("place");
  tool.click(app, plan, ...on(50, 60));
  assert.match(panel().innerHTML, /where that is in the plan/);
  tool.click(app, plan, 1, 2);
  choose("3");
  tool.click(app, plan, ...on(70, 80));
  press("lay");
  const [{ method, url, values }] = asked;
  assert.deepEqual([method, url, values.sketch], ["POST", "/jobs/7/do/register.sketch", 3]);
  const [[column, row, east, north]] = JSON.parse(values.known);
  near([column, row, east, north], [50, 60, 101, 202]); // in the grid, not from the scene's origin
  const [[scan, ...pixel]] = JSON.parse(values.stations);
  assert.equal(scan, 3);
  near(pixel, [70, 80]);
});

test("what lies beside the sketch, or in another view, is said", () => {
  tool.click(app, plan, ...on(-5, 10));
  assert.match(panel().innerHTML, /beside the sketch/);
  tool.click(app, { ...plan, kind: "slab" }, 0, 0);
  assert.match(panel().innerHTML, /Touch it in the plan/);
  app.cloud.data.sketches = [];
  tool.enter(app);
  assert.match(panel().innerHTML, /Lay a sketch or map under the plan first/);
});

test("marks stand where they were touched, all gone when the tool is put down", () => {
  tool.click(app, plan, ...on(50, 60));
  const [x, y] = toPixel(on(50, 60));
  assert.ok(tool.marks(app, plan).includes(`cx="${x}" cy="${y}"`));
  assert.equal(tool.marks(app, { kind: "space" }), "");
  tool.leave(app);
  const left = tool.marks(app, plan).match(/<circle/g);
  assert.equal(left.length, 1, "the scan that the sketch has");
});
