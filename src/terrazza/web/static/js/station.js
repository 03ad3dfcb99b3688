// The view from a station: tiles of its range grid on a canvas, zoomed down to the single pixel, with what is marked in it.
import * as THREE from "../vendor/three.module.js";
import { common, triangle } from "./marks.js";
import { said } from "./notation.js";
import { escaped } from "./text.js";
import { Tiles } from "./tiles.js";
import { ask } from "./trouble.js";

// The station's names that are written are so far apart (px).
const APART = [66, 13];
// A line's part is seen under so many radians, and a line has so many at most.
const PART = 0.03,
  MOST_PARTS = 60;
const MARGIN = 20; // px around the pane within which marks are drawn

export class StationView {
  constructor(pane, app) {
    this.kind = "station";
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

  get shown() {
    return !this.pane.hidden;
  }

  async open(place) {
    const about = await (await ask(`/jobs/${this.app.job}/station/${place}.json`)).json();
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
    this.pane.querySelector(".opts").innerHTML = `${this.about.modes
      .map(
        (m) => `<button type="button" data-mode="${m}" class="${m === this.mode ? "on" : ""}">${m}</button>`,
      )
      .join("")}<button type="button" data-mode="-" title="Back to space (G)">×</button>`;
  }

  fit() {
    const r = this.pane.getBoundingClientRect(),
      { rows, columns } = this.about;
    this.scale = Math.max(r.width / columns, (r.height / rows) * 0.7);
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
  toPane(column, row) {
    const r = this.pane.getBoundingClientRect();
    return [
      r.width / 2 + (column + 0.5 - this.x) * this.scale,
      r.height / 2 + (row + 0.5 - this.y) * this.scale,
    ];
  }
  toGrid(px, py) {
    const r = this.pane.getBoundingClientRect();
    return [this.x + (px - r.width / 2) / this.scale, this.y + (py - r.height / 2) / this.scale];
  }

  // Where a point of the scene (relative to its origin) is seen, as column and row; null where the grid does not reach.
  seen(point) {
    const scan = this.app.cloud.scans.get(this.about.scan),
      m = scan.matrix.clone().invert().elements;
    const [x, y, z] = [0, 1, 2].map(
      (k) => m[k] * point[0] + m[4 + k] * point[1] + m[8 + k] * point[2] + m[12 + k] - this.about.eye[k],
    );
    const { azimuth, across, elevation, down } = this.about,
      middle = (azimuth[0] + azimuth.at(-1)) / 2,
      turn = 2 * Math.PI;
    const a = Math.atan2(y, x) - middle + Math.PI,
      az = middle + (a - turn * Math.floor(a / turn)) - Math.PI;
    const column = between(azimuth, across, az),
      row = between(elevation, down, Math.atan2(z, Math.hypot(x, y)));
    return column === null || row === null ? null : [column, row];
  }

  // An outline (px) as directions: the matrix from the scene to an eye here that looks towards its middle, and the outline there in half turns and quarter turns.
  around(path) {
    const { azimuth, across, elevation, down, scan, eye } = this.about,
      seen = path.map(([px, py]) => {
        const [column, row] = this.toGrid(px, py).map((v) => v - 0.5),
          { columns, turn } = this.about,
          laps = turn ? Math.floor(column / columns) : 0;
        return [at(across, azimuth, column - laps * columns) - laps * 2 * Math.PI, at(down, elevation, row)];
      }),
      middle = (Math.min(...seen.map((s) => s[0])) + Math.max(...seen.map((s) => s[0]))) / 2;
    const matrix = new THREE.Matrix4()
      .makeRotationZ(-middle)
      .multiply(new THREE.Matrix4().makeTranslation(-eye[0], -eye[1], -eye[2]))
      .multiply(this.app.cloud.scans.get(scan).matrix.clone().invert());
    return { matrix, polygon: seen.map(([a, e]) => [(a - middle) / Math.PI, e / (Math.PI / 2)]) };
  }

  draw() {
    if (!this.shown || !this.about) return;
    cancelAnimationFrame(this.frame);
    this.pane.dataset.state = "loading";
    this.frame = requestAnimationFrame(() => this.paint());
  }

  paint() {
    const r = this.pane.getBoundingClientRect(),
      ratio = Math.min(window.devicePixelRatio, 2),
      { rows, columns, tile, turn } = this.about,
      c = this.canvas.getContext("2d");
    this.canvas.width = r.width * ratio;
    this.canvas.height = r.height * ratio;
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.fillStyle = getComputedStyle(document.body).getPropertyValue("--paper-2");
    c.fillRect(0, 0, r.width, r.height);
    c.imageSmoothingEnabled = this.scale < 1;
    const level = Math.max(0, Math.floor(Math.log2(1 / this.scale))),
      top = Math.ceil(Math.log2(Math.max(rows, columns) / tile));
    let missing = 0;
    for (const lap of turn ? [-1, 0, 1] : [0]) {
      // a coarser layer lies below until the finer has come
      for (const l of [Math.max(top, level), level]) missing += this.layer(c, r, l, lap * columns);
    }
    this.pane.dataset.state = missing ? "loading" : "idle";
    this.mark();
  }

  layer(c, r, level, shift) {
    const { rows, columns, tile } = this.about,
      span = tile * 2 ** level,
      [left, top] = this.toGrid(0, 0),
      [right, bottom] = this.toGrid(r.width, r.height);
    let missing = 0;
    for (let y = Math.max(0, Math.floor(top / span)); y * span < Math.min(rows, bottom); y++) {
      for (
        let x = Math.max(0, Math.floor((left - shift) / span));
        x * span < Math.min(columns, right - shift);
        x++
      ) {
        const image = this.tile(level, x, y);
        if (!image) {
          missing++;
          continue;
        }
        const [px, py] = this.toPane(x * span + shift - 0.5, y * span - 0.5);
        c.drawImage(
          image,
          px,
          py,
          image.naturalWidth * 2 ** level * this.scale + 0.3,
          image.naturalHeight * 2 ** level * this.scale + 0.3,
        );
      }
    }
    return missing;
  }

  tile(level, x, y) {
    const { key, version } = this.about;
    return this.tiles.get(
      `/jobs/${this.app.job}/station/${key}/${version}/${this.mode}/${level}/${x}-${y}.png`,
    );
  }

  // Pane pixels of a place in the scene, in the lap that is in view; null where it is not seen.
  toPixel(place) {
    const at = this.seen(place);
    return (
      at && (this.laps.map((lap) => this.toPane(at[0] + lap, at[1])).find((p) => this.inside(p)) ?? null)
    );
  }

  // A station that turns all around shows its grid once more on either side.
  get laps() {
    const { turn, columns } = this.about;
    return turn ? [0, -columns, columns] : [0];
  }

  inside(/** @type {number[]} */ [x, y]) {
    const { width, height } = this.pane.getBoundingClientRect();
    return x > -MARGIN && y > -MARGIN && x < width + MARGIN && y < height + MARGIN;
  }

  // How lines are laid flat (ink.js): in columns and rows of the grid, in parts short enough to follow its bend.
  flatParts(a, b) {
    const e = this.app.cloud.scans.get(this.about.scan).matrix.elements,
      from = e.slice(12, 15);
    const near = Math.min(...[a, b].map((p) => Math.hypot(...p.map((v, k) => v - from[k]))));
    const angle = Math.hypot(...a.map((v, k) => v - b[k])) / Math.max(near, 0.1);
    return Math.min(MOST_PARTS, Math.ceil(angle / PART));
  }
  flatKey() {
    const { key, version, columns } = this.about;
    return `${key} ${version} ${this.laps.find((lap) => this.x - lap >= 0 && this.x - lap < columns) ?? 0}`;
  }
  flatPiece(a, b) {
    const from = this.seen(a),
      to = this.seen(b),
      { turn, columns } = this.about;
    if (!from || !to) return null;
    return turn && Math.abs(from[0] - to[0]) > columns / 2 ? null : [from, to];
  }
  flatTo() {
    const { width, height } = this.pane.getBoundingClientRect(),
      s = this.scale;
    return [s, 0, 0, s, width / 2 + (0.5 - this.x) * s, height / 2 + (0.5 - this.y) * s];
  }

  mark() {
    const labels = [],
      { app } = this,
      { notation } = app.cloud.data;
    const nearest = app.marks ? this.about.marks.toSorted((a, b) => a.range - b.range) : [];
    const own = nearest.map((m) => {
      if (m.hidden && m.kind !== "station") return "";
      const places = this.laps
        .map((lap) => this.toPane(m.at[0] + lap, m.at[1]))
        .filter((p) => this.inside(p));
      return places.map((p) => ownMark(m, p, labelled(m, p, labels, notation))).join("");
    });
    this.app.ink.paint(this);
    this.marks.innerHTML = own.join("") + common(this, app);
  }

  async pick(px, py) {
    let [column, row] = this.toGrid(px, py).map(Math.floor);
    if (this.about.turn) column = ((column % this.about.columns) + this.about.columns) % this.about.columns;
    const where = `row=${row}&column=${column}&hidden=${[...this.app.hiddenClasses].join(",")}`;
    const answer = await ask(`/jobs/${this.app.job}/station/${this.about.key}/pick?${where}`);
    const point = await answer.json();
    if (point) point.local = point.shown.map((v, k) => v - this.app.cloud.data.origin[k]);
    return point;
  }

  wire() {
    const at = (e) => {
      const r = this.pane.getBoundingClientRect();
      return [e.clientX - r.left, e.clientY - r.top];
    };
    let drag = null;
    this.pane.addEventListener("pointerdown", (e) => {
      if (e.target.closest(".opts, .tag")) return;
      this.pane.setPointerCapture(e.pointerId);
      const tool = this.app.tools[this.app.tool];
      if (e.button === 0 && tool.drags && tool.around && tool.down(this.app, this, ...at(e), e)) {
        drag = { tool };
        return;
      }
      drag = { at: at(e), from: at(e), moved: false, go: e.target.closest(".go")?.dataset.scan }; // marks are drawn anew while it is down
    });
    this.pane.addEventListener("pointermove", (e) => {
      if (!drag) return;
      const [x, y] = at(e);
      if (drag.tool) {
        drag.tool.move(this.app, this, x, y, e);
        return this.mark();
      }
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
      if (was?.tool) return was.tool.up(this.app, this, ...at(e));
      if (!was || was.moved) return;
      if (was.go) this.open(was.go);
      else this.app.clicked(this, ...at(e));
    });
    this.pane.addEventListener("click", (e) => {
      const mode = e.target.closest("[data-mode]")?.dataset.mode;
      if (mode === "-") this.close();
      else if (mode) {
        this.mode = mode;
        this.buttons();
        this.draw();
      }
    });
    this.pane.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        const [px, py] = at(e),
          before = this.toGrid(px, py);
        this.scale = Math.min(
          Math.max(this.scale * Math.exp(-Math.max(-60, Math.min(60, e.deltaY)) * 0.0035), 0.02),
          60,
        );
        const after = this.toGrid(px, py);
        this.x += before[0] - after[0];
        this.y += before[1] - after[1];
        this.settle();
        this.draw();
      },
      { passive: false },
    );
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
  let low = 0,
    high = last;
  while (high - low > 1) {
    const k = (low + high) >> 1;
    falling[k] >= value ? (low = k) : (high = k);
  }
  const t = (falling[low] - value) / Math.max(falling[low] - falling[high], 1e-12);
  return places[low] + t * (places[high] - places[low]);
}

// Linear between knots of a rising table, and on beyond its ends.
function at(rising, values, place) {
  const last = rising.length - 1,
    k = Math.min(Math.max(rising.findIndex((r) => r > place) - 1, 0), last - 1),
    from = rising.at(-1) <= place ? last - 1 : k,
    t = (place - rising[from]) / Math.max(rising[from + 1] - rising[from], 1e-12);
  return values[from] + t * (values[from + 1] - values[from]);
}

// The name of what is marked and how far it is, where it is seen and there is room.
function labelled(m, /** @type {number[]} */ [x, y], labels, notation) {
  const free = labels.every(([a, b]) => Math.abs(a - x) > APART[0] || Math.abs(b - y) > APART[1]);
  if (m.hidden || !free) return "";
  labels.push([x, y]);
  const far = said(notation, m.range, 1);
  return `<text x="${x + 10}" y="${y - 5}">${escaped(m.name)} <tspan class="far">${far}</tspan></text>`;
}

function ownMark(m, /** @type {number[]} */ [x, y], label) {
  if (m.kind !== "station") {
    const [radius, kind] = m.kind === "control" ? [6, "control"] : [4, "measure"];
    return `<circle cx="${x}" cy="${y}" r="${radius}" class="${kind}" fill="none"/>${label}`;
  }
  const title = `<title>${escaped(m.says)}: step there</title>`;
  const head = `<g class="go${m.hidden ? " behind" : ""}" data-scan="${m.scan}">`;
  return `${head}${triangle([x, y], "station")}${title}</g>${label}`;
}
