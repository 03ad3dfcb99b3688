// Like points: the same places touched in two scans, by which one of them is placed against the other.
import { button, link, send, show, take } from "../gestures.js";
import { escaped, html } from "../text.js";

const fresh = () => ({ mover: null, stays: null, pairs: [], half: null });
const hand = fresh();

const nameOf = (app, id) => app.cloud.scans.get(id).record.name;

function panel(app, wrong = "") {
  const { mover, stays, pairs, half } = hand;
  const asked = !mover
    ? "Touch a place in the scan that is to move."
    : half
      ? html`Touch the same place in ${stays ? nameOf(app, stays) : "a scan that stays"}.`
      : html`Touch another place in ${nameOf(app, mover)}, or place it.`;
  const whole = pairs.length
    ? button("place", html`place ${nameOf(app, mover)} by ${pairs.length} pair${pairs.length > 1 ? "s" : ""}`)
    : "";
  const back = mover ? link("back", "take back") + link("drop", "drop all") : "";
  const why = wrong && html`<div class="why">${wrong}</div>`;
  show(`<div>${asked}</div>${why}${whole}${back}`, (what) => {
    if (what === "place") {
      const touched = pairs.map(({ mine, theirs }) => [mine.own, theirs.own]);
      send(app, "register.like_points", { scan: mover, neighbour: stays, pairs: JSON.stringify(touched) });
    }
    if (what === "back") untouch();
    else Object.assign(hand, fresh());
    panel(app);
    app.dirty();
  });
}

// Take the last touch back.
function untouch() {
  if (hand.half) hand.half = null;
  else hand.half = hand.pairs.pop()?.mine ?? null;
  if (!hand.pairs.length) hand.stays = null;
  if (!hand.half && !hand.pairs.length) hand.mover = null;
}

function touched(app, point) {
  const { half, mover, stays } = hand;
  if (!half) {
    if (mover && point.scan !== mover) return `That is not ${nameOf(app, mover)}.`;
    Object.assign(hand, { mover: point.scan, half: point });
    return "";
  }
  if (point.scan === mover) return "That is the same scan.";
  if (stays && point.scan !== stays) return `The other places were touched in ${nameOf(app, stays)}.`;
  hand.pairs.push({ mine: half, theirs: point });
  Object.assign(hand, { stays: point.scan, half: null });
  return "";
}

export default {
  name: "like",
  key: "j",
  order: 65,
  title: "alike",
  help: "Place a scan by like points",
  steps: ["register"],
  cursor: "crosshair",
  sends: ["register.like_points"],
  enter: (app) => panel(app),
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    panel(app, point ? touched(app, point) : "There is no point.");
    app.dirty();
  },
  marks(_app, view) {
    if (!view.toPixel) return "";
    const { pairs, half } = hand;
    const all = pairs.flatMap(({ mine, theirs }, k) => [
      [mine.local, k + 1],
      [theirs.local, k + 1],
    ]);
    if (half) all.push([half.local, pairs.length + 1]);
    return all
      .map(([at, k]) => {
        const [x, y] = view.toPixel(at);
        return `<circle cx="${x}" cy="${y}" r="5" class="grip"/><text x="${x + 8}" y="${y + 4}">${escaped(String(k))}</text>`;
      })
      .join("");
  },
  leave() {
    Object.assign(hand, fresh());
    show("");
  },
};
