// Tools and commands say what they are; marks and panels are made of what the job holds, never as markup.
import assert from "node:assert/strict";
import { readdirSync } from "node:fs";
import { test } from "node:test";
import { viewOf } from "../../src/terrazza/web/static/js/gestures.js";
import * as marks from "../../src/terrazza/web/static/js/marks.js";
import { SlabView } from "../../src/terrazza/web/static/js/slab.js";
import { PlanView, SpaceView } from "../../src/terrazza/web/static/js/views.js";
import * as THREE from "../../src/terrazza/web/static/vendor/three.module.js";
import { looking, near, numbers } from "./pane.js";

const FOLDER = new URL("../../src/terrazza/web/static/js/tools/", import.meta.url);
const STEPS = ["import", "register", "georeference", "clean", "colorize", "classify", "draw", "deliver"];
globalThis.location = { pathname: "/jobs/1/clean", hash: "" };
globalThis.fetch = async () => new Response("{}");
globalThis.document = {
  readyState: "complete",
  querySelectorAll: () => [],
  getElementById: () => null,
  head: {},
};

const tools = await Promise.all(
  readdirSync(FOLDER).map(async (name) => [name, (await import(new URL(name, FOLDER))).default]),
);
const { COMMANDS, GESTURES } = await import("../../src/terrazza/web/static/js/commands.js");
const { belongs } = await import("../../src/terrazza/web/static/js/keys.js");

test("every file of the folder is a tool that says what it is", () => {
  for (const [file, tool] of tools) {
    assert.equal(file, `${tool.name}.js`);
    for (const field of ["key", "order", "title", "help", "cursor", "sends"])
      assert.ok(field in tool, `${file} has no ${field}`);
    assert.ok(
      (tool.steps ?? []).every((step) => STEPS.includes(step)),
      file,
    );
    assert.equal(
      Boolean(tool.drags),
      Boolean(tool.down && tool.move && tool.up),
      `${file} drags whole or not at all`,
    );
  }
});

test("no key means two things in one step", () => {
  for (const step of STEPS) {
    const there = [...tools.map(([, tool]) => tool), ...COMMANDS].filter((one) => belongs(one, step));
    const keys = there.flatMap((one) => [one.key, ...(one.also ?? [])]);
    assert.deepEqual(keys.toSorted(), [...new Set(keys)].toSorted(), step);
    assert.ok(
      keys.every((key) => !/^[1-8]$/.test(key)),
      "figures go to steps",
    );
  }
  for (const command of COMMANDS) assert.ok(command.listed === false || command.help, command.name);
  assert.ok(GESTURES.every(([what, means]) => what && means));
});

const placed = (x, y, z) => new THREE.Matrix4().makeTranslation(x, y, z);
function table(more = {}) {
  const scan = (id, x, name) => ({ id, matrix: placed(x, 0, 1.5), record: { name, placed: id !== 3 } });
  const scans = new Map(
    [1, 2, 3].map((id) => [id, scan(id, 3 * id, id === 2 ? 'Saal <b>&"x' : `Scan ${id}`)]),
  );
  const data = {
    origin: [600000, 5100000, 300],
    notation: null,
    frame: [0, -1, 0, 600010, 1, 0, 0, 5100020, 0, 0, 1, 298, 0, 0, 0, 1],
    ties: [
      { a: 1, b: 2, overlap: 0.5, failed: "", words: "firm" },
      { a: 2, b: 3, overlap: 0.1, failed: "too rough", words: "" },
    ],
    control: [{ name: "L<1>", at: [1, 1, 0], check: true }],
    measures: [
      {
        at: [
          [0, 0, 0],
          [3, 4, 0],
        ],
        kind: "distance",
        label: "5.000 m",
      },
    ],
    pins: [{ id: 4, at: [2, 2, 0], name: "<script>", text: '"quoted"' }],
    walks: [
      {
        scan: 1,
        at: [
          [0, 0, 0],
          [1, 0, 0],
        ],
        stops: [[0.5, 0, 0]],
      },
    ],
    blocks: [
      {
        name: "House",
        at: [
          [0, 0],
          [5, 0],
          [5, 5],
        ],
      },
    ],
    georeferenced: true,
  };
  const slab = looking(SlabView, {
    path: [
      [0, 0],
      [6, 0],
      [6, 6],
    ],
    along: 4,
    height: 1,
    scale: 0.05,
  });
  return {
    cloud: { scans, data, visibleScans: () => [...scans.values()] },
    hiddenScans: new Set(),
    marks: true,
    slabOn: true,
    planSlab: () => [0.9, 1.1],
    tools: { pick: {} },
    tool: "pick",
    slab,
    box: null,
    picked: { local: [1, 2, 0] },
    ...more,
  };
}

