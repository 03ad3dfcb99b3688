// Working boxes: two clicks in plan, height in the slab; shown, adjusted and turned inside out.
export const turn = (x, y, a) => [x * Math.cos(a) - y * Math.sin(a), x * Math.sin(a) + y * Math.cos(a)];

// Row-major 3×4 from the scene to the box's unit cube (−1 to 1), and back for drawing.
export function toUnit(b) {
  const c = Math.cos(b.heading),
    s = Math.sin(b.heading),
    [hx, hy, hz] = b.size.map((v) => v / 2),
    [x, y, z] = b.centre;
  return [
    c / hx,
    s / hx,
    0,
    -(c * x + s * y) / hx,
    -s / hy,
    c / hy,
    0,
    (s * x - c * y) / hy,
    0,
    0,
    1 / hz,
    -z / hz,
  ];
}

export function corners(b) {
  return [
    [-1, -1],
    [1, -1],
    [1, 1],
    [-1, 1],
  ].map(([i, j]) => {
    const [x, y] = turn((i * b.size[0]) / 2, (j * b.size[1]) / 2, b.heading);
    return [b.centre[0] + x, b.centre[1] + y, b.centre[2]];
  });
}

export function holds(b, x, y, z) {
  const m = b.unit;
  for (let r = 0; r < 3; r++)
    if (Math.abs(m[4 * r] * x + m[4 * r + 1] * y + m[4 * r + 2] * z + m[4 * r + 3]) > 1) return b.outside;
  return !b.outside;
}

// Whether a ball may reach into a box.
export function near(b, centre, radius) {
  const m = b.unit;
  return [0, 1, 2].every(
    (r) =>
      Math.abs(m[4 * r] * centre.x + m[4 * r + 1] * centre.y + m[4 * r + 2] * centre.z + m[4 * r + 3]) <=
      1 + (2 * radius) / b.size[r],
  );
}

// Show a box (null: none): what it hides is neither drawn nor picked.
export function use(app, box) {
  app.box = box ? { ...box, unit: toUnit(box) } : null;
}

// Tell the shader and the table of the box in use.
export function shown({ box, cloud }) {
  const s = cloud.shared;
  s.uBoxOn.value = box ? (box.outside ? 2 : 1) : 0;
  if (box) s.uBox.value.set(...box.unit, 0, 0, 0, 1);
  document.getElementById("box-note").textContent = box ? `box “${box.name || "new"}”` : "";
}

// The box that the server is about to keep is shown as soon as the scene has it: by its name, or where the server gives one, as the next new one.
export function awaited(app, name = "") {
  const { boxes, state } = app.cloud.data,
    last = Math.max(0, ...boxes.map((b) => b.id));
  const wanted = (b) => (name ? b.name === name : b.id > last);
  app.comingBox = (data) => (data.state !== state ? data.boxes.find(wanted) : undefined);
}

// Draws the box in plan and slab.
export function marks(view, { box: b }) {
  if (!b) return "";
  if (view.kind === "plan") {
    const p = corners(b).map((c) => view.toPixel(c).slice(0, 2));
    return `<polygon points="${p.map((q) => q.map((v) => v.toFixed(1)).join()).join(" ")}" class="box${b.outside ? " out" : ""}"/>`;
  }
  const edge = (side) => view.rowOf(b.centre[2] + (side * b.size[2]) / 2).toFixed(1);
  return [-1, 1]
    .map((k) => `<line x1="0" x2="${view.rect.width}" y1="${edge(k)}" y2="${edge(k)}" class="box"/>`)
    .join("");
}
