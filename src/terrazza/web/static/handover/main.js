// The pages put together: what is looked at, marks over it, touches, measures and notes.
"use strict";

const $ = (id) => document.getElementById(id);
const look = {
  way: "plan",
  view: null,
  plan: JOB.plan,
  touched: [],
  off: new Set(),
  notes: [],
  slab: [-1e9, 1e9],
};
const safe = (text) => String(text).replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);
const inUnit = (metres, decimals = JOB.unit.decimals) => (metres / JOB.unit.metres).toFixed(decimals);
const local = (at) => at.map((v, k) => v - JOB.origin[k]);
const pixelOf = (at) =>
  look.way === "plan"
    ? planPixel(at)
    : look.way === "space"
      ? spacePixel(local(at))
      : viewPixel(look.view, at);

const placeOfView = (view) => view.pose.slice(0, 3).map((row) => row[3]);
// Whether a place belongs to the floor that the plan shows.
const shown = (at) => look.way !== "plan" || (at[2] >= look.slab[0] && at[2] <= look.slab[1]);

function marks() {
  const out = [],
    ways = look.way !== "view";
  for (const drawing of JOB.drawings.filter((_, k) => ways && !look.off.has(k))) {
    for (const { at, closed } of drawing.lines) {
      const p = at.map(pixelOf);
      if (p.every(Boolean) && shown(at[0]))
        out.push(
          `<path class="line" d="M${p.map((q) => `${q[0].toFixed(1)} ${q[1].toFixed(1)}`).join("L")}${closed ? "Z" : ""}"/>`,
        );
    }
    for (const { text, at } of drawing.texts) {
      const p = shown(at) && pixelOf(at);
      if (p)
        text
          .split("\n")
          .forEach((row, k) =>
            out.push(`<text x="${p[0]}" y="${p[1] + 14 * k}" text-anchor="middle">${safe(row)}</text>`),
          );
    }
  }
  JOB.views.forEach((view, k) => {
    const at = placeOfView(view),
      p = view === look.view || !shown(at) ? null : pixelOf(at),
      size = view.stop ? 4 : 7;
    if (!p) return;
    out.push(
      `<g class="go" data-view="${k}"><title>${safe(view.name)}: look from here</title><path class="station" d="M${p[0]} ${p[1] - size}l${size} ${1.7 * size}h${-2 * size}z"/></g>`,
    );
    if (!view.stop) out.push(`<text x="${p[0] + 10}" y="${p[1] + 4}">${safe(view.name)}</text>`);
  });
  JOB.pins.forEach((pin, k) => {
    const p = shown(pin.at) && pixelOf(pin.at);
    if (p)
      out.push(
        `<g class="go" data-pin="${k}"><title>${safe(pin.name)}</title><circle class="pin" cx="${p[0]}" cy="${p[1]}" r="6"/></g>`,
      );
  });
  const p = look.touched.map((t) => pixelOf(t.at)).filter(Boolean);
  if (p.length > 1) out.push(`<path class="measure" d="M${p.map((q) => `${q[0]} ${q[1]}`).join("L")}"/>`);
  for (const q of p) out.push(`<circle class="measure" cx="${q[0]}" cy="${q[1]}" r="5"/>`);
  $("marks").innerHTML = out.join("");
}

let due = 0;
function draw() {
  cancelAnimationFrame(due);
  due = requestAnimationFrame(() => {
    if (look.way === "space") drawSpace(look.slab.map((v) => v - JOB.origin[2]));
    else drawFlat();
    marks();
    $("loaded").textContent = look.way === "space" ? `${(POINTS.count / 1e6).toFixed(2)} M points` : "";
  });
}

// Look at the plan, at space, or from a station.
function go(way, view = null) {
  Object.assign(look, { way, view });
  $("space").hidden = way !== "space";
  $("flat").hidden = way === "space";
  $("to-plan").setAttribute("aria-selected", way === "plan");
  $("to-space").setAttribute("aria-selected", way === "space");
  if (way === "space") {
    if (!SPACE.gl && !beginSpace()) return ($("read").textContent = "This browser draws no points in space.");
    wantPoints(eye.at.map((v, k) => v + JOB.origin[k]));
  }
  if (way === "plan") showPicture(look.plan.file, look.plan.width, look.plan.height, null, draw);
  if (way === "view") {
    wantPoints(placeOfView(view));
    showPicture(view.file, view.columns, view.rows, view, draw);
  }
  draw();
}

