// Tool bar, list of keys and what a key does: made from the tools and the commands themselves.
import { COMMANDS, GESTURES } from "./commands.js";
import { html } from "./text.js";
import { notice } from "./trouble.js";

const capital = (word) => word[0].toUpperCase() + word.slice(1);
const TYPING = "input:not([type=checkbox]), select, textarea, dialog";

// Tools by name, as the server lists them: every file in the folder of tools is one.
export async function loadTools(addresses) {
  const modules = await Promise.all(addresses.map((address) => import(address)));
  const tools = modules.map((module) => module.default).sort((a, b) => a.order - b.order);
  return Object.fromEntries(tools.map((tool) => [tool.name, tool]));
}

/** @typedef {{ name: string, steps?: string[] }} Belonging */

// Whether a tool or a command belongs to a step: it names none, or this one.
export const belongs = (/** @type {Belonging} */ { steps }, step) => !steps || steps.includes(step);

export function toolBar(app, step) {
  const tools = Object.values(app.tools).filter((tool) => belongs(tool, step));
  const buttons = tools.map(
    (t) =>
      html`<button data-tool="${t.name}" class="${t.name === app.tool ? "on" : ""}" title="${t.help} (${t.key.toUpperCase()})">${t.title}</button>`,
  );
  const commands = COMMANDS.filter((c) => c.bar).map(
    (c) => html`<button data-act="${c.name}" title="${c.help} (${c.key.toUpperCase()})">${c.bar}</button>`,
  );
  document.getElementById("tool-buttons").innerHTML = [...buttons, ...commands].join("");
}

export function keyList(app, step) {
  const tools = Object.values(app.tools).filter((tool) => belongs(tool, step));
  const lines = [
    ["1 … 8", "steps"],
    ...tools.map((t) => [t.key.toUpperCase(), t.help.toLowerCase()]),
    ...COMMANDS.filter((c) => c.listed !== false && belongs(c, step)).map((c) => [
      c.listed ?? c.key.toUpperCase(),
      c.help,
    ]),
    ...GESTURES,
  ];
  document.getElementById("key-list").innerHTML = lines
    .map(([key, what]) => html`<tr><td><kbd>${key}</kbd></td><td>${what}</td></tr>`)
    .join("");
}

// A key pressed: a step, a tool of the step at hand, or a command.
export function wireKeys(app, step, go) {
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.closest(TYPING)) return;
    const key = e.key.toLowerCase();
    if (/^[1-8]$/.test(key)) return go(+key - 1);
    const tools = Object.values(app.tools).filter((t) => t.key === key),
      tool = tools.find((t) => belongs(t, step()));
    const command = COMMANDS.find((c) => [c.key, ...(c.also ?? [])].includes(key) && belongs(c, step()));
    if (!tool && !command && !tools.length) return;
    e.preventDefault();
    if (tool) app.use(tool.name);
    else if (command) command.does(app);
    else notice(`${tools[0].help} belongs to ${tools[0].steps.map(capital).join(" and ")}.`);
  });
}
