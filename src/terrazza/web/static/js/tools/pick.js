// Touch a point for its coordinate; on a sheet that asks for an origin, it is that.
import { take, toJob } from "../gestures.js";
import { field as asTyped } from "../notation.js";

export default {
  name: "pick",
  key: "p",
  order: 10,
  title: "pick",
  help: "Pick a point",
  cursor: "crosshair",
  sends: [],
  async click(app, view, px, py) {
    const point = await take(app, view, px, py),
      field = document.querySelector('#sheet input[name="origin"]');
    app.picked = point;
    if (!field || !point?.placed) return;
    field.value = toJob(app, point.at)
      .map((v) => asTyped(app.cloud.data.notation, v, 4))
      .join(", ");
  },
};
