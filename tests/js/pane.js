// A pane as the views know it, without a page.
export const pane = (width = 400, height = 300) => ({
  hidden: false,
  id: "pane",
  addEventListener() {},
  getBoundingClientRect: () => ({ left: 0, top: 0, right: width, bottom: height, width, height }),
});

// A view of a kind, laid out and aimed.
export function looking(Kind, values = {}, ...more) {
  const view = new Kind(pane(402, 302), ...more); // of which a pixel all around is its border
  view.limits = {};
  Object.assign(view, values);
  view.layout({ left: 0, top: 0, right: 400, bottom: 300 });
  view.prepare();
  return view;
}

// Numbers that look random and are the same every time.
export function numbers(seed = 1) {
  let state = seed;
  return () => {
    state = (state * 48271) % 2147483647;
    return state / 2147483647;
  };
}

export const near = (a, b, within = 1e-6) => a.every((v, k) => Math.abs(v - b[k]) <= within);
