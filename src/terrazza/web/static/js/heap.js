// A queue that gives back what weighs most.
export class Heap {
  constructor() {
    this.items = [];
    this.weights = [];
  }
  push(item, weight) {
    const { items, weights } = this;
    let k = items.length;
    for (let up; k && weights[(up = (k - 1) >> 1)] < weight; k = up) {
      items[k] = items[up];
      weights[k] = weights[up];
    }
    items[k] = item;
    weights[k] = weight;
  }
  pop() {
    const { items, weights } = this,
      top = items[0],
      item = items.pop(),
      weight = weights.pop();
    if (!items.length) return top;
    let k = 0;
    for (let down; (down = 2 * k + 1) < items.length; k = down) {
      if (down + 1 < items.length && weights[down + 1] > weights[down]) down++;
      if (weights[down] <= weight) break;
      items[k] = items[down];
      weights[k] = weights[down];
    }
    items[k] = item;
    weights[k] = weight;
    return top;
  }
}
