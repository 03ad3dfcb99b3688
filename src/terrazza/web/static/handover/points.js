// Points come as scripts that hand them over: whole numbers as the scans were stored, so that nothing is rounded.
"use strict";

const BUDGET = 2_500_000, // points kept at once
  AT_ONCE = 6; // scripts on their way
const POINTS = { parts: new Map(), wanted: [], loading: 0, count: 0, changed: () => {} };
const SCANS = new Map(JOB.scans.map((scan) => [scan.id, scan]));
const WAITING = new Map();

function bytesOf(text) {
  const raw = atob(text),
    out = new Uint8Array(raw.length);
  for (let k = 0; k < raw.length; k++) out[k] = raw.charCodeAt(k);
  return out;
}

// The place of a scan's stored point: own = number · scale + offset, then the scan's pose.
function placeOf(scan, stored, k) {
  const own = [0, 1, 2].map((c) => stored[3 * k + c] * scan.scale[c] + scan.offset[c]);
  return scan.pose.slice(0, 3).map((row) => own[0] * row[0] + own[1] * row[1] + own[2] * row[2] + row[3]);
}

// Called by every script of points.
function handed(name, positions, colours) {
  const about = WAITING.get(name),
    scan = SCANS.get(about.scan),
    stored = new Int32Array(bytesOf(positions).buffer),
    shown = new Float32Array(stored.length);
  for (let k = 0; k < about.count; k++) {
    const at = placeOf(scan, stored, k);
    for (let c = 0; c < 3; c++) shown[3 * k + c] = at[c] - JOB.origin[c];
  }
  POINTS.parts.set(name, { about, scan, stored, shown, rgb: bytesOf(colours) });
  POINTS.count += about.count;
}

function bring(about) {
  const script = document.createElement("script");
  WAITING.set(about.name, about);
  POINTS.loading++;
  script.src = `points/${about.name}.js`;
  script.onload = script.onerror = () => {
    POINTS.loading--;
    script.remove();
    POINTS.changed();
    bringMore();
  };
  document.head.append(script);
}

function bringMore() {
  while (POINTS.loading < AT_ONCE && POINTS.wanted.length) bring(POINTS.wanted.shift());
}

// Ask for points: coarse ones of everything first, then finer ones about a place, to the budget.
function wantPoints(about) {
  const gap = (p) => Math.hypot(...p.middle.map((v, k) => v - about[k])) - p.radius;
  let total = POINTS.count;
  const rank = (a, b) => a.level - b.level || gap(a) - gap(b);
  POINTS.wanted = [];
  for (const part of JOB.parts.filter((p) => !WAITING.has(p.name)).sort(rank)) {
    if ((total += part.count) > BUDGET && part.level > 0) break;
    POINTS.wanted.push(part);
  }
  bringMore();
}

// The stored point that a test likes best: `worth(x, y, z)` in the scene, smaller is better, NaN is none.
function bestPoint(worth, parts = POINTS.parts.values()) {
  let best = Number.POSITIVE_INFINITY,
    found = null;
  for (const part of parts) {
    const { shown } = part;
    for (let k = 0, n = shown.length; k < n; k += 3) {
      const value = worth(shown[k], shown[k + 1], shown[k + 2]);
      if (value < best) {
        best = value;
        found = [part, k / 3];
      }
    }
  }
  if (!found) return null;
  const [part, k] = found;
  return { scan: part.scan.id, at: placeOf(part.scan, part.stored, k) };
}
