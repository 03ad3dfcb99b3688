// Try-outs: what a filter would take of what is in view, shown in place with its numbers, again whenever a number changes.
import { pieces } from "./regions.js";
import { ask, tell } from "./trouble.js";

const AGAIN = 350; // ms after the last change of a number

export class TryOut {
  constructor(app) {
    this.app = app;
    this.form = null;
    this.asked = 0;
    document.addEventListener("click", (e) => {
      const button = e.target.closest("[data-try]");
      if (button) this.start(button.closest("form"));
      if (e.target.closest("[data-untry]")) this.stop();
    });
    document.addEventListener("input", (e) => {
      if (!this.form || e.target.closest("form") !== this.form) return;
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.ask(), AGAIN);
    });
    document.addEventListener("htmx:afterSwap", () => {
      if (this.form && !this.form.isConnected) this.stop();
    });
  }

  start(form) {
    if (this.form !== form) this.stop();
    this.form = form;
    this.ask();
  }

  stop() {
    this.asked++;
    this.app.cloud.setMarks(null);
    this.outlet()?.replaceChildren();
    this.form = null;
    this.app.draw();
  }

  outlet() {
    return this.form?.querySelector("[data-tried]");
  }

  async ask() {
    const { app } = this,
      mine = ++this.asked,
      view = app.space,
      form = this.form;
    if (!form) return;
    const outlet = this.outlet();
    outlet.dataset.state = "asking";
    const region = {
      pieces: pieces(view),
      but: [],
      scans: app.cloud
        .visibleScans()
        .filter((s) => s.record.placed)
        .map((s) => s.id),
      hidden: [...app.cloud.hiddenClasses],
      budget: 1,
    };
    try {
      const values = [...new FormData(form)].map(([k, v]) => [k, String(v)]);
      const answer = await ask(`/jobs/${app.job}/try/${form.dataset.operation}`, {
        json: { values, region },
      });
      if (answer.status === 204 || mine !== this.asked) return;
      this.show(await answer.arrayBuffer(), outlet);
    } catch (error) {
      if (mine === this.asked) {
        tell(error);
        this.stop();
      }
    }
  }

  show(buffer, outlet) {
    const size = new DataView(buffer).getUint32(0, true),
      told = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size)));
    this.app.cloud.setMarks(new Float32Array(buffer, 4 + size));
    const percent = (row) => `${((100 * row.taken) / Math.max(row.points, 1)).toFixed(2)} %`;
    const { by_range = [], by_class = [] } = told.figures;
    const lines = by_range
      .map((row) => [`${row.from_m} m ${row.to_m ? `to ${row.to_m} m` : "and on"}`, row])
      .concat(by_class.filter((row) => row.taken).map((row) => [row.name, row]));
    outlet.replaceChildren();
    const head = document.createElement("p");
    head.textContent = `${told.says}${told.whole ? "" : ", of an even share of what is in view"}, ${told.seconds.toFixed(1)} s`;
    const table = document.createElement("table");
    table.className = "figures";
    for (const [what, row] of lines) {
      const line = table.insertRow();
      line.insertCell().textContent = what;
      for (const text of [row.points.toLocaleString("en"), row.taken.toLocaleString("en"), percent(row)]) {
        const cell = line.insertCell();
        cell.className = "n";
        cell.textContent = text;
      }
    }
    const doubts = told.figures.doubt.map((sentence) => {
      const p = document.createElement("p");
      p.className = "look";
      p.textContent = sentence;
      return p;
    });
    const off = document.createElement("button");
    Object.assign(off, { type: "button", className: "plain link", textContent: "leave it" });
    off.dataset.untry = "";
    outlet.append(head, table, ...doubts, off);
    outlet.dataset.state = "shown";
    this.app.draw();
  }
}
