// Tools that place a scan by like points, and draw a room or paint by a touch; the key of the adjustment.
import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { page } from "./page.js";

globalThis.document = page();
globalThis.window = { htmx: { ajax: async (...asked) => void sent.push(asked) } };
let sent = [];
const like = (await import("../../src/terrazza/web/static/js/tools/like.js")).default;
const room = (await import("../../src/terrazza/web/static/js/tools/room.js")).default;
const paint = (await import("../../src/terrazza/web/static/js/tools/paint.js")).default;
const move = (await import("../../src/terrazza/web/static/js/tools/move.js")).default;
const THREE = await import("../../src/terrazza/web/static/vendor/three.module.js");
const { COMMANDS } = await import("../../src/terrazza/web/static/js/commands.js");

const panel = () => document.getElementById("action");
const press = (what) => panel().onclick({ target: { dataset: { do: what } } });
const touched = (scan, own) => ({ scan, own, shown: own, local: own });

function table(points) {
  const scans = new Map([1, 2, 3].map((id) => [id, { id, record: { name: `Room <${id}>` } }]));
  const station = { pick: async () => points.shift() ?? null, toPixel: (p) => [p[0], p[1]] };
  return {
    job: 7,
    tool: "like",
    tools: { like, room, paint },
    station,
    cloud: { scans, data: { origin: [0, 0, 0] } },
    dirty() {},
  };
}

async function touch(app, times) {
  for (let k = 0; k < times; k++) await like.click(app, app.station, 0, 0);
}

beforeEach(() => {
  sent = [];
  like.leave();
});

