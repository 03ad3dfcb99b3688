// The first points, on a plain canvas, while the renderer is still on its way: the coarsest points in plan and space, as the table will show them.
import { AZIMUTH, ELEVATION, extent, FIELD, numbersIn, planOf, spaceOf } from "./frame.js";
import { again, ask } from "./trouble.js";

const PATIENCE = 700,
  ENOUGH = 20_000; // ms; points
const INK = [29, 43, 42],
  DARK = [23, 31, 31],
  LIGHT = [237, 230, 209];
const BLANK = 0xfff8fcfd; // the canvas's paper, as bytes R G B A from the lowest
const job = location.pathname.split("/")[2];
const part = (name) => again(() => ask(`/jobs/${job}/scene${name}`));

// What the table asks for first, asked for once.
export const early = {
  scene: part(".json").then((a) => a.json()),
  roots: part("/roots").then((a) => a.arrayBuffer()),
};
for (const asked of Object.values(early)) asked.catch(() => {}); // whoever waits for it says what went wrong

// The planes of each node in an answer of many scans: { scan, number, count, at } with ``at`` the byte where its points begin.
export function* nodesIn(buffer, scan = null, at = 0, end = buffer.byteLength) {
  while (at < end) {
    const [first, second, stride] = new Uint32Array(buffer, at, 3);
    if (scan === null) {
      yield* nodesIn(buffer, first, at + 8, at + 8 + second);
      at += 8 + second;
    } else {
      yield { scan, number: first, count: second, at: at + 16 };
      at += 16 + stride * second;
    }
  }
}

// From metres to pixels of a pane: (x, y, z) to [px, py, depth], the same array every time.
const at = [0, 0, 0];
function placed(px, py, depth) {
  [at[0], at[1], at[2]] = [px, py, depth];
  return at;
}

function planCamera(view, width, height) {
  return (x, y, z) =>
    placed(
      width / 2 + (x - view.centre[0]) / view.scale,
      height / 2 - (y - view.centre[1]) / view.scale,
      1e4 - z,
    );
}

function spaceCamera({ target, distance, azimuth, elevation }, width, height) {
  const ca = Math.cos(azimuth),
    sa = Math.sin(azimuth),
    ce = Math.cos(elevation),
    se = Math.sin(elevation),
    focal = height / 2 / Math.tan((FIELD * Math.PI) / 360);
  return (px, py, pz) => {
    const x = px - target[0],
      y = py - target[1],
      z = pz - target[2],
      depth = distance - (ce * ca * x + ce * sa * y + se * z);
    return placed(
      width / 2 + (focal * (ca * y - sa * x)) / depth,
      height / 2 - (focal * (ce * z - se * (ca * x + sa * y))) / depth,
      depth,
    );
  };
}

// Draw points into a picture, four pixels each: faint touches of ink that add up, or the intensity of the nearest point.
function splat(image, points, camera, faint) {
  const { width, height, data } = image,
    depths = new Float32Array(width * height).fill(Infinity),
    around = [0, 1, width, width + 1];
  for (let k = 0; k < points.length; k += 4) {
    const [px, py, depth] = camera(points[k], points[k + 1], points[k + 2]),
      left = Math.round(px),
      top = Math.round(py);
    if (depth <= 0 || left < 0 || top < 0 || left + 1 >= width || top + 1 >= height) continue;
    const shade = points[k + 3] ** 0.8;
    for (const step of around) {
      const pixel = top * width + left + step;
      if (!faint && depth >= depths[pixel]) continue;
      depths[pixel] = depth;
      for (let c = 0; c < 3; c++)
        data[4 * pixel + c] = faint
          ? data[4 * pixel + c] + 0.2 * (INK[c] - data[4 * pixel + c])
          : DARK[c] + (LIGHT[c] - DARK[c]) * shade;
    }
  }
}

