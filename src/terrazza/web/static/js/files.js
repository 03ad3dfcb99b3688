// Bringing files: slices by PUT that go on after a broken connection, with rate and time left.
import { again, ask } from "./trouble.js";

const SLICE = 16 * 2 ** 20;

const TRIES = 8;

async function have(url) {
  const { headers } = await ask(url, { method: "HEAD" });
  return { offset: +(headers.get("X-Offset") ?? 0), whole: headers.get("X-Whole") };
}

async function upload(job, file, row) {
  const url = `/jobs/${job}/inbox/${encodeURIComponent(file.name)}`,
    started = performance.now();
  let begun = null;
  const slice = async () => {
    const { offset, whole } = await have(url);
    if (whole !== null && whole !== "" && +whole === file.size && offset === 0) return true;
    begun ??= offset;
    const body = file.slice(offset, Math.min(offset + SLICE, file.size));
    const said = await (
      await ask(`${url}?offset=${offset}&total=${file.size}`, { method: "PUT", body })
    ).json();
    const rate = (said.offset - begun) / ((performance.now() - started) / 1000);
    const left = (file.size - said.offset) / Math.max(rate, 1),
      share = (100 * said.offset) / Math.max(file.size, 1);
    row.textContent = `${file.name}: ${Math.round(share)} %, ${(rate / 1e6).toFixed(0)} MB/s, ${left.toFixed(0)} s left`;
    return said.whole;
  };
  const between = () => (row.textContent = `${file.name}: connection broken, trying again …`);
  while (!(await again(slice, { tries: TRIES, between })));
}

export async function bring(job, files, done) {
  const list = document.getElementById("uploads") ?? document.getElementById("notices");
  for (const file of files) {
    const row = document.createElement("div");
    row.className = "fig";
    list.append(row);
    try {
      await upload(job, file, row);
      row.remove();
    } catch (error) {
      row.className = "note";
      row.textContent = error.message;
    }
  }
  done();
}

// Every file below a dropped file or folder.
async function below(entry) {
  if (entry.isFile)
    return entry.name.startsWith(".") ? [] : [await new Promise((done, fail) => entry.file(done, fail))];
  const reader = entry.createReader(),
    found = [];
  for (let some; (some = await new Promise((done, fail) => reader.readEntries(done, fail))).length; )
    found.push(...some);
  return (await Promise.all(found.map(below))).flat();
}

export function wire(job, refresh) {
  const drop = document.getElementById("drop");
  if (!drop || drop.dataset.wired) return;
  drop.dataset.wired = "1";
  const picker = document.getElementById("picker");
  picker.addEventListener("change", () => bring(job, [...picker.files], refresh));
  if (picker.files.length) bring(job, [...picker.files], refresh); // picked before this script had come
  for (const name of ["dragover", "dragenter"])
    drop.addEventListener(name, (e) => {
      e.preventDefault();
      drop.classList.add("over");
    });
  for (const name of ["dragleave", "drop"]) drop.addEventListener(name, () => drop.classList.remove("over"));
  drop.addEventListener("drop", async (e) => {
    e.preventDefault();
    const entries = [...e.dataTransfer.items].map((i) => i.webkitGetAsEntry?.()).filter(Boolean);
    bring(
      job,
      entries.length ? (await Promise.all(entries.map(below))).flat() : [...e.dataTransfer.files],
      refresh,
    );
  });
  const folder = document.getElementById("folder");
  folder?.addEventListener("change", () =>
    bring(
      job,
      [...folder.files].filter((f) => !f.name.startsWith(".")),
      refresh,
    ),
  );
  document.getElementById("import-axes")?.addEventListener("change", (e) => {
    for (const img of document.querySelectorAll("img.thumb[data-base]"))
      img.src = `${img.dataset.base}&axes=${encodeURIComponent(e.target.value)}`;
  });
  document.querySelector('#import-form input[name="every"]')?.addEventListener("input", sum);
  sum();
}

// The sum of points, disk and time follows the choice of scans.
export function sum() {
  const button = document.getElementById("import-button");
  if (!button) return;
  const chosen = [...document.querySelectorAll('#import-form input[name="take"]:checked')],
    every = Math.max(1, +document.querySelector('#import-form input[name="every"]')?.value || 1),
    points = chosen.reduce((n, c) => n + +c.dataset.points, 0) / every;
  button.disabled = !chosen.length;
  button.textContent = `Import ${chosen.length} scan${chosen.length === 1 ? "" : "s"}`;
  document.getElementById("import-under").textContent = chosen.length
    ? `up to ${(points / 1e6).toFixed(2)} M points · ${((points * button.dataset.bytes) / 1e6).toFixed(0)} MB on disk · about ${Math.max(1, Math.round(points * button.dataset.seconds))} s`
    : "Choose scans to take.";
}
