// Touch a point for its coordinate; on a sheet that asks for an origin or for touched points, it is that.
import { take, toJob } from "../gestures.js";
import { gripped } from "../marks.js";
import { field as asTyped, metres } from "../notation.js";

// The field of a sheet that takes what is touched, and the places it holds (in the job's unit).
const asking = () =>
  document.querySelector('#sheet [data-touch][aria-pressed="true"]')?.previousElementSibling;
function touched(field) {
  try {
    return field?.value ? JSON.parse(field.value) : [];
  } catch {
    return [];
  }
}

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
    if (!point?.placed) return;
    const list = asking();
    if (list) {
      const place = point.at.map((v) => +asTyped(app.cloud.data.notation, v, 4));
      list.value = JSON.stringify([...touched(list), place]);
      return app.overlay();
    }
    if (!field) return;
    field.value = toJob(app, point.at)
      .map((v) => asTyped(app.cloud.data.notation, v, 4))
      .join(", ");
  },
  marks(app, view) {
    const { origin, notation } = app.cloud.data ?? {};
    const places = touched(asking()).map((p) => p.map((v, k) => metres(notation, v) - origin[k]));
    return places.length ? gripped(view, places, { closed: false, chosen: -1, loose: true }) : "";
  },
};
