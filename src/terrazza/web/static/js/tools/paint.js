// One touch on a painted mark draws it and all like it on the ground.
import { send, show, take } from "../gestures.js";

export default {
  name: "paint",
  key: "s",
  order: 80,
  title: "paint",
  help: "Draw painted marks like a touched one",
  steps: ["draw"],
  cursor: "crosshair",
  sends: ["draw.paint"],
  enter: () => show("Touch a mark on the ground: a stripe, an arrow, a line."),
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    if (!point?.placed) return show("Touch a mark on the ground.");
    send(app, "draw.paint", { at: JSON.stringify(point.at) });
  },
  leave: () => show(""),
};
