// Flat pictures: the site plan, and what is seen from a station; moved and enlarged alike.
"use strict";

const FLAT = {
  canvas: document.getElementById("flat"),
  image: null,
  scale: 1,
  x: 0,
  y: 0,
  wide: 1,
  high: 1,
  view: null,
};

function showPicture(source, wide, high, view, then) {
  const image = new Image();
  image.onload = () => {
    Object.assign(FLAT, { image, wide, high, view });
    const { clientWidth: w, clientHeight: h } = FLAT.canvas;
    FLAT.scale = view ? Math.max(h / high, 0.15) : Math.min(w / wide, h / high);
    Object.assign(FLAT, { x: (w - wide * FLAT.scale) / 2, y: (h - high * FLAT.scale) / 2 });
    then();
  };
  image.src = source;
}

function drawFlat() {
  const { canvas, image, scale, x, y, wide, high } = FLAT,
    pen = canvas.getContext("2d");
  canvas.width = canvas.clientWidth;
  canvas.height = canvas.clientHeight;
  if (!image) return;
  pen.imageSmoothingEnabled = scale < 1.5;
  pen.drawImage(image, x, y, wide * scale, high * scale);
}

const flatPixel = (column, row) => [FLAT.x + column * FLAT.scale, FLAT.y + row * FLAT.scale];
const flatPlace = (px, py) => [(px - FLAT.x) / FLAT.scale, (py - FLAT.y) / FLAT.scale];

function zoomFlat(px, py, factor) {
  const [column, row] = flatPlace(px, py);
  FLAT.scale = Math.min(Math.max(FLAT.scale * factor, 0.02), 40);
  Object.assign(FLAT, { x: px - column * FLAT.scale, y: py - row * FLAT.scale });
}

const planPixel = ([x, y]) => {
  const { corner, pixel } = look.plan;
  return flatPixel((x - corner[0]) / pixel, (corner[1] - y) / pixel);
};

// Between knots, both ways.
function between(value, from, to) {
  const rising = from[from.length - 1] > from[0];
  let low = 0,
    high = from.length - 1;
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (from[middle] <= value === rising) low = middle;
    else high = middle;
  }
  return to[low] + ((value - from[low]) / (from[high] - from[low])) * (to[high] - to[low]);
}

// The place (m, grid) in a view's own frame, as the direction it is seen in.
function directionOf(view, at) {
  const [r, s, t] = view.pose,
    d = [at[0] - r[3], at[1] - s[3], at[2] - t[3]],
    own = [0, 1, 2].map((c) => r[c] * d[0] + s[c] * d[1] + t[c] * d[2]);
  return [Math.atan2(own[1], own[0]), Math.atan2(own[2], Math.hypot(own[0], own[1])), Math.hypot(...own)];
}

// Where a place of the grid is seen in the view from a station, null where its picture does not reach.
function viewPixel(view, at) {
  const middle = (view.azimuth[0] + view.azimuth[view.azimuth.length - 1]) / 2;
  let [azimuth, elevation] = directionOf(view, at);
  const whole = 2 * Math.PI;
  azimuth = middle + ((((azimuth - middle + Math.PI) % whole) + whole) % whole) - Math.PI;
  const column = between(azimuth, view.azimuth, view.across),
    row = between(elevation, view.elevation, view.down);
  return column < 0 || row < 0 || column > view.columns || row > view.rows ? null : flatPixel(column, row);
}

// The stored point behind a pixel of a view: nearest to its ray of the points that its own scan saw.
function pickView(view, px, py) {
  const [column, row] = flatPlace(px, py),
    azimuth = between(column, view.across, view.azimuth),
    elevation = between(row, view.down, view.elevation),
    flat = Math.cos(elevation),
    own = [flat * Math.cos(azimuth), flat * Math.sin(azimuth), Math.sin(elevation)],
    ray = view.pose.slice(0, 3).map((r) => r[0] * own[0] + r[1] * own[1] + r[2] * own[2]),
    from = view.pose.slice(0, 3).map((r, k) => r[3] - JOB.origin[k]),
    reach = 0.01; // rad
  const mine = [...POINTS.parts.values()].filter((p) => p.scan.id === view.scan);
  return bestPoint((x, y, z) => {
    const d = [x - from[0], y - from[1], z - from[2]],
      along = d[0] * ray[0] + d[1] * ray[1] + d[2] * ray[2],
      off = Math.sqrt(Math.max(d[0] ** 2 + d[1] ** 2 + d[2] ** 2 - along ** 2, 0)) / along;
    return along > 0.1 && off < reach ? off : Number.NaN;
  }, mine);
}