// A floor by itself, in plan and as a slab in space; all of them without one.
function onFloor(floor) {
  look.plan = floor ? floor.plan : JOB.plan;
  look.slab = floor ? [floor.low, floor.high] : [-1e9, 1e9];
  $("low").value = floor ? inUnit(floor.low) : "";
  $("high").value = floor ? inUnit(floor.high) : "";
  for (const button of document.querySelectorAll("[data-floor]"))
    button.setAttribute("aria-pressed", JOB.floors[Number(button.dataset.floor)] === floor);
  go(look.way === "view" ? "plan" : look.way);
}

function read() {
  const t = look.touched,
    said = (at) => at.map((v) => inUnit(v)).join("  "),
    unit = JOB.unit.short;
  if (!t.length) $("read").textContent = "Touch a point for its coordinate; a second one measures.";
  else if (t.length === 1) $("read").textContent = `${said(t[0].at)} ${unit} · ${SCANS.get(t[0].scan).name}`;
  else {
    const d = [0, 1, 2].map((k) => t[1].at[k] - t[0].at[k]);
    $("read").textContent =
      `distance ${inUnit(Math.hypot(...d))} ${unit} · level ${inUnit(Math.hypot(d[0], d[1]))} · height ${inUnit(d[2])}`;
  }
  $("note").hidden = $("clear").hidden = !t.length;
}

function touch(px, py) {
  if (look.way === "plan") return;
  const slab = look.slab.map((v) => v - JOB.origin[2]),
    found = look.way === "space" ? pickSpace(px, py, slab) : pickView(look.view, px, py);
  if (!found) return;
  look.touched = look.touched.length === 1 ? [look.touched[0], found] : [found];
  read();
  draw();
}

function lists() {
  const item = (list, html) => $(list).insertAdjacentHTML("beforeend", `<li>${html}</li>`);
  JOB.views.forEach((view, k) => {
    if (!view.stop) item("stations", `<button class="link" data-view="${k}">${safe(view.name)}</button>`);
  });
  JOB.floors.forEach((floor, k) =>
    item(
      "floors",
      `<button class="link" data-floor="${k}" aria-pressed="false">${safe(floor.name)}</button>`,
    ),
  );
  $("told").innerHTML = JOB.told
    .map(([what, sentence]) => `<dt>${safe(what)}</dt><dd>${safe(sentence)}</dd>`)
    .join("");
  JOB.drawings.forEach((d, k) =>
    item("drawings", `<label><input type="checkbox" checked data-drawing="${k}"> ${safe(d.name)}</label>`),
  );
  JOB.pins.forEach((pin, k) =>
    item("pins", `<button class="link" data-pin="${k}">${safe(pin.name)}</button>`),
  );
  for (const list of ["stations", "floors", "drawings", "pins"])
    if (!$(list).children.length) item(list, "none");
}

function tellPin(pin) {
  const link = /^https?:/i.test(pin.link) ? ` <a href="${safe(pin.link)}">${safe(pin.link)}</a>` : "",
    picture = pin.picture ? ` <a href="pins/${safe(pin.picture)}">picture</a>` : "";
  $("read").innerHTML = `<b>${safe(pin.name)}</b> ${safe(pin.text)}${link}${picture}`;
  Object.assign(eye, { at: local(pin.at), distance: 6 });
  if (look.way !== "plan") go("space");
}

function addNote() {
  const text = prompt("What is there to say here?"),
    place = look.touched[look.touched.length - 1];
  if (!text) return;
  look.notes.push({
    text,
    author: $("author").value.trim(),
    time: new Date().toISOString(),
    scan: place.scan,
    at: place.at,
  });
  $("notes").innerHTML = look.notes.map((n) => `<li>${safe(n.text)}</li>`).join("");
}

