// The plan as a picture of all points, drawn by the server in tiles; the streamed points lie below until it has come.
import { said } from "./notation.js";
import { Tiles } from "./tiles.js";
import { again, ask, tell } from "./trouble.js";

const QUIET = 200; // ms without a change before other tiles are asked for

export class PlanPicture {
  constructor(canvas, app) {
    this.canvas = canvas;
    this.app = app;
    this.tiles = new Tiles(() => app.painter.pictured());
    this.about = null;
    this.coming = true;
    this.wanted = "";
    this.since = 0;
  }

  async load() {
    try {
      this.about = await (await again(() => ask(`/jobs/${this.app.job}/plan.json`))).json();
    } catch (error) {
      if (error.status !== 404) tell(error); // a job without points has no plan
      return this.app.draw();
    } finally {
      this.coming = false;
    }
    const { floors } = this.about,
      list = document.getElementById("plan-floor"),
      { notation } = this.app.cloud.data;
    list.hidden = floors.length < 2;
    list.innerHTML =
      '<option value="">all floors</option>' +
      floors.map((f, k) => `<option value="${k}">floor at ${said(notation, f.level, 1)}</option>`).join("");
    list.value = floors[this.app.floor] ? this.app.floor : "";
    this.app.draw();
  }

  // Lowest and highest height of the floor chosen, from the origin of the scene; null where all are shown.
  floor() {
    const f = this.about?.floors[this.app.floor],
      z = this.app.cloud.data.origin[2];
    return f ? [(f.low ?? -1e6) - z, (f.high ?? 1e6) - z] : null;
  }

  // What of the address of a tile tells what is shown; null where a picture is of no use.
  shown() {
    const { app } = this,
      { cloud } = app,
      limits = app.plan.limits.slab,
      z = cloud.data.origin[2];
    if (!this.about?.tones.includes(app.planMode) || app.box || app.moving || !cloud.scans.size) return null;
    const words = new URLSearchParams(),
      scans = cloud.visibleScans();
    if (!scans.length) return null;
    if (scans.length < cloud.scans.size) words.set("scans", scans.map((s) => s.id).join());
    if (cloud.hiddenClasses.size) words.set("hidden", [...cloud.hiddenClasses].join());
    if (limits)
      limits.forEach((v, k) => Math.abs(v) < 9e5 && words.set(["low", "high"][k], (v + z).toFixed(3)));
    return `/jobs/${app.job}/plan/${this.about.version}/${app.planMode}/LEVEL?${words}`;
  }

  // Draw what has come; whether nothing is missing, so that the points below need not be drawn.
  paint() {
    const address = this.shown(),
      c = this.canvas.getContext("2d"),
      view = this.app.plan,
      { width, height } = view.rect,
      ratio = Math.min(window.devicePixelRatio, 2);
    this.canvas.hidden = !address;
    this.busy = this.coming;
    this.whole = false;
    if (!address) return false;
    if (address !== this.wanted) Object.assign(this, { wanted: address, since: performance.now() });
    this.canvas.width = width * ratio;
    this.canvas.height = height * ratio;
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    const { levels, tile } = this.about,
      exact = Math.log2(ratio / view.scale),
      level = Math.min(Math.max(Math.ceil(exact - 0.25), levels[0]), levels[1]);
    const steady = performance.now() - this.since > QUIET || !this.asked;
    if (!steady) setTimeout(() => this.app.painter.pictured(), QUIET);
    const place = (l, x, y) => {
      const span = tile * 2 ** -l,
        o = this.app.cloud.data.origin;
      return [
        width / 2 + (x * span - o[0] - view.centre[0]) / view.scale,
        height / 2 - ((y + 1) * span - o[1] - view.centre[1]) / view.scale,
        span / view.scale,
      ];
    };
    this.busy = !steady;
    // what is missing is drawn from coarser tiles, where these are there
    for (const { url, at, coarser } of steady ? this.cover(address, level, view, tile) : []) {
      const image = this.tiles.get(url);
      if (image) {
        const [px, py, w] = place(...at);
        c.drawImage(image, px, py, w + 0.4, w + 0.4);
      } else {
        this.busy ||= !this.tiles.settled(url);
        const up = coarser
          .map((k) => [k, this.tiles.images.get(k.url)])
          .find(([, i]) => i?.complete && i.naturalWidth > 1);
        if (up) this.part(c, up[0], up[1], place(...at), tile);
      }
    }
    this.asked = true;
    this.whole = steady && !this.busy;
    this.canvas.style.background = this.whole ? "var(--canvas)" : "none";
    return this.whole;
  }

  // Tiles of a level that the view meets, each with the coarser ones that hold it.
  cover(address, level, view, tile) {
    const span = tile * 2 ** -level,
      o = this.app.cloud.data.origin,
      { width, height } = view.rect,
      [west, north] = view.toWorld(0, 0),
      [east, south] = view.toWorld(width, height),
      all = [];
    const url = (l, x, y) => address.replace("LEVEL", `${l}/${x}_${y}.png`);
    for (let x = Math.floor((west + o[0]) / span); x * span < east + o[0]; x++) {
      for (let y = Math.floor((south + o[1]) / span); y * span < north + o[1]; y++) {
        const coarser = [1, 2, 3].map((up) => ({ up, x, y, url: url(level - up, x >> up, y >> up) }));
        all.push({ url: url(level, x, y), at: [level, x, y], coarser });
      }
    }
    return all;
  }

  part(c, { up, x, y }, image, /** @type {number[]} */ [px, py, w], tile) {
    const size = tile / 2 ** up,
      column = x & (2 ** up - 1),
      row = 2 ** up - 1 - (y & (2 ** up - 1));
    c.drawImage(image, column * size, row * size, size, size, px, py, w + 0.4, w + 0.4);
  }
}
