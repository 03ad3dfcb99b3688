// As much of a page as the scripts ask for, for tests without a browser.

// An element that remembers what was put into it and can be clicked, and answers closest() by attribute.
export function element(more = {}) {
  const children = [],
    listeners = {};
  return {
    children,
    listeners,
    dataset: {},
    classList: { toggle() {}, add() {}, contains: () => false },
    hidden: false,
    innerHTML: "",
    value: "",
    textContent: "",
    append: (...some) => children.push(...some),
    remove() {},
    addEventListener: (name, act) => {
      (listeners[name] ??= []).push(act);
    },
    querySelector: () => element(),
    querySelectorAll: () => [],
    closest: () => null,
    getBoundingClientRect: () => ({ left: 0, top: 0, width: 360, height: 180, right: 360, bottom: 180 }),
    ...more,
  };
}

// A document whose elements come into being when they are asked for by their id.
export function page() {
  const known = new Map();
  const byId = (id) => {
    if (!known.has(id)) known.set(id, element({ id }));
    return known.get(id);
  };
  return {
    ...element(),
    readyState: "complete",
    body: element(),
    head: element(),
    getElementById: byId,
    createElement: () => element(),
    styleSheets: [],
  };
}

// Answer requests by address: a function, or what is sent as JSON; all that was asked is kept.
export function server(answers) {
  const asked = [];
  const fetch = async (url, how = {}) => {
    asked.push({ url: String(url), body: how.body && JSON.parse(how.body), method: how.method ?? "GET" });
    const key = Object.keys(answers).find((part) => String(url).includes(part));
    if (key === undefined) throw new TypeError("Failed to fetch");
    const answer = typeof answers[key] === "function" ? answers[key](url, how) : answers[key];
    return answer instanceof Response
      ? answer
      : new Response(answer instanceof ArrayBuffer ? answer : JSON.stringify(answer));
  };
  return { asked, fetch };
}