test("two pairs touched one after the other go to the server, the scan touched first moves", async () => {
  const places = [
    touched(2, [1, 2, 3]),
    touched(1, [4, 5, 6]),
    touched(2, [7, 8, 9]),
    touched(1, [10, 11, 12]),
  ];
  const app = table([...places]);
  like.enter(app);
  assert.match(panel().innerHTML, /that is to move/);
  await touch(app, 1);
  assert.match(panel().innerHTML, /Touch the same place/);
  await touch(app, 3);
  assert.match(panel().innerHTML, /place Room &lt;2&gt; by 2 pairs|place Room &#60;2&#62; by 2 pairs/);
  assert.equal((like.marks(app, app.station).match(/<circle/g) ?? []).length, 4);
  press("place");
  const [method, url, { values }] = sent[0];
  assert.deepEqual([method, url], ["POST", "/jobs/7/do/register.like_points"]);
  assert.deepEqual([values.scan, values.neighbour], [2, 1]);
  assert.deepEqual(JSON.parse(values.pairs), [
    [places[0].own, places[1].own],
    [places[2].own, places[3].own],
  ]);
  assert.equal(like.marks(app, app.station), "", "what was sent is no longer in hand");
});

test("a place in the wrong scan is not taken, and says so", async () => {
  const app = table([
    touched(2, [0, 0, 0]),
    touched(2, [1, 1, 1]),
    touched(1, [2, 2, 2]),
    touched(3, [3, 3, 3]),
  ]);
  like.enter(app);
  await touch(app, 2);
  assert.match(panel().innerHTML, /the same scan/);
  await touch(app, 2);
  assert.match(panel().innerHTML, /That is not Room/);
  assert.equal((like.marks(app, app.station).match(/<circle/g) ?? []).length, 2);
});

test("touches are taken back one by one, and all at once", async () => {
  const app = table([touched(2, [0, 0, 0]), touched(1, [1, 1, 1]), touched(2, [2, 2, 2])]);
  like.enter(app);
  const left = () => (like.marks(app, app.station).match(/<circle/g) ?? []).length;
  await touch(app, 3);
  assert.equal(left(), 3);
  press("back");
  assert.equal(left(), 2);
  press("back");
  assert.equal(left(), 1);
  press("drop");
  assert.equal(left(), 0);
  assert.match(panel().innerHTML, /that is to move/);
});

test("where there is no point nothing is touched", async () => {
  const app = table([]);
  like.enter(app);
  await touch(app, 1);
  assert.match(panel().innerHTML, /There is no point/);
  assert.equal(like.marks(app, app.station), "");
});

test("a touch in plan draws the room there, at the height of the plan slab where it is on", () => {
  const app = {
    ...table([]),
    tool: "room",
    slabOn: true,
    planSlab: () => [1.2, 1.4],
    cloud: { data: { origin: [600, 200, 50] } },
  };
  const plan = { kind: "plan", toWorld: (x, y) => [x / 10, y / 10] };
  room.click(app, { kind: "space" }, 1, 1);
  assert.equal(sent.length, 0);
  room.click(app, plan, 30, 45);
  const [, url, { values }] = sent[0];
  assert.equal(url, "/jobs/7/do/draw.rooms");
  assert.deepEqual(JSON.parse(values.at), [603, 204.5]);
  assert.ok(Math.abs(values.height - 51.3) < 1e-9);
  room.click({ ...app, slabOn: false }, plan, 0, 0);
  assert.ok(!("height" in sent[1][2].values));
});

test("a touched mark is sent by its place in the grid, a miss is told", async () => {
  const app = table([{ ...touched(1, [1, 2, 3]), at: [600001, 5100002, 303], placed: true }]);
  app.tool = "paint";
  paint.enter();
  await paint.click(app, app.station, 0, 0);
  assert.deepEqual(sent[0].slice(0, 2), ["POST", "/jobs/7/do/draw.paint"]);
  assert.deepEqual(JSON.parse(sent[0][2].values.at), [600001, 5100002, 303]);
  await paint.click(app, app.station, 0, 0);
  assert.equal(sent.length, 1);
  assert.match(panel().innerHTML, /Touch a mark/);
});

test("one key adjusts the network, under Register alone", () => {
  const adjust = COMMANDS.find((command) => command.name === "adjust");
  adjust.does(table([]));
  assert.deepEqual(sent[0].slice(0, 2), ["POST", "/jobs/7/do/register.adjust"]);
  assert.deepEqual(adjust.steps, ["register"]);
});

test("a scan in hand says how it lies beside the others, in the grid, one question at a time", async () => {
  const asked = [],
    waiting = [];
  globalThis.fetch = async (url, { body }) => {
    asked.push([url, JSON.parse(body)]);
    await new Promise((go) => waiting.push(go));
    return new Response(JSON.stringify({ says: `${asked.length} beside` }));
  };
  const record = { name: "Hall", around: ["Day 1"], held: "", placed: true };
  const scan = { id: 3, record, matrix: new THREE.Matrix4().setPosition(1, 2, 3) };
  const other = { id: 4, record, matrix: new THREE.Matrix4().setPosition(9, 2, 3) };
  const along = [{ scan: other, before: other.matrix.clone() }];
  const app = {
    job: 7,
    moving: { scan, before: scan.matrix.clone(), block: "Day 1", along, last: [0, 0] },
    cloud: {
      scans: new Map([scan, other].map((s) => [s.id, s])),
      data: { origin: [100, 200, 10], notation: null },
      setPose: (one, rows) => one.matrix.set(...rows),
    },
    dirty() {},
  };
  const plan = { kind: "plan", scale: 0.01, toWorld: (x, y) => [x, y] };
  for (const x of [10, 20, 30]) move.move(app, plan, x, 0);
  assert.equal(asked.length, 1);
  assert.deepEqual(asked[0][1].pose.slice(0, 4), [1, 0, 0, 101.1]);
  const [a, b] = [scan, other].map((s) => s.matrix.elements[12]);
  assert.ok(a > 1.2 && Math.abs(b - a - 8) < 1e-12, "the other of the block comes along");
  const settle = () => new Promise((go) => setTimeout(go, 5));
  waiting.shift()();
  await settle();
  assert.equal(asked.length, 2, "the last place is asked for once the answer has come");
  assert.equal(Math.round(1000 * asked[1][1].pose[3]), 101300);
  waiting.shift()();
  await settle();
  assert.match(panel().innerHTML, /2 beside/);
  assert.equal(asked.length, 2);
  move.leave(app);
});

test("along the break lines the slab stands across them, place by place", () => {
  const at = [
    [0, 0, 1],
    [2, 0, 1.1],
    [4, 0, 1.2],
    [4, 3, 1.3],
  ];
  const drawings = [
    {
      followed: true,
      lines: [
        { name: "back", at },
        { name: "top", at: at.map(([x, y, z]) => [x, y + 1, z]) },
      ],
    },
    { followed: false, lines: [] },
  ];
  const stood = [];
  const app = {
    cloud: { data: { drawings } },
    plan: {},
    slab: { rect: { width: 300 }, across: (...how) => stood.push(how) },
    dirty() {},
  };
  const press = (name, times) => {
    for (let k = 0; k < times; k++) COMMANDS.find((c) => c.name === name).does(app);
  };
  press("along", 4);
  press("along", 2);
  press("back along", 2);
  assert.deepEqual(
    stood.map(([place]) => at.indexOf(place)),
    [0, 1, 2, 3, 3, 3, 2, 1],
  );
  assert.deepEqual(stood[0][1], [1, 0]);
  assert.deepEqual(stood[3][1], [0, 1]);
  assert.deepEqual(app.plan.centre, [2, 0]);
});
