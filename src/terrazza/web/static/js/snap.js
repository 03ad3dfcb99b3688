// Where a touch near drawn lines means a place of theirs: an end or corner, a crossing, a middle, the foot of a perpendicular, or the line itself.

export const REACH = 9; // px
const ORDER = ["corner", "crossing", "middle", "foot", "line"]; // what is meant first where several are near

const mix = (a, b, t) => a.map((v, k) => v + (b[k] - v) * t);
const distance = (a, b) => Math.hypot(a[0] - b[0], a[1] - b[1]);

// How far along a side, from 0 to 1, the place nearest to a pixel is.
function along([ax, ay], [bx, by], [x, y]) {
  const d = [bx - ax, by - ay],
    square = d[0] ** 2 + d[1] ** 2;
  return square ? Math.min(Math.max(((x - ax) * d[0] + (y - ay) * d[1]) / square, 0), 1) : 0;
}

// Sides of all lines near a pixel: { drawing, line, side, a, b (places), p, q (pixels), t }.
export function sidesNear(view, drawings, at) {
  const out = [];
  for (const { id, lines } of drawings)
    lines.forEach(({ at: places, closed }, n) => {
      const ring = closed ? [...places, places[0]] : places,
        pixels = ring.map((place) => view.toPixel(place));
      for (let k = 1; k < ring.length; k++) {
        const [p, q] = [pixels[k - 1], pixels[k]];
        if (!p || !q) continue;
        const t = along(p, q, at);
        if (distance(mix(p.slice(0, 2), q.slice(0, 2), t), at) <= REACH)
          out.push({ drawing: id, line: n + 1, side: k - 1, a: ring[k - 1], b: ring[k], p, q, t });
      }
    });
  return out;
}

// Where two sides cross in a view: how far along the first, or null.
function crossing(one, other) {
  const [p, q, r, s] = [one.p, one.q, other.p, other.q],
    d = [q[0] - p[0], q[1] - p[1]],
    e = [s[0] - r[0], s[1] - r[1]],
    across = d[0] * e[1] - d[1] * e[0];
  if (Math.abs(across) < 1e-6) return null;
  const t = ((r[0] - p[0]) * e[1] - (r[1] - p[1]) * e[0]) / across,
    u = ((r[0] - p[0]) * d[1] - (r[1] - p[1]) * d[0]) / across;
  return t >= 0 && t <= 1 && u >= 0 && u <= 1 ? t : null;
}

// The place of a drawn line that a pixel means: { place, kind }, or null; `from` is the place touched before.
export function snapped(view, drawings, at, from = null) {
  const near = sidesNear(view, drawings, at),
    found = [];
  const offer = (kind, side, t) => {
    const place = mix(side.a, side.b, t),
      pixel = view.toPixel(place),
      off = pixel && distance(pixel, at);
    if (off !== null && off <= REACH) found.push({ place, kind, off, rank: ORDER.indexOf(kind) });
  };
  for (const side of near) {
    offer("corner", side, 0);
    offer("corner", side, 1);
    offer("middle", side, 0.5);
    const before = from && view.toPixel(from);
    if (before) {
      const foot = along(side.p, side.q, before);
      if (foot > 0 && foot < 1) offer("foot", side, foot);
    }
    for (const other of near) {
      const t = other === side ? null : crossing(side, other);
      if (t !== null) offer("crossing", side, t);
    }
    offer("line", side, side.t);
  }
  found.sort((a, b) => a.rank - b.rank || a.off - b.off);
  return found.length ? { place: found[0].place, kind: found[0].kind } : null;
}
