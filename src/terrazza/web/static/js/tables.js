// Every table of figures can be copied as CSV.
const cell = (td) => {
  const copy = td.cloneNode(true);
  copy
    .querySelectorAll("details, button.plain.link:not([data-figure]), select, img, .copy")
    .forEach((n) => n.remove());
  copy.querySelectorAll("input").forEach((n) => n.replaceWith(n.value));
  copy.querySelectorAll("small").forEach((n) => n.prepend(" "));
  let text = copy.textContent
    .replace(/\u202f/g, "")
    .replace(/\s+/g, " ")
    .trim();
  if (/^[=+\-@]/.test(text) && !/^[+-]?[\d.,’' ]+$/.test(text)) text = `'${text}`; // no spreadsheet shall take it for a formula
  return /[",;\n]/.test(text) ? `"${text.replace(/"/g, '""')}"` : text;
};

export const csv = (table) => `${[...table.rows].map((r) => [...r.cells].map(cell).join(",")).join("\n")}\n`;

export function wire(root = document) {
  for (const table of root.querySelectorAll("table.figures[data-name]:not([data-copy])")) {
    table.dataset.copy = "1";
    const button = document.createElement("button");
    button.type = "button";
    button.className = "plain link copy";
    button.textContent = "copy as CSV";
    button.addEventListener("click", async () => {
      try {
        await navigator.clipboard.writeText(csv(table));
        button.textContent = "copied";
      } catch {
        const link = document.createElement("a");
        link.href = URL.createObjectURL(new Blob([csv(table)], { type: "text/csv" }));
        link.download = `${table.dataset.name}.csv`;
        link.click();
      }
      setTimeout(() => (button.textContent = "copy as CSV"), 1500);
    });
    table.before(button);
  }
}
