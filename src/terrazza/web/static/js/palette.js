// Terrazza's own colours for scans, classes and heights; told apart with every common colour blindness.
export const SCANS = [
  "#2c6e8f",
  "#b4512f",
  "#6c7a2f",
  "#7a5195",
  "#c28f1a",
  "#1f8a70",
  "#8c4a3c",
  "#4f7fc4",
  "#a34d78",
  "#5d6b66",
  "#d08159",
  "#3d5a40",
];
export const CLASSES = {
  0: "#a8a08f",
  1: "#86948f",
  2: "#7b510a",
  3: "#d5e5a7",
  4: "#828b0a",
  5: "#0d2d25",
  6: "#a96a5e",
  7: "#4e1e72",
  9: "#3e7388",
  10: "#5a4a78",
  11: "#54514f",
  13: "#c28f1a",
  14: "#f7e951",
  15: "#4f7fc4",
  16: "#7a5195",
  17: "#4b2c0a",
  18: "#9c2f2a",
  64: "#b6b529",
  65: "#bcd8e3",
  66: "#aa74c6",
  67: "#cc9a7c",
  68: "#5a50b9",
  69: "#0a0e21",
};

export function rgb(hex) {
  const v = parseInt(hex.slice(1), 16);
  return [(v >> 16) / 255, ((v >> 8) & 255) / 255, (v & 255) / 255];
}

export const scanColour = (number) => SCANS[(number - 1) % SCANS.length];
export const classColour = (code) => CLASSES[code] ?? ["#6d8a96", "#96786d", "#7f8f5a", "#8a6d96"][code % 4];
