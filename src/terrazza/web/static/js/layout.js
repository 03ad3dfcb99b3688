// How the bytes of a point are laid out, as the server's schema of columns says with the scene.

export let layout = null; // { planes, stride, slots, flags, ramps }

export function setLayout(told) {
  layout = told;
}

const OWN = 7; // the first number of a colouring that a column of its own gives, in the shader
const FIRST = 8; // bytes of the first plane in a node: four u16
const ITEMS = "xyzw";

// The planes of points that came with a dimension, or without.
export const planesOf = (shaded) => (shaded ? [...layout.planes, layout.shade] : layout.planes);

// Where a plane of a node with so many points begins, from its first point.
export const planeAt = (name, count) => {
  const k = planesOf(true).indexOf(name);
  return k ? (FIRST + 4 * (k - 1)) * count : 0;
};

// The shader's declarations: an attribute a plane, and a name for what a plane's slot holds.
export function declarations() {
  const item = ([plane, slot]) => `${plane === "first" ? "position" : plane}.${ITEMS[slot]}`;
  const colour = ([plane, slot]) => `${plane}.${"xyzw".slice(slot, slot + 3)}`;
  return [
    ...layout.planes.map((name) => `in vec4 ${name === "first" ? "position" : name};`),
    `in vec4 ${layout.shade};`,
    `#define SHADE ${layout.shade}.x`,
    `#define HIDES ${layout.hides}`,
    `#define TONE ${item(layout.slots.intensity)}`,
    `#define KIND ${item(layout.slots.class)}`,
    `#define NATIVE ${colour(layout.slots.native_rgb)}`,
    `#define PHOTO ${colour(layout.slots.photo_rgb)}`,
    `#define FLAGS ${item(layout.flags)}`,
    `#define RAMP(mode) (${Object.keys(layout.ramps)
      .map((name, k) => `mode == ${k + OWN} ? ${item(layout.slots[name])} : `)
      .join("")}0.)`,
  ].join("\n");
}

// Bytes of a point in a node that came with a dimension, or without.
export const strideOf = (shaded) => layout.stride + (shaded ? 4 : 0);

// What of the flags hides points where only some returns of a pulse are shown.
export const returnsHidden = (shown) =>
  ({ first: layout.not_first, last: layout.not_last, only: layout.not_first + layout.not_last })[shown] ?? 0;

// Names of the colourings that columns of their own give.
export const rampModes = () => Object.values(layout.ramps);
