// Text put into markup, never read as markup.

const ENTITIES = { "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" };
export const escaped = (value) => String(value).replace(/[&<>"]/g, (c) => ENTITIES[c]);

// Markup with its values escaped: html`<b>${name}</b>`; what has been made by `raw` goes in as it is.
export function html(strings, ...values) {
  return strings.reduce(
    (out, text, k) => out + (values[k - 1]?.markup ?? escaped(values[k - 1] ?? "")) + text,
  );
}

export const raw = (markup) => ({ markup });