// All shown points as x, y, z (m, from the origin of the scene) and tone (0 to 1).
function pointsOf(scene, buffer) {
  let n = 0;
  const scans = new Map(scene.scans.map((s) => [s.id, s])),
    out = new Float32Array(buffer.byteLength / 4),
    {
      stride,
      planes,
      flags: [plane, slot],
    } = scene.layout,
    share = Math.min(1, (ENOUGH * stride) / buffer.byteLength);
  for (const { scan, count, at } of nodesIn(buffer)) {
    const s = scans.get(scan);
    if (!s) continue;
    const p = new Uint16Array(buffer, at, 4 * count),
      flags = new Uint8Array(buffer, at + (8 + 4 * (planes.indexOf(plane) - 1)) * count, 4 * count),
      m = s.pose,
      step = s.size / 65535,
      [dark, light] = s.intensity ?? [0, 65535];
    for (let k = 0; k < 4 * Math.ceil(count * share); k += 4) {
      // any first part of a node is an even sample of it
      if (flags[k + slot] & scene.layout.hides) continue;
      const x = s.low[0] + step * p[k],
        y = s.low[1] + step * p[k + 1],
        z = s.low[2] + step * p[k + 2];
      out.set(
        [
          m[0] * x + m[1] * y + m[2] * z + m[3],
          m[4] * x + m[5] * y + m[6] * z + m[7],
          m[8] * x + m[9] * y + m[10] * z + m[11],
          Math.min(Math.max((p[k + 3] - dark) / Math.max(light - dark, 1), 0), 1),
        ],
        n,
      );
      n += 4;
    }
  }
  return out.subarray(0, n);
}

// The page is read to its end and its styles are there.
async function laidOut() {
  if (document.readyState === "loading")
    await new Promise((done) => document.addEventListener("readystatechange", done, { once: true }));
  await Promise.all(
    [...document.querySelectorAll("link[rel=stylesheet]")].map(
      (link) => link.sheet ?? new Promise((done) => link.addEventListener("load", done, { once: true })),
    ),
  );
}

async function glance() {
  const [scene, buffer] = await Promise.all([early.scene, early.roots, laidOut()]),
    canvas = document.getElementById("glance");
  document.head.append(document.getElementById("scripts").content); // the others come while the first points are drawn
  if (!canvas || !scene.scans.length) return;
  const box = extent(
    scene.scans.map((s) => ({ bounds: s.bounds, at: [s.pose[3], s.pose[7], s.pose[11]], how: s.how })),
  );
  const host = canvas.getBoundingClientRect(),
    { numbers } = numbersIn(location.hash),
    o = scene.origin,
    plan = numbers("plan", 3),
    space = numbers("space", 6),
    points = pointsOf(scene, buffer),
    context = canvas.getContext("2d");
  canvas.width = host.width;
  canvas.height = host.height;
  for (const name of ["plan", "space"]) {
    const r = document.getElementById(name).getBoundingClientRect(),
      w = Math.floor(r.width - 2),
      h = Math.floor(r.height - 2);
    if (w < 2 || h < 2) continue;
    const camera =
      name === "plan"
        ? planCamera(
            plan ? { centre: [plan[0] - o[0], plan[1] - o[1]], scale: plan[2] } : planOf(box, w, h),
            w,
            h,
          )
        : spaceCamera(
            space
              ? {
                  target: space.slice(0, 3).map((v, k) => v - o[k]),
                  distance: space[3],
                  azimuth: space[4],
                  elevation: space[5],
                }
              : { ...spaceOf(box), azimuth: AZIMUTH, elevation: ELEVATION },
            w,
            h,
          );
    const image = new ImageData(w, h);
    new Uint32Array(image.data.buffer).fill(BLANK);
    splat(image, points, camera, name === "plan");
    context.putImageData(image, r.left - host.left + 1, r.top - host.top + 1);
  }
  performance.mark("first-points");
}

// Settled when the first points are there, or after a while, for nothing is to wait for them longer.
export const glanced = Promise.race([
  glance().catch(() => {}),
  new Promise((done) => setTimeout(done, PATIENCE)),
]);
