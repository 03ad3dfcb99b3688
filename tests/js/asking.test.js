// What is asked of the server, what comes back, and what becomes of what does not.
import assert from "node:assert/strict";
import { test } from "node:test";
import { page, server } from "./page.js";

globalThis.location = { pathname: "/jobs/7/draw", hash: "" };
globalThis.document = page();
globalThis.window = { addEventListener() {} };
globalThis.fetch = server({ "/jobs/7/scene": {} }).fetch;
const { again, ask, notice, Refusal, tell } = await import("../../src/terrazza/web/static/js/trouble.js");
const { nodesIn } = await import("../../src/terrazza/web/static/js/glance.js");
const { declarations, planeAt, rampModes, setLayout } = await import(
  "../../src/terrazza/web/static/js/layout.js"
);
const { Cloud } = await import("../../src/terrazza/web/static/js/cloud.js");
const { State } = await import("../../src/terrazza/web/static/js/state.js");

const refusing = (status, said) => () => new Response(JSON.stringify(said), { status });
const LAYOUT = {
  planes: ["first", "second", "third"],
  stride: 16,
  slots: {
    intensity: ["first", 3],
    class: ["second", 3],
    native_rgb: ["second", 0],
    photo_rgb: ["third", 0],
  },
  flags: ["third", 3],
  ramps: {},
};

test("a refusal is the server's words, silence is said as such", async () => {
  const { fetch, asked } = server({
    good: { a: 1 },
    bad: refusing(422, { message: "No.", hint: "Try another." }),
    odd: () => new Response("<html>", { status: 502 }),
  });
  globalThis.fetch = fetch;
  assert.deepEqual(await (await ask("/good", { json: { b: [2] } })).json(), { a: 1 });
  assert.deepEqual(asked[0], { url: "/good", body: { b: [2] }, method: "POST" });
  for (const [url, status, words, passing] of [
    ["/bad", 422, "No. Try another.", false],
    ["/odd", 502, "The server answers 502.", true],
    ["/nowhere", 0, "The server does not answer. Is it still running?", true],
  ]) {
    const error = await ask(url).then(assert.fail, (e) => e);
    assert.ok(error instanceof Refusal);
    assert.deepEqual([error.status, error.message, error.passing], [status, words, passing], url);
  }
});

test("what is said is said once at a time, and our own mistakes as ours", (t) => {
  t.mock.timers.enable({ apis: ["setTimeout"] });
  const notices = document.getElementById("notices"),
    heard = t.mock.method(console, "error", () => {});
  notices.children.length = 0;
  for (let k = 0; k < 3; k++) notice("The disk is full.");
  tell(new Refusal("No such scan.", 404));
  tell(new TypeError("x is undefined"));
  assert.deepEqual(
    notices.children.map((n) => n.textContent.slice(0, 33)),
    ["The disk is full.", "No such scan.", "Something in this page went wrong"],
  );
  assert.equal(heard.mock.callCount(), 1, "whoever mends it finds it on the console");
});

test("pauses between tries grow, and each failure is heard of", async () => {
  const heard = [],
    began = performance.now();
  const work = async () => {
    throw new Refusal("busy", 503);
  };
  await assert.rejects(again(work, { tries: 4, pause: 5, between: (e) => heard.push(e.status) }), /busy/);
  assert.deepEqual(heard, [503, 503, 503]);
  assert.ok(performance.now() - began >= 5 + 10 + 20 - 3);
});

// An answer of nodes as the server packs it: head of number, count, stride, nothing; then the planes.
function packed(nodes, stride = 16) {
  const size = nodes.reduce((n, [, count]) => n + 16 + stride * count, 0),
    buffer = new ArrayBuffer(size);
  let at = 0;
  for (const [number, count] of nodes) {
    new Uint32Array(buffer, at, 3).set([number, count, stride]);
    at += 16 + stride * count;
  }
  return buffer;
}

test("nodes are found in the answers that hold them", () => {
  const one = packed([
    [0, 3],
    [5, 2],
  ]);
  assert.deepEqual(
    [...nodesIn(one, 9)],
    [
      { scan: 9, number: 0, count: 3, at: 16 },
      { scan: 9, number: 5, count: 2, at: 16 + 48 + 16 },
    ],
  );
  const two = new ArrayBuffer(2 * 8 + 2 * one.byteLength),
    bytes = new Uint8Array(two);
  [1, 2].forEach((scan, k) => {
    const at = k * (8 + one.byteLength);
    new Uint32Array(two, at, 2).set([scan, one.byteLength]);
    bytes.set(new Uint8Array(one), at + 8);
  });
  assert.deepEqual(
    [...nodesIn(two)].map((n) => [n.scan, n.number, n.count]),
    [
      [1, 0, 3],
      [1, 5, 2],
      [2, 0, 3],
      [2, 5, 2],
    ],
  );
});

