// The view from a station: tiles of its range grid on a canvas, zoomed down to the single pixel, with what is marked in it.
import { said } from "./notation.js";
import { Tiles } from "./tiles.js";

const esc = (s) => String(s).replace(/[&<>"]/g, (c) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[c]);

export class StationView {
  constructor(pane, app) {
    this.pane = pane;
    this.app = app;
    this.canvas = pane.querySelector("canvas");
    this.marks = pane.querySelector("svg");
    this.tiles = new Tiles(() => this.draw());
    this.mode = "intensity";
    this.about = null;
    this.wire();
    new ResizeObserver(() => this.draw()).observe(pane);
  }

  get shown() { return !this.pane.hidden; }

  async open(place) {
    const answer = await fetch(`/jobs/${this.app.job}/station/${place}.json`);
    const about = await answer.json();
    if (!answer.ok) throw new Error(`${about.message} ${about.hint ?? ""}`);
    const same = this.about?.key === about.key;
    this.about = about;
    this.pane.hidden = false;
    if (!about.modes.includes(this.mode)) this.mode = "intensity";
    this.pane.querySelector(".tag small").textContent = `${about.key} ${about.name}`;
    if (!same) this.fit();
    this.buttons();
    this.draw();
  }

  close() {
    this.pane.hidden = true;
    this.app.draw();
  }

  buttons() {
    this.pane.querySelector(".opts").innerHTML = this.about.modes.map((m) => `<button type="button" data-mode="${m}" class="${m === this.mode ? "on" : ""}">${m}</button>`).join("") + '<button type="button" data-mode="-" title="Back to space (G)">×</button>';
  }

  fit() {
    const r = this.pane.getBoundingClientRect(), { rows, columns } = this.about;
    this.scale = Math.max(r.width / columns, r.height / rows * 0.7);
    this.x = columns / 2;
    this.y = rows / 2;
  }

  // The next colouring.
  next() {
    const { modes } = this.about;
    this.mode = modes[(modes.indexOf(this.mode) + 1) % modes.length];
    this.buttons();
    this.draw();
  }

  // Next or previous station, in the order of the scans.
  step(by) {
    const { others, key } = this.about;
    return this.open(others[(others.indexOf(key) + by + others.length) % others.length]);
  }

  // Pane pixel of a place in the grid, and back.
  toPane(column, row) { const r = this.pane.getBoundingClientRect(); return [r.width / 2 + (column + 0.5 - this.x) * this.scale, r.height / 2 + (row + 0.5 - this.y) * this.scale]; }
  toGrid(px, py) { const r = this.pane.getBoundingClientRect(); return [this.x + (px - r.width / 2) / this.scale, this.y + (py - r.height / 2) / this.scale]; }

  // Where a point of the scene (relative to its origin) is seen, as column and row; null where the grid does not reach.
  seen(point) {
    const scan = this.app.cloud.scans.get(this.about.scan), m = scan.matrix.clone().invert().elements;
    const [x, y, z] = [0, 1, 2].map((k) => m[k] * point[0] + m[4 + k] * point[1] + m[8 + k] * point[2] + m[12 + k] - this.about.eye[k]);
    const { azimuth, across, elevation, down } = this.about, middle = (azimuth[0] + azimuth.at(-1)) / 2, turn = 2 * Math.PI;
    const a = Math.atan2(y, x) - middle + Math.PI, az = middle + (a - turn * Math.floor(a / turn)) - Math.PI;
    const column = between(azimuth, across, az), row = between(elevation, down, Math.atan2(z, Math.hypot(x, y)));
    return column === null || row === null ? null : [column, row];
  }

  draw() {
    if (!this.shown || !this.about) return;
    cancelAnimationFrame(this.frame);
    this.pane.dataset.state = "loading";
    this.frame = requestAnimationFrame(() => this.paint());
  }

  paint() {
    const r = this.pane.getBoundingClientRect(), ratio = Math.min(window.devicePixelRatio, 2), { rows, columns, tile, turn } = this.about, c = this.canvas.getContext("2d");
    this.canvas.width = r.width * ratio;
    this.canvas.height = r.height * ratio;
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.fillStyle = getComputedStyle(document.body).getPropertyValue("--paper-2");
    c.fillRect(0, 0, r.width, r.height);
    c.imageSmoothingEnabled = this.scale < 1;
    const level = Math.max(0, Math.floor(Math.log2(1 / this.scale))), top = Math.ceil(Math.log2(Math.max(rows, columns) / tile));
    let missing = 0;
    for (const lap of turn ? [-1, 0, 1] : [0]) {
      // a coarser layer lies below until the finer has come
      for (const l of [Math.max(top, level), level]) missing += this.layer(c, r, l, lap * columns);
    }
    this.pane.dataset.state = missing ? "loading" : "idle";
    this.mark(r);
  }

  layer(c, r, level, shift) {
    const { rows, columns, tile } = this.about, span = tile * 2 ** level, [left, top] = this.toGrid(0, 0), [right, bottom] = this.toGrid(r.width, r.height);
    let missing = 0;
    for (let y = Math.max(0, Math.floor(top / span)); y * span < Math.min(rows, bottom); y++) {
      for (let x = Math.max(0, Math.floor((left - shift) / span)); x * span < Math.min(columns, right - shift); x++) {
        const image = this.tile(level, x, y);
        if (!image) { missing++; continue; }
        const [px, py] = this.toPane(x * span + shift - 0.5, y * span - 0.5);
        c.drawImage(image, px, py, image.naturalWidth * 2 ** level * this.scale + 0.3, image.naturalHeight * 2 ** level * this.scale + 0.3);
      }
    }
    return missing;
  }

  tile(level, x, y) {
    const { key, version } = this.about;
    return this.tiles.get(`/jobs/${this.app.job}/station/${key}/${version}/${this.mode}/${level}/${x}-${y}.png`);
  }

  mark(r) {
    const out = [], labels = [], laps = this.about.turn ? [-1, 0, 1] : [0], inside = ([x, y]) => x > -20 && y > -20 && x < r.width + 20 && y < r.height + 20;
    const put = (at, draw) => laps.forEach((lap) => { const p = this.toPane(at[0] + lap * this.about.columns, at[1]); if (inside(p)) out.push(draw(p)); });
    if (this.app.marks) for (const m of this.about.marks.toSorted((a, b) => a.range - b.range)) put(m.at, ([x, y]) => {
      if (m.hidden && m.kind !== "station") return "";
      const free = !m.hidden && labels.every(([a, b]) => Math.abs(a - x) > 66 || Math.abs(b - y) > 13);
      if (free) labels.push([x, y]);
      const label = free ? `<text x="${x + 10}" y="${y - 5}">${esc(m.name)} <tspan class="far">${said(this.app.cloud.data.notation, m.range, 1)}</tspan></text>` : "";
      if (m.kind === "station") return `<g class="go${m.hidden ? " behind" : ""}" data-scan="${m.scan}"><path d="M${x} ${y - 8}l7 12.5h-14z" class="station"/><title>${esc(m.says)}: step there</title></g>${label}`;
      return `<circle cx="${x}" cy="${y}" r="${m.kind === "control" ? 6 : 4}" class="${m.kind === "control" ? "control" : "measure"}" fill="none"/>${label}`;
    });
    if (this.app.marks) for (const m of this.app.cloud.data.measures ?? []) m.at.forEach((p, k) => { const at = this.seen(p); if (at) put(at, ([x, y]) => `<circle cx="${x}" cy="${y}" r="3.5" class="measure" fill="none"/>${k ? "" : `<text x="${x + 7}" y="${y - 6}">${esc(m.label)}</text>`}`); });
    for (const pin of this.app.cloud.data.pins ?? []) { const at = this.seen(pin.at); if (at) put(at, ([x, y]) => `<g class="pinmark" data-pin="${pin.id}"><path d="M${x} ${y}l-5 -12a5.4 5.4 0 1 1 10 0z" class="pin"/></g><text x="${x + 9}" y="${y - 9}">${esc(pin.name)}</text>`); }
    const p = this.app.picked?.local && this.seen(this.app.picked.local);
    if (p) put(p, ([x, y]) => `<circle cx="${x}" cy="${y}" r="7" class="picked"/><circle cx="${x}" cy="${y}" r="9.5" class="picked2"/>`);
    this.marks.innerHTML = out.join("");
  }

  async pick(px, py) {
    let [column, row] = this.toGrid(px, py).map(Math.floor);
    if (this.about.turn) column = ((column % this.about.columns) + this.about.columns) % this.about.columns;
    const answer = await fetch(`/jobs/${this.app.job}/station/${this.about.key}/pick?row=${row}&column=${column}&hidden=${[...this.app.cloud.hiddenClasses].join(",")}`);
    const point = await answer.json();
    if (point) point.local = point.shown.map((v, k) => v - this.app.cloud.data.origin[k]);
    return point;
  }

  wire() {
    const at = (e) => { const r = this.pane.getBoundingClientRect(); return [e.clientX - r.left, e.clientY - r.top]; };
    let drag = null;
    this.pane.addEventListener("pointerdown", (e) => {
      if (e.target.closest(".opts, .tag")) return;
      this.pane.setPointerCapture(e.pointerId);
      drag = { at: at(e), from: at(e), moved: false, go: e.target.closest(".go")?.dataset.scan };  // marks are drawn anew while it is down
    });
    this.pane.addEventListener("pointermove", (e) => {
      if (!drag) return;
      const [x, y] = at(e);
      if (Math.hypot(x - drag.from[0], y - drag.from[1]) > 3) drag.moved = true;
      this.x -= (x - drag.at[0]) / this.scale;
      this.y -= (y - drag.at[1]) / this.scale;
      this.settle();
      drag.at = [x, y];
      this.draw();
    });
    this.pane.addEventListener("pointerup", (e) => {
      const was = drag;
      drag = null;
      if (!was || was.moved) return;
      if (was.go) this.open(was.go);
      else this.app.clicked(this, ...at(e));
    });
    this.pane.addEventListener("click", (e) => {
      const mode = e.target.closest("[data-mode]")?.dataset.mode;
      if (mode === "-") this.close();
      else if (mode) { this.mode = mode; this.buttons(); this.draw(); }
    });
    this.pane.addEventListener("wheel", (e) => {
      e.preventDefault();
      const [px, py] = at(e), before = this.toGrid(px, py);
      this.scale = Math.min(Math.max(this.scale * Math.exp(-Math.max(-60, Math.min(60, e.deltaY)) * 0.0035), 0.02), 60);
      const after = this.toGrid(px, py);
      this.x += before[0] - after[0];
      this.y += before[1] - after[1];
      this.settle();
      this.draw();
    }, { passive: false });
  }

  settle() {
    const { rows, columns, turn } = this.about;
    if (turn) this.x = ((this.x % columns) + columns) % columns;
    else this.x = Math.min(Math.max(this.x, 0), columns);
    this.y = Math.min(Math.max(this.y, 0), rows);
  }
}

// Linear between knots of a falling table; null outside it.
function between(falling, places, value) {
  const last = falling.length - 1;
  if (value > falling[0] || value < falling[last]) return null;
  let low = 0, high = last;
  while (high - low > 1) { const k = (low + high) >> 1; falling[k] >= value ? (low = k) : (high = k); }
  const t = (falling[low] - value) / Math.max(falling[low] - falling[high], 1e-12);
  return places[low] + t * (places[high] - places[low]);
}