// The notes as a file that the job takes back in as pins.
function saveNotes() {
  const features = look.notes.map(({ text, author, time, at }) => ({
    type: "Feature",
    properties: { text, author, time },
    geometry: { type: "Point", coordinates: at },
  }));
  const data = JSON.stringify({ type: "FeatureCollection", job: JOB.name, features }, null, 1),
    link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([data], { type: "application/geo+json" }));
  link.download = "notes.geojson";
  link.click();
}

function gestures() {
  const main = document.querySelector("main"),
    place = (e) => [
      e.clientX - main.getBoundingClientRect().left,
      e.clientY - main.getBoundingClientRect().top,
    ];
  let held = null,
    moved = 0;
  main.onpointerdown = (e) => {
    held = place(e);
    moved = 0;
    if (!e.target.closest(".go")) main.setPointerCapture(e.pointerId);
  };
  main.onpointermove = (e) => {
    if (!held) return;
    const now = place(e),
      [dx, dy] = [now[0] - held[0], now[1] - held[1]];
    moved += Math.abs(dx) + Math.abs(dy);
    held = now;
    if (look.way !== "space") Object.assign(FLAT, { x: FLAT.x + dx, y: FLAT.y + dy });
    else if (e.shiftKey || e.buttons === 2) shift(dx, dy);
    else
      Object.assign(eye, {
        turn: eye.turn + 0.006 * dx,
        lift: Math.min(Math.max(eye.lift + 0.006 * dy, -1.5), 1.57),
      });
    draw();
  };
  main.onpointerup = (e) => {
    if (held && moved < 4 && !e.target.closest(".go")) touch(...place(e));
    if (look.way === "space" && moved > 4) wantPoints(eye.at.map((v, k) => v + JOB.origin[k]));
    held = null;
  };
  main.oncontextmenu = (e) => e.preventDefault();
  main.onwheel = (e) => {
    e.preventDefault();
    const factor = Math.exp(-0.0015 * e.deltaY);
    if (look.way === "space") eye.distance = Math.min(Math.max(eye.distance / factor, 0.2), 3000);
    else zoomFlat(...place(e), factor);
    draw();
  };
}

function shift(dx, dy) {
  const { right, up } = axes(),
    step = (2 * WIDTH * eye.distance) / SPACE.canvas.clientWidth;
  eye.at = eye.at.map((v, k) => v - step * dx * right[k] + step * dy * up[k]);
}

document.addEventListener("click", (e) => {
  const { view, pin, floor } = e.target.closest("[data-view], [data-pin], [data-floor]")?.dataset ?? {};
  if (view) go("view", JOB.views[Number(view)]);
  if (floor) onFloor(JOB.floors[Number(floor)]);
  if (pin) tellPin(JOB.pins[Number(pin)]);
});
document.addEventListener("change", ({ target }) => {
  const { drawing } = target.dataset;
  if (drawing) look.off[target.checked ? "delete" : "add"](Number(drawing));
  if (target.id === "low" || target.id === "high") {
    const bound = (id, none) => ($(id).value === "" ? none : Number($(id).value) * JOB.unit.metres);
    look.slab = [bound("low", -1e9), bound("high", 1e9)];
  }
  draw();
});
$("to-plan").onclick = () => (look.way === "plan" ? onFloor(null) : go("plan"));
$("to-job").onclick = () => $("job").showModal();
$("to-space").onclick = () => go("space");
$("whole").onclick = () => onFloor(null);
$("note").onclick = addNote;
$("clear").onclick = () => {
  look.touched = [];
  read();
  draw();
};
$("save").onclick = saveNotes;
window.onresize = draw;
POINTS.changed = draw;
document.title = `${JOB.name}: handover`;
$("name").textContent = JOB.name;
$("mark").hidden = !JOB.mark;
if (JOB.mark) $("mark").src = JOB.mark;
$("about").textContent = [
  JOB.firm && `by ${JOB.firm}`,
  JOB.client && `for ${JOB.client}`,
  JOB.made,
  JOB.system,
  `lengths in ${JOB.unit.short}`,
]
  .filter(Boolean)
  .join(" · ");
eye.distance = 0.7 * Math.hypot(JOB.high[0] - JOB.low[0], JOB.high[1] - JOB.low[1]);
lists();
gestures();
go("plan");
