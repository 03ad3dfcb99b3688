// Figures as the job writes them: its unit, decimals and marks.
const METRIC = { per_unit: 1, unit: "m", decimals: 3, decimal: ".", thousands: "", order: "E N H" };

// A length in metres, without its unit.
export function written(note, metres, decimals = note?.decimals) {
  const n = note ?? METRIC,
    [whole, part] = Math.abs(metres / n.per_unit)
      .toFixed(decimals ?? n.decimals)
      .split(".");
  return `${metres < 0 && Number(`${whole}.${part ?? 0}`) ? "−" : ""}${whole.replace(/\B(?=(\d{3})+$)/g, n.thousands)}${part ? n.decimal + part : ""}`;
}

// A length in metres, with its unit.
export const said = (note, metres, decimals) => `${written(note, metres, decimals)} ${(note ?? METRIC).unit}`;

// What a field for a length holds, in the job's unit, and the metres that it means.
export const field = (note, metres, decimals = 2) =>
  (metres / (note ?? METRIC).per_unit).toFixed((note ?? METRIC).per_unit > 0.01 ? decimals : 0);
export const metres = (note, value) => +value * (note ?? METRIC).per_unit;

// The names of the three coordinates in the order of the job, each with its place in a triple.
export const axes = (note, names) =>
  (note?.order === "N E H" ? [1, 0, 2] : [0, 1, 2]).map((k) => [names[k], k]);

// The roundest length, in the job's unit, that is not longer than so many metres: its metres, and the decimals that it needs.
export function round(note, metres) {
  const per = (note ?? METRIC).per_unit,
    power = 10 ** Math.floor(Math.log10(metres / per)),
    factor = [5, 2, 1].find((f) => f * power <= (metres / per) * (1 + 1e-9));
  return {
    metres: factor * power * per,
    decimals: Math.max(0, -Math.floor(Math.log10(factor * power) + 1e-9)),
  };
}