test("marks of the plan: what is there, in its place, with its names escaped", () => {
  const view = looking(PlanView, { centre: [4, 2], scale: 0.05 }),
    out = marks.of(view, table());
  for (const kind of [
    "tie",
    "tie bad",
    "station loose",
    "control",
    "way",
    "block",
    "ab",
    "handle mid",
    "picked",
    "measure",
    "grid",
  ])
    assert.ok(out.includes(`class="${kind}"`), kind);
  assert.ok(out.includes("&lt;script&gt;") && !out.includes("<script>") && !out.includes("<b>"));
  const [x, y] = view.toPixel([6, 0, 1.5]);
  assert.ok(
    out.includes(`M${x.toFixed(1)} ${(y - 8).toFixed(1)}l7 12.5h-14z`),
    "scan 2 stands where it stands",
  );
  const bare = marks.of(view, table({ marks: false, picked: null }));
  assert.ok(!bare.includes("station") && !bare.includes("pinmark") && bare.includes('class="ab"'));
});

test("marks of the slab: the band of the plan slab, bends, and only stations beside the line", () => {
  const app = table(),
    out = marks.of(app.slab, app);
  assert.ok(out.includes('class="band"') && out.includes('class="bend"'));
  assert.equal(out.match(/class="station"/g).length, 1 + 2, "scans 1 and 2, and the stop");
  app.cloud.scans.get(1).matrix = placed(3, 1.6, 1.5);
  assert.equal(marks.of(app.slab, app).match(/class="station"/g).length, 2);
});

test("marks of the tool in hand lie on all views, drawn with what they see", () => {
  const drawn = [],
    tools = { odd: { marks: (_app, view) => `<i>${drawn.push(view.kind)}</i>` } };
  for (const Kind of [PlanView, SpaceView]) marks.of(looking(Kind), table({ tools, tool: "odd" }));
  assert.deepEqual(drawn, ["plan", "space"]);
  assert.ok(marks.measured([[1, 2], null, [3, 4], [5, 9]], "area", "x").includes("polygon"));
  assert.equal(marks.measured([null], "area", "x"), "");
});

test("an outline goes to the server in the job's own frame", () => {
  const app = table(),
    random = numbers(5),
    view = looking(PlanView, { centre: [3, 1], scale: 0.03 });
  const rows = viewOf(app, view),
    { frame: f, origin } = app.cloud.data;
  for (let k = 0; k < 20; k++) {
    const own = [0, 1, 2].map(() => 20 * (random() - 0.5));
    const grid = [0, 4, 8].map((r) => f[r] * own[0] + f[r + 1] * own[1] + f[r + 2] * own[2] + f[r + 3]);
    const [px, py] = view.toPixel(grid.map((v, axis) => v - origin[axis]));
    const [x, y, , w] = rows.map((row) => row[0] * own[0] + row[1] * own[1] + row[2] * own[2] + row[3]);
    assert.ok(near([x / w, y / w], view.toScreen(px, py), 1e-4), `${x / w} ${y / w}`);
  }
});
