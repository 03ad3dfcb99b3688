// Where one looks as words in the address, so that a link opens the same view; and pictures of a view with scale and caption.
import { numbersIn } from "./frame.js";

const f = (v) => +v.toFixed(4);

// The view as “name=numbers;…”, coordinates in the grid or job frame.
export function address(app) {
  const o = app.cloud.data.origin,
    { plan, space, slab } = app,
    parts = {
      plan: [plan.centre[0] + o[0], plan.centre[1] + o[1], plan.scale],
      space: [
        ...space.target.toArray().map((v, k) => v + o[k]),
        space.distance,
        space.azimuth,
        space.elevation,
      ],
      slab: [
        slab.a[0] + o[0],
        slab.a[1] + o[1],
        slab.b[0] + o[0],
        slab.b[1] + o[1],
        slab.along,
        slab.height + o[2],
        slab.scale,
        slab.thickness,
      ],
      cut: [app.slabOn ? 1 : 0, app.slabHeight + o[2], app.slabThickness],
    };
  const words = Object.entries(parts).map(([k, v]) => `${k}=${v.map(f).join(",")}`);
  if (slab.path.length > 2)
    words.push(
      `bends=${slab.path
        .slice(1, -1)
        .flatMap((p) => p.map((v, k) => f(v + o[k])))
        .join(",")}`,
    );
  words.push(`colour=${app.mode}`, `plan-as=${app.planMode}`);
  if (app.box?.name) words.push(`box=${encodeURIComponent(app.box.name)}`);
  if (app.station.shown) words.push(`station=${app.station.about.key}`);
  return words.join(";");
}

// Look as an address says; what it does not say stays.
export function look(app, words) {
  const o = app.cloud.data.origin,
    { said, numbers } = numbersIn(words);
  const plan = numbers("plan", 3),
    space = numbers("space", 6),
    slab = numbers("slab", 8),
    cut = numbers("cut", 3);
  if (plan) Object.assign(app.plan, { centre: [plan[0] - o[0], plan[1] - o[1]], scale: plan[2] });
  if (space) {
    app.space.target.set(space[0] - o[0], space[1] - o[1], space[2] - o[2]);
    Object.assign(app.space, { distance: space[3], azimuth: space[4], elevation: space[5] });
  }
  const bends = (said.bends ?? "").split(",").map(Number),
    pairs =
      bends.length % 2 === 0 && bends.every(Number.isFinite)
        ? bends.flatMap((v, k) => (k % 2 ? [] : [[v - o[0], bends[k + 1] - o[1]]]))
        : [];
  if (slab)
    Object.assign(app.slab, {
      path: [[slab[0] - o[0], slab[1] - o[1]], ...pairs, [slab[2] - o[0], slab[3] - o[1]]],
      along: slab[4],
      height: slab[5] - o[2],
      scale: slab[6],
      thickness: slab[7],
    });
  if (cut) Object.assign(app, { slabOn: cut[0] === 1, slabHeight: cut[1] - o[2], slabThickness: cut[2] });
  if (said.colour) app.colour(said.colour);
  if (said["plan-as"]) app.planAs(said["plan-as"]);
  app.showBox(
    said.box ? (app.cloud.data.boxes.find((b) => b.name === decodeURIComponent(said.box)) ?? null) : null,
  );
  if (said.station) app.stand(said.station);
  app.showSlab();
  app.dirty();
}

// Save a pane as PNG: its points, its marks, and a caption under it.
export async function picture(app, pane, title) {
  app.render();
  const r = pane.getBoundingClientRect(),
    host = app.renderer.domElement,
    at = host.getBoundingClientRect(),
    ratio = host.width / at.width,
    bar = 34;
  const out = document.createElement("canvas"),
    c = out.getContext("2d"),
    style = getComputedStyle(document.body);
  out.width = r.width * ratio;
  out.height = (r.height + bar) * ratio;
  c.scale(ratio, ratio);
  c.fillStyle = style.getPropertyValue("--paper");
  c.fillRect(0, 0, r.width, r.height + bar);
  c.drawImage(
    host,
    (r.left - at.left) * ratio,
    (r.top - at.top) * ratio,
    r.width * ratio,
    r.height * ratio,
    0,
    0,
    r.width,
    r.height,
  );
  const own = [...pane.querySelectorAll("canvas")].filter((canvas) => !canvas.hidden && canvas.width);
  for (const canvas of own) c.drawImage(canvas, 0, 0, r.width, r.height);
  c.drawImage(await drawn(pane.querySelector("svg.marks"), r), 0, 0, r.width, r.height);
  c.fillStyle = style.getPropertyValue("--ink");
  c.font = "600 13px Text";
  c.fillText(title, 10, r.height + 21);
  c.font = "12px Figures";
  const when = new Date().toISOString().slice(0, 10);
  c.fillText(when, r.width - 10 - c.measureText(when).width, r.height + 21);
  return out;
}

// The marks over a pane as an image, with the styles that they have on the page.
function drawn(svg, r) {
  const copy = svg.cloneNode(true),
    style = getComputedStyle(document.body);
  const names = [
    "--paper",
    "--paper-2",
    "--ink",
    "--ink-2",
    "--line",
    "--terracotta",
    "--lemon",
    "--lake",
    "--amber",
    "--canvas",
    "--sheet",
  ];
  const rules = [...document.styleSheets]
    .flatMap((s) => [...s.cssRules])
    .filter((k) => /** @type {CSSStyleRule} */ (k).selectorText?.includes(".marks"))
    .map((k) => k.cssText)
    .join("");
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", r.width);
  copy.setAttribute("height", r.height);
  copy.setAttribute(
    "style",
    names.map((n) => `${n}:${style.getPropertyValue(n)}`).join(";") +
      `;color:${style.getPropertyValue("--ink")}`,
  );
  copy.insertAdjacentHTML("afterbegin", `<style>${rules}</style>`);
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(new XMLSerializer().serializeToString(copy))}`;
  return image.decode().then(() => image);
}

export function save(canvas, name) {
  const link = document.createElement("a");
  link.href = canvas.toDataURL("image/png");
  link.download = name;
  link.click();
}
