// One touch inside a room draws it: outline, walls with their gaps, openings and its name.
import { send, show } from "../gestures.js";

export default {
  name: "room",
  key: "j",
  order: 70,
  title: "room",
  help: "Draw a room by a touch inside it",
  steps: ["draw"],
  cursor: "crosshair",
  sends: ["draw.rooms"],
  enter: () => show("Touch inside a room in plan."),
  click(app, view, px, py) {
    if (view.kind !== "plan") return show("Touch inside a room in plan.");
    const at = view.toWorld(px, py),
      o = app.cloud.data.origin,
      place = [at[0] + o[0], at[1] + o[1]];
    const height = app.slabOn ? { height: app.planSlab().reduce((a, b) => a + b) / 2 + o[2] } : {};
    send(app, "draw.rooms", { at: JSON.stringify(place), ...height });
  },
  leave: () => show(""),
};
