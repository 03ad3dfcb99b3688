// Terrazza's own colours for scans, classes and heights; told apart with every common colour blindness.
export const SCANS = ["#2c6e8f", "#b4512f", "#6c7a2f", "#7a5195", "#c28f1a", "#1f8a70", "#8c4a3c", "#4f7fc4", "#a34d78", "#5d6b66", "#d08159", "#3d5a40"];
export const CLASSES = { 0: "#a8a08f", 1: "#8d988f", 2: "#a5762f", 3: "#c3c860", 4: "#8aa53d", 5: "#41702f", 6: "#b4512f", 7: "#7b2f5b", 9: "#2c6e8f", 10: "#5a4a78", 11: "#6d6a66", 13: "#c28f1a", 14: "#d8b13a", 15: "#4f7fc4", 16: "#7a5195", 17: "#8c4a3c", 18: "#9c2f2a" };

export function rgb(hex) {
  const v = parseInt(hex.slice(1), 16);
  return [(v >> 16) / 255, ((v >> 8) & 255) / 255, (v & 255) / 255];
}

export const scanColour = (number) => SCANS[(number - 1) % SCANS.length];
export const classColour = (code) => CLASSES[code] ?? ["#6d8a96", "#96786d", "#7f8f5a", "#8a6d96"][code % 4];
