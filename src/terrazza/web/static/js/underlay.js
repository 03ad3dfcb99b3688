// Sketches and maps under the plan: pictures laid by their matrix from pixels to the scene, and only moved when the plan moves.

// Pixel of a sketch (column, row) to a place in plan, from the origin of the scene, and back.
export function placeOf({ matrix: m }, /** @type {number[]} */ [column, row]) {
  return [m[0] * column + m[1] * row + m[2], m[3] * column + m[4] * row + m[5]];
}
export function pixelOf({ matrix: m }, /** @type {number[]} */ [x, y]) {
  const size = m[0] * m[4] - m[1] * m[3],
    [dx, dy] = [x - m[2], y - m[5]];
  return [(m[4] * dx - m[1] * dy) / size, (m[0] * dy - m[3] * dx) / size];
}
export const within = ({ width, height }, /** @type {number[]} */ [column, row]) =>
  column >= 0 && column <= width && row >= 0 && row <= height;

// The CSS matrix that lays a sketch where the view looks.
export function laid(sketch, toPixel) {
  const [o, x, y] = [
    [0, 0],
    [1, 0],
    [0, 1],
  ].map((pixel) => toPixel([...placeOf(sketch, pixel), 0]));
  return [x[0] - o[0], x[1] - o[1], y[0] - o[0], y[1] - o[1], o[0], o[1]];
}

export class Underlay {
  constructor(app) {
    this.app = app;
    this.pictures = new Map(); // by number
    this.switched = document.getElementById("plan-sketch");
    this.switched.querySelector("input").addEventListener("change", () => app.overlay());
  }

  // Lay the sketches of the job where the plan looks.
  paint(view) {
    const { sketches = [] } = this.app.cloud.data,
      shown = this.switched.querySelector("input").checked;
    this.switched.hidden = !sketches.length;
    for (const [id, image] of this.pictures)
      if (!sketches.some((s) => s.id === id)) {
        image.remove();
        this.pictures.delete(id);
      }
    for (const sketch of sketches) {
      const image = this.of(view, sketch);
      image.hidden = !shown;
      image.style.transform = `matrix(${laid(sketch, (p) => view.toPixel(p)).join()})`;
    }
  }

  of(view, { id, url, width, height, name }) {
    let image = this.pictures.get(id);
    if (!image) {
      image = Object.assign(document.createElement("img"), { className: "underlay", src: url, alt: name });
      Object.assign(image, { width, height, draggable: false });
      view.pane.insertBefore(image, view.pane.querySelector("svg.marks"));
      this.pictures.set(id, image);
    }
    return image;
  }
}
