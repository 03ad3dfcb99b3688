// The readout under the table: the point touched, what is under the pointer, and the measure being taken.
import { axes, written } from "./notation.js";

export function readout(app) {
  const p = app.picked,
    u = app.under,
    note = app.cloud.data?.notation,
    named = axes(note, app.cloud.data?.georeferenced ? ["E", "N", "H"] : ["X", "Y", "Z"]);
  const parts = [],
    length = (v) => written(note, v);
  if (p) {
    named.forEach(([name, k]) => parts.push(`<span><i>${name}</i><b>${length(p.at[k])}</b></span>`));
    parts.push(
      `<span><i>intensity</i><b>${p.intensity_raw == null ? "–" : +p.intensity_raw.toPrecision(5)}</b></span><span><i>class</i>${p.class_name ?? "–"}</span><span><i>scan</i><b>${p.scan}</b></span><span><i>range</i><b>${length(p.range)}</b></span>`,
    );
  } else
    parts.push(`<span class="muted">Touch a point for its coordinate, intensity, class and scan.</span>`);
  if (u && !p)
    parts.push(
      `<span class="muted"><i>under the pointer</i>${named.map(([, k]) => written(note, u.at[k], Math.min(note?.decimals ?? 2, 2))).join("  ")}</span>`,
    );
  const m = app.draft;
  if (m?.says) parts.push(`<span class="far"><i>${m.kind}</i><b>${m.says}</b></span>`);
  else if (m) parts.push(`<span class="far">touch the next point</span>`);
  return parts.join("");
}
