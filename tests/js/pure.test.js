// The pure modules of the table, in Node.
import assert from "node:assert/strict";
import { test } from "node:test";
import { lineThrough, numbersIn, planOf } from "../../src/terrazza/web/static/js/frame.js";
import { Heap } from "../../src/terrazza/web/static/js/heap.js";
import { field, metres, round, said, written } from "../../src/terrazza/web/static/js/notation.js";
import { State } from "../../src/terrazza/web/static/js/state.js";
import { coarsened, cuts, rimOf } from "../../src/terrazza/web/static/js/surfaces.js";
import { html, raw } from "../../src/terrazza/web/static/js/text.js";
import { again, Refusal } from "../../src/terrazza/web/static/js/trouble.js";

const FEET = { per_unit: 0.3048, unit: "ft", decimals: 2, decimal: ".", thousands: "’", order: "N E H" };

test("a change tells its watchers once, and the views what the strongest of it asks for", () => {
  const effects = [],
    seen = [],
    part = {};
  const state = new State({ a: [1, "overlay"], b: [2, "dirty"], c: [3, "none"] }, (e) => effects.push(e));
  state.on(["a", "c"], (before) => seen.push({ ...before }));
  state.lend(part, ["a"]);
  state.set({ a: 5, b: 6 });
  part.a = 7;
  state.set({ a: 7, c: 3 });
  assert.deepEqual(effects, ["dirty", "overlay"]);
  assert.deepEqual(seen, [{ a: 1, b: 2 }, { a: 5 }]);
  assert.deepEqual([part.a, state.get("b")], [7, 6]);
  assert.throws(() => state.set({ d: 1 }), /no d/);
  assert.throws(() => new State({ a: [1, "explode"] }, () => {}), /explode/);
});

test("what only passes is tried again, what is refused is not", async () => {
  for (const [status, tries] of [
    [0, 3],
    [503, 3],
    [409, 3],
    [404, 1],
    [422, 1],
  ]) {
    let asked = 0;
    const work = async () => {
      asked++;
      throw new Refusal("no", status);
    };
    await assert.rejects(again(work, { tries: 3, pause: 1 }), /no/);
    assert.equal(asked, tries, `status ${status}`);
  }
  let left = 2;
  const late = async () => {
    if (left--) throw new Refusal("not yet", 503);
    return "there";
  };
  assert.equal(await again(late, { pause: 1 }), "there");
  await assert.rejects(
    again(
      async () => {
        throw new TypeError("ours");
      },
      { pause: 1 },
    ),
    TypeError,
  );
});

test("lengths are written as the job writes them", () => {
  assert.equal(said(null, -1234.5678), "−1234.568 m");
  assert.equal(written(FEET, 3048), "10’000.00");
  assert.equal(written(null, -0.0001), "0.000");
  assert.equal(metres(FEET, field(FEET, 3.048)), 3.048);
  for (const most of [0.013, 0.7, 1, 4.9, 5, 260]) {
    const { metres: length } = round(null, most);
    assert.ok(length <= most * (1 + 1e-9) && length > most / 2.5 - 1e-12, `${length} of ${most}`);
  }
});

test("values in markup are never markup", () => {
  assert.equal(
    html`<b title="${'"x"'}">${"<i>&"}</b>${raw("<br>")}${undefined}`,
    '<b title="&quot;x&quot;">&lt;i&gt;&amp;</b><br>',
  );
});

test("the heap gives back what weighs most", () => {
  const heap = new Heap(),
    weights = Array.from({ length: 500 }, (_, k) => (k * 7919) % 503);
  for (const w of weights) heap.push(w, w);
  const out = [];
  for (let top = heap.pop(); top !== undefined; top = heap.pop()) out.push(top);
  assert.deepEqual(
    out,
    [...weights].sort((a, b) => b - a),
  );
});

test("the line of the slab runs along the building, and a plan holds its box", () => {
  const box = { min: [0, 0, 0], max: [40, 10, 3] };
  const [a, b] = lineThrough([10, 5], 0.1, box);
  assert.ok(Math.abs(Math.atan2(b[1] - a[1], b[0] - a[0]) - 0.1) < 1e-9);
  const [c, d] = lineThrough([10, 5], Math.PI / 2 + 0.1, box);
  assert.ok(
    Math.abs(Math.cos(Math.atan2(d[1] - c[1], d[0] - c[0]) - 0.1)) > 1 - 1e-9,
    "across, where that is longer",
  );
  const { centre, scale } = planOf(box, 400, 300);
  assert.deepEqual(centre, [20, 5]);
  assert.ok(scale * 400 >= 40 && scale * 300 >= 10);
  assert.deepEqual(numbersIn("#plan=1,2,x;cut=1,0,0.1").numbers("plan", 3), null);
  assert.deepEqual(numbersIn("#plan=1,2,x;cut=1,0,0.1").numbers("cut", 3), [1, 0, 0.1]);
});

test("a surface has a rim, and the slab cuts it where it is", () => {
  // a roof: two slopes that meet in a ridge along y at x = 2, height 1
  const vertices = new Float32Array([0, 0, 0, 2, 0, 1, 4, 0, 0, 0, 6, 0, 2, 6, 1, 4, 6, 0]);
  const triangles = new Uint32Array([0, 1, 3, 1, 4, 3, 1, 2, 4, 2, 5, 4]);
  const rim = rimOf(triangles, 6);
  assert.equal(rim.length, 2 * 6, "six edges, without the ridge and the diagonals");
  const roof = { vertices, triangles, at: [10, 20, 5] };
  const ends = [...cuts(roof, { a: [0, 23], u: [1, 0] })].flat();
  assert.equal(ends.length, 8);
  for (const [x, y, z] of ends) {
    assert.ok(Math.abs(y - 23) < 1e-5);
    assert.ok(Math.abs(z - (6 - Math.abs(x - 12) / 2)) < 1e-5, `height ${z} at ${x}`);
  }
  assert.deepEqual([...cuts(roof, { a: [0, 40], u: [1, 0] })], []);
});

test("a large surface is coarse while a view moves, and lies where it lay", () => {
  const side = 60,
    vertices = new Float32Array(3 * side * side),
    triangles = [];
  for (let k = 0; k < side * side; k++) {
    const [x, y] = [k % side, Math.floor(k / side)];
    vertices.set([x, y, 3 * Math.sin(x / 9)], 3 * k);
    if (x + 1 < side && y + 1 < side) triangles.push(k, k + 1, k + side, k + 1, k + side + 1, k + side);
  }
  const [few, corners] = coarsened(vertices, new Uint32Array(triangles), 12);
  assert.ok(few.length / 3 < 220 && corners.length / 3 < 700 && corners.length / 3 > 200);
  for (let k = 0; k < few.length; k += 3)
    assert.ok(Math.abs(few[k + 2] - 3 * Math.sin(few[k] / 9)) < 1e-5, "a vertex of the surface");
  for (let t = 0; t < corners.length; t += 3) {
    const own = new Set(corners.slice(t, t + 3));
    assert.ok(own.size === 3 && Math.max(...own) < few.length / 3);
  }
  const [xs, ys] = [0, 1].map((axis) => few.filter((_, k) => k % 3 === axis));
  assert.ok(Math.max(...xs) >= 54 && Math.max(...ys) >= 54 && Math.min(...xs) === 0);
  const [same, all] = coarsened(vertices, new Uint32Array(triangles), 5900);
  assert.deepEqual([same.length, all.length], [vertices.length, triangles.length]);
});