test("the layout that the server tells is what the shader reads", () => {
  setLayout({
    ...LAYOUT,
    planes: [...LAYOUT.planes, "fourth"],
    slots: { ...LAYOUT.slots, wet: ["fourth", 1] },
    ramps: { wet: "wetness" },
  });
  assert.deepEqual([planeAt("first", 10), planeAt("second", 10), planeAt("fourth", 10)], [0, 80, 160]);
  const text = declarations();
  for (const line of [
    "in vec4 fourth;",
    "#define TONE position.w",
    "#define NATIVE second.xyz",
    "#define FLAGS third.w",
    "mode == 7 ? fourth.y",
  ])
    assert.ok(text.includes(line), line);
  assert.deepEqual(rampModes(), ["wetness"]);
  setLayout(LAYOUT);
});

// A cloud of one scan with a root of 4 points and two children of 8, in two blocks.
const RECORD = {
  id: 1,
  name: "a",
  version: "v1",
  size: 8,
  low: [0, 0, 0],
  drift: 0,
  points: 20,
  root: 4,
  blocks: ["x", "y"],
  station: true,
  intensity: null,
};
const IDENTITY = [1, 0, 0, 10, 0, 1, 0, 20, 0, 0, 1, 0, 0, 0, 0, 1];
function tree() {
  const n = 3,
    buffer = new ArrayBuffer(13 * n);
  new Int32Array(buffer, 0, n).set([-1, 0, 0]);
  new Uint32Array(buffer, 4 * n, n).set([4, 8, 8]);
  new Uint32Array(buffer, 8 * n, n).set([1, 0, 1]);
  new Uint8Array(buffer, 12 * n, n).set([0, 0, 7]);
  return buffer;
}

function cloud(answers, told = {}) {
  globalThis.fetch = server(answers).fetch;
  const state = new State(
    { hiddenScans: [new Set(), "dirty"], hiddenClasses: [new Set(), "dirty"] },
    () => {},
  );
  const heard = { changed: 0, more: 0, stale: 0 };
  const made = new Cloud(7, state, {
    onChange: () => heard.changed++,
    onMore: () => heard.more++,
    onStale: () => heard.stale++,
    ...told,
  });
  made.data = { origin: [0, 0, 0] };
  setLayout(LAYOUT);
  made.scans.set(1, made.makeScan(RECORD));
  made.scans.get(1).record = RECORD;
  made.setPose(made.scans.get(1), IDENTITY);
  return { cloud: made, heard, scan: made.scans.get(1) };
}
const view = { touches: () => true, pixelsPerMetre: () => 100, budget: 1e6 };

test("a scan begins with its root, and its tree says the rest", async () => {
  const { cloud: c, scan, heard } = cloud({ "/scene/tree/1/v1": tree() });
  assert.equal(scan.nodes.length, 1);
  await c.fetchTree(scan);
  assert.deepEqual(
    scan.nodes.map((n) => [n.count, n.level, n.block, n.edge]),
    [
      [4, 0, 1, 8],
      [8, 1, 0, 4],
      [8, 1, 1, 4],
    ],
  );
  assert.deepEqual(
    scan.nodes[2].centre.toArray(),
    [16, 26, 6],
    "the octant far from the corner, where the scan stands",
  );
  assert.equal(heard.more, 1);
  assert.deepEqual(
    c.select(view).map((n) => n.number),
    [0, 1, 2],
  );
  assert.deepEqual(
    c.select({ ...view, budget: 12 }).map((n) => n.count),
    [4, 8],
    "coarse first, as many as are wanted",
  );
  assert.deepEqual(
    c.select({ ...view, pixelsPerMetre: () => 1 }).map((n) => n.number),
    [0],
    "no finer than a pixel",
  );
  c.hiddenScans = new Set([1]);
  assert.deepEqual(c.select(view), []);
});

test("nodes are asked for once, drawn when they come, and again only where their block has changed", async () => {
  const answers = {
    "/scene/tree/1/v1": tree(),
    "/scene/nodes/1/": (url) =>
      packed(
        new URL(url, "http://x").searchParams
          .get("n")
          .split(",")
          .map((n) => [+n, n === "0" ? 4 : 8]),
      ),
  };
  const { cloud: c, scan, heard } = cloud(answers);
  await c.fetchTree(scan);
  const all = c.select(view);
  c.fetchMissing([all]);
  c.fetchMissing([all]); // while they are on their way
  await new Promise((done) => setTimeout(done, 20));
  assert.equal(heard.changed, 1, "one answer for three nodes");
  assert.ok(scan.nodes.every((n) => n.points && !n.pending));
  assert.equal(c.loaded, 20 * 16);
  c.renew(scan, { ...RECORD, version: "v2", blocks: ["x", "z"] });
  assert.deepEqual(
    scan.nodes.map((n) => n.old),
    [true, false, true],
  );
});

test("points that do not come are said and not asked for for ever; those of an older scene load it anew", async (t) => {
  t.mock.method(console, "error", () => {});
  for (const [status, stale, lost] of [
    [404, 1, "v1"],
    [422, 0, "v1"],
  ]) {
    const {
      cloud: c,
      scan,
      heard,
    } = cloud({ "/scene/nodes": refusing(status, { message: "These points have a newer version." }) });
    await c.fetchNodes(scan, [scan.nodes[0]]);
    assert.equal(heard.stale, stale);
    assert.equal(scan.nodes[0].lost, lost);
    const before = c.flights;
    c.fetchMissing([[scan.nodes[0]]]);
    assert.equal(c.flights, before, "not again before the scan changes");
  }
});
