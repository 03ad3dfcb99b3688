// Where people worked, and how the views look at it at first: plain numbers, needed before anything is drawn.

export const FIELD = 50,
  AZIMUTH = -2.2,
  ELEVATION = 0.62; // degrees of height seen; radians

// Stations with some metres around, within what the scans reach: scans as { bounds, at, how }, to { min, max }.
export function extent(scans) {
  const min = [1e9, 1e9, 1e9],
    max = [-1e9, -1e9, -1e9];
  for (const {
    bounds: [low, high],
    at,
    how,
  } of scans) {
    const reach = [
      Math.min(13, (high[0] - low[0]) / 2, (high[1] - low[1]) / 2),
      Math.min(4.5, Math.max(-low[2], 0.5)),
      Math.min(5.5, Math.max(high[2], 0.5)),
    ];
    const air = how === "file" && Math.hypot(high[0] - low[0], high[1] - low[1]) > 120;
    const r = air ? [(high[0] - low[0]) / 2, -low[2], high[2]] : reach;
    [
      [-r[0], -r[0], -r[1]],
      [r[0], r[0], r[2]],
    ].forEach((d) =>
      d.forEach((v, k) => {
        min[k] = Math.min(min[k], at[k] + v);
        max[k] = Math.max(max[k], at[k] + v);
      }),
    );
  }
  return min[0] < 1e9 ? { min, max } : { min: [-10, -10, -2], max: [10, 10, 6] };
}

const middle = ({ min, max }) => min.map((v, k) => (v + max[k]) / 2);
const size = ({ min, max }) => max.map((v, k) => v - min[k]);

// The plan that shows a box in so many pixels: its middle, and metres a pixel.
export function planOf(box, width, height) {
  const [x, y] = size(box);
  return { centre: middle(box).slice(0, 2), scale: Math.max(x / (width - 40), y / (height - 90), 1e-3) };
}

// The space that shows a box: what is looked at, and from how far.
export const spaceOf = (box) => ({ target: middle(box), distance: 0.82 * Math.hypot(...size(box)) });

// The numbers of a view written in an address, by name: only those that are whole.
export function numbersIn(words) {
  const said = Object.fromEntries(
    words
      .replace(/^#/, "")
      .split(";")
      .map((w) => w.split("="))
      .filter((w) => w.length === 2),
  );
  return {
    said,
    numbers: (k, n) => {
      const v = (said[k] ?? "").split(",").map(Number);
      return v.length === n && v.every(Number.isFinite) ? v : null;
    },
  };
}

// A line through a place in the building's main direction (rad), or across it where that is longer, as long as the box is around it.
export function lineThrough([x, y], direction, box) {
  const reach = (angle) => {
    const u = [Math.cos(angle), Math.sin(angle)],
      ways = [
        [box.min[0], box.min[1]],
        [box.min[0], box.max[1]],
        [box.max[0], box.min[1]],
        [box.max[0], box.max[1]],
      ].map((p) => (p[0] - x) * u[0] + (p[1] - y) * u[1]);
    const [low, high] = [Math.min(...ways, -1), Math.max(...ways, 1)];
    return {
      length: high - low,
      path: [
        [x + low * u[0], y + low * u[1]],
        [x + high * u[0], y + high * u[1]],
      ],
    };
  };
  const [along, across] = [reach(direction), reach(direction + Math.PI / 2)];
  return along.length >= across.length ? along.path : across.path;
}
