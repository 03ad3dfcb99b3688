// What the table shows and how, in one place: each value with what its change asks of the views, and one way to change it.

// What a change can ask for, from nothing to everything: only what lies over the points; the points once more; a new choice of points.
const EFFECTS = ["none", "overlay", "draw", "dirty"];

export class State {
  #declared;
  #values = {};
  #watchers = [];
  #effect;

  // `declared`: by name [value at first, effect of a change]; `effect(name)` is called once for every change.
  constructor(declared, effect) {
    this.#declared = declared;
    this.#effect = effect;
    for (const [name, [value, asks]] of Object.entries(declared)) {
      if (!EFFECTS.includes(asks)) throw new Error(`${name} asks for ${asks}, which nothing can do`);
      this.#values[name] = value;
    }
  }

  get(name) {
    return this.#values[name];
  }

  // The one way to change anything: watchers first, and then what the strongest of the changes asks for.
  set(values) {
    const changed = Object.keys(values).filter((name) => !Object.is(values[name], this.#values[name]));
    const before = {};
    for (const name of changed) {
      if (!(name in this.#declared)) throw new Error(`the table has no ${name}`);
      before[name] = this.#values[name];
      this.#values[name] = values[name];
    }
    for (const { names, act } of this.#watchers)
      if (names.some((name) => changed.includes(name))) act(before);
    const strongest = Math.max(0, ...changed.map((name) => EFFECTS.indexOf(this.#declared[name][1])));
    if (strongest) this.#effect(EFFECTS[strongest]);
  }

  // Call `act(before)` after a change of any of these.
  on(names, act) {
    this.#watchers.push({ names, act });
  }

  // Let a part of the table speak of values as its own: `part.size = 3` is `set({ size: 3 })`.
  lend(part, names = Object.keys(this.#declared)) {
    for (const name of names) {
      Object.defineProperty(part, name, {
        get: () => this.#values[name],
        set: (value) => this.set({ [name]: value }),
        enumerable: true,
      });
    }
  }
}
